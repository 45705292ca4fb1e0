//! Comparing and changing the book.

use serde::Serialize;
use wetbank_core::{Book, Section};
use wetbank_journal::SectionRecord;

use crate::NewAgreement;

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

/// A place's text with one key set.
pub(crate) fn with_key(text: &str, place: &str, key: &str, value: &str) -> Option<String> {
    let mut document: toml_edit::DocumentMut = text.parse().ok()?;
    let table = document.get_mut("place")?.get_mut(place)?.as_table_like_mut()?;
    table.insert(key, toml_edit::value(value));
    Some(document.to_string())
}

/// The text of a new place: its name, then its keys in order.
pub(crate) fn place_text(name: &str, keys: &[(&str, toml_edit::Value)]) -> String {
    let mut place = toml_edit::Table::new();
    for (key, value) in keys {
        place.insert(key, toml_edit::value(value.clone()));
    }
    let mut places = toml_edit::Table::new();
    places.set_implicit(true);
    places.insert(name, toml_edit::Item::Table(place));
    let mut document = toml_edit::DocumentMut::new();
    document.insert("place", toml_edit::Item::Table(places));
    document.to_string()
}

/// `{ secret = "…" }`
pub(crate) fn secret_value(name: &str) -> toml_edit::Value {
    let mut table = toml_edit::InlineTable::new();
    table.insert("secret", name.into());
    table.into()
}

/// `{ server = "…", client = "…", rights = […], grant = { secret = "…" } }`
pub(crate) fn agreement_value(agreement: &NewAgreement, grant: &str) -> toml_edit::Value {
    let mut table = toml_edit::InlineTable::new();
    table.insert("server", agreement.server.trim().into());
    table.insert("client", agreement.client.trim().into());
    let rights: toml_edit::Array = agreement.rights.iter().map(|right| right.trim()).collect();
    table.insert("rights", rights.into());
    table.insert("grant", secret_value(grant));
    table.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_new_place_is_written_as_a_person_would_and_nothing_typed_can_break_out_of_it() {
        let text = place_text(
            "harlan-lab",
            &[("kind", "ftp".into()), ("host", "a\"\n[rule.evil]".into()), ("password", secret_value("harlan"))],
        );
        assert!(text.starts_with("[place.harlan-lab]\nkind = \"ftp\"\n"), "{text}");
        assert!(text.contains("password = { secret = \"harlan\" }"), "{text}");
        let document: toml_edit::DocumentMut = text.parse().expect("it is TOML");
        assert!(document.get("rule").is_none());
    }

    #[test]
    fn a_key_set_in_a_text_leaves_the_rest_as_it_was() {
        let text = "# agreed\n[place.cloud]\nkind = \"webdav\" # theirs\n";
        let changed = with_key(text, "cloud", "certificate", "SHA256:AB").expect("it is there");
        assert!(
            changed.starts_with(text.trim_end()) && changed.ends_with("certificate = \"SHA256:AB\"\n"),
            "{changed}"
        );
        assert!(with_key(text, "other", "certificate", "x").is_none());
    }
}
