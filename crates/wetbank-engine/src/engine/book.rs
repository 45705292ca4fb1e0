//! What is arranged: checking, changing and exporting the book.

use wetbank_core::{Book, Name, Problem, parse_book};

use super::Engine;
use crate::{BookDiff, EngineError, book, clock};

impl Engine {
    /// Reads a proposed book. Places of the book in force count as known unless `whole`.
    pub fn check_book(&self, files: &[(String, String)], whole: bool) -> Result<Book, Vec<Problem>> {
        let known: Vec<Name> = if whole { Vec::new() } else { self.core.arrangement().specs.keys().cloned().collect() };
        parse_book(files, &known)
    }

    /// How a proposed book differs from the one in force.
    pub async fn diff_book(&self, files: &[(String, String)], whole: bool) -> Result<BookDiff, EngineError> {
        let book = self.check_book(files, whole).map_err(EngineError::Book)?;
        Ok(book::diff(&self.core.journal.sections().await?, &book.sections, whole))
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
            return Err(EngineError::Unknown {
                kind: if kind == "rule" { "rule" } else { "place" },
                name: name.to_owned(),
            });
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
        let (places, rules): (Vec<_>, Vec<_>) = sections.into_iter().partition(|s| s.kind == "place");
        Ok(places.iter().chain(&rules).map(|s| s.text.trim_end()).collect::<Vec<_>>().join("\n\n") + "\n")
    }

    /// Switches a rule on or off.
    pub async fn switch(&self, rule: &str, is_on: bool) -> Result<(), EngineError> {
        if !self.core.journal.switch_rule(rule, is_on).await? {
            return Err(EngineError::unknown("rule", rule));
        }
        self.reload().await
    }
}
