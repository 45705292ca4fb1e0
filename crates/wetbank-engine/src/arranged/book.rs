//! Comparing and changing the book.

use serde::Serialize;
use wetbank_core::{Book, Section};
use wetbank_journal::SectionRecord;

/// What happens to a section.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum ChangeKind {
    /// It is new.
    Added,
    /// Its text differs.
    Changed,
    /// It is no longer there.
    Removed,
}

/// A section that differs.
#[derive(Debug, Clone, Serialize)]
pub struct BookChange {
    /// `place`, `partner` or `rule`.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// What happens to it.
    pub change: ChangeKind,
    /// The text now in force.
    pub old: Option<String>,
    /// The text proposed.
    pub new: Option<String>,
}

/// How a proposed book differs from the one in force.
#[derive(Debug, Clone, Default, Serialize)]
pub struct BookDiff {
    /// Sections that differ.
    pub changes: Vec<BookChange>,
    /// Whether the order in which rules are asked differs.
    pub reordered: bool,
}

/// Compares. With `whole`, sections that the proposal does not have are removed.
pub(crate) fn diff(now: &[SectionRecord], proposed: &[Section], whole: bool) -> BookDiff {
    let mut changes = Vec::new();
    for section in proposed {
        let old = now.iter().find(|s| s.kind == section.kind.as_str() && s.name == section.name);
        let change = match old {
            None => ChangeKind::Added,
            Some(old) if old.text != section.text => ChangeKind::Changed,
            Some(_) => continue,
        };
        changes.push(BookChange {
            kind: section.kind.as_str().to_owned(),
            name: section.name.clone(),
            change,
            old: old.map(|s| s.text.clone()),
            new: Some(section.text.clone()),
        });
    }
    let stays = |s: &&SectionRecord| proposed.iter().any(|p| p.kind.as_str() == s.kind && p.name == s.name);
    if whole {
        changes.extend(now.iter().filter(|s| !stays(s)).map(|s| BookChange {
            kind: s.kind.clone(),
            name: s.name.clone(),
            change: ChangeKind::Removed,
            old: Some(s.text.clone()),
            new: None,
        }));
    }
    let old_order: Vec<_> = now.iter().filter(|s| s.kind == "rule").filter(stays).map(|s| &s.name).collect();
    let new_order: Vec<_> = proposed
        .iter()
        .filter(|p| p.kind.as_str() == "rule" && now.iter().any(|s| s.kind == "rule" && s.name == p.name))
        .map(|p| &p.name)
        .collect();
    BookDiff { changes, reordered: whole && old_order != new_order }
}

/// The order of all sections once a proposal is applied.
pub(crate) fn order(now: &[SectionRecord], book: &Book, whole: bool) -> Vec<(String, String)> {
    let proposed = book.sections.iter().map(|s| (s.kind.as_str().to_owned(), s.name.clone()));
    if whole {
        return proposed.collect();
    }
    let mut order: Vec<_> = now.iter().map(|s| (s.kind.clone(), s.name.clone())).collect();
    for section in proposed {
        if !order.contains(&section) {
            order.push(section);
        }
    }
    order
}
