//! What is arranged: checking, changing and exporting the book.

use std::time::Duration;

use wetbank_core::{BY_HAND, Book, Known, Name, Problem, Section, SectionKind, parse_book};
use wetbank_places::{ProbeStep, probe};

use super::Engine;
use crate::{BookDiff, EngineError, book, clock};

impl Engine {
    /// Reads a proposed book. What is in force counts as known unless `whole`.
    pub fn check_book(&self, files: &[(String, String)], whole: bool) -> Result<Book, Vec<Problem>> {
        let known = if whole { Known::default() } else { self.core.arrangement().known() };
        let book = parse_book(files, &known)?;
        let reserved = |section: &&Section| section.kind == SectionKind::Rule && section.name == BY_HAND;
        match book.sections.iter().find(reserved) {
            None => Ok(book),
            Some(_) => Err(vec![Problem {
                file: files.first().map(|(file, _)| file.clone()).unwrap_or_default(),
                line: 1,
                key: format!("rule.{BY_HAND}"),
                message: "is the name of what people do by hand; give the rule another one".to_owned(),
            }]),
        }
    }

    /// How a proposed book differs from the one in force.
    pub async fn diff_book(&self, files: &[(String, String)], whole: bool) -> Result<BookDiff, EngineError> {
        let book = self.check_book(files, whole).map_err(EngineError::Book)?;
        Ok(book::diff(&self.core.journal.sections().await?, &book.sections, whole))
    }

    /// Tests the places that a proposed book adds or changes, with the secrets that are set now.
    /// Nothing is put in force.
    pub async fn test_book(
        &self,
        files: &[(String, String)],
        whole: bool,
    ) -> Result<Vec<(Name, Vec<ProbeStep>)>, EngineError> {
        let book = self.check_book(files, whole).map_err(EngineError::Book)?;
        let now = self.core.arrangement();
        let changed = book.places.iter().filter(|(name, spec)| now.specs.get(name) != Some(spec));
        let tests = changed.map(|(name, spec)| async move {
            let steps = match self.build(name, spec, None).await {
                Ok(place) => probe(place.as_ref(), false).await,
                Err(error) => vec![ProbeStep { what: "sign in", took: Duration::ZERO, outcome: Err(error) }],
            };
            (name.clone(), steps)
        });
        Ok(futures_util::future::join_all(tests).await)
    }

    /// Puts a proposed book in force. With `whole`, what it does not have is removed.
    pub async fn apply_book(
        &self,
        files: &[(String, String)],
        whole: bool,
        who: &str,
    ) -> Result<BookDiff, EngineError> {
        let book = self.check_book(files, whole).map_err(EngineError::Book)?;
        let sections = self.core.journal.sections().await?;
        let diff = book::diff(&sections, &book.sections, whole);
        let order = book::order(&sections, &book, whole);
        self.change(&diff, order, who).await?;
        Ok(diff)
    }

    async fn change(&self, diff: &BookDiff, order: Vec<(String, String)>, who: &str) -> Result<(), EngineError> {
        let put = diff.changes.iter().filter_map(|c| Some((c.kind.clone(), c.name.clone(), c.new.clone()?))).collect();
        let gone = diff.changes.iter().filter(|c| c.new.is_none()).map(|c| (c.kind.clone(), c.name.clone())).collect();
        self.core.journal.change_book(put, gone, order, who, clock::now()).await?;
        self.reload().await
    }

    /// Removes a section, if nothing else in the book needs it.
    pub async fn remove_section(&self, kind: &str, name: &str, who: &str) -> Result<(), EngineError> {
        let sections = self.core.journal.sections().await?;
        if !sections.iter().any(|s| s.kind == kind && s.name == name) {
            let kind =
                ["rule", "partner", "calendar", "database"].into_iter().find(|known| *known == kind).unwrap_or("place");
            return Err(EngineError::unknown(kind, name));
        }
        let rest: Vec<_> = sections
            .iter()
            .filter(|s| !(s.kind == kind && s.name == name))
            .map(|s| (format!("{}.{}", s.kind, s.name), s.text.clone()))
            .collect();
        self.apply_book(&rest, true, who).await?;
        Ok(())
    }

    /// The book in force as one text.
    pub async fn export_book(&self) -> Result<String, EngineError> {
        let sections = self.core.journal.sections().await?;
        let of = |kind| sections.iter().filter(move |s| s.kind == kind).map(|s| s.text.trim_end());
        let texts: Vec<_> = SectionKind::ALL.iter().flat_map(|kind| of(kind.as_str())).collect();
        Ok(texts.join("\n\n") + "\n")
    }

    /// Switches a rule on or off.
    pub async fn switch(&self, rule: &str, is_on: bool) -> Result<(), EngineError> {
        if !self.core.journal.switch_rule(rule, is_on).await? {
            return Err(EngineError::unknown("rule", rule));
        }
        self.reload().await
    }
}
