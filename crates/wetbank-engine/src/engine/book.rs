//! What is arranged: checking, changing and exporting the book.

use std::{path::Path, time::Duration};

use wetbank_core::{
    Amiss, BY_HAND, Book, DatabaseKind, Known, Name, Problem, SectionKind, parse_book, twin::rule_name,
};
use wetbank_places::{ProbeStep, probe};

use super::Engine;
use crate::{
    BookDiff, Declined, EngineError,
    arranged::{Turn, book},
    clock,
    guarded::Guarded,
};

/// Who changes the book, and why, if they say so.
#[derive(Debug, Clone, Copy)]
pub struct By<'a> {
    /// Who.
    pub who: &'a str,
    /// Why.
    pub note: Option<&'a str>,
}

impl<'a> From<&'a str> for By<'a> {
    fn from(who: &'a str) -> Self {
        Self { who, note: None }
    }
}

/// Checking a book takes so long at most.
pub(super) const CHECKING: Duration = Duration::from_secs(20);

/// What of a book that has no mistake cannot be put in force here: each section with the reason.
pub(super) fn beyond(book: &Book, known: &Known, guarded: &Guarded) -> Vec<(String, String)> {
    let mut found = Vec::new();
    for twin in book.twins.iter().map(|twin| &twin.name).chain(&known.twins) {
        let of_twin = rule_name(twin);
        if let Some(rule) = book.rules.iter().find(|rule| Some(&rule.name) == of_twin.as_ref()) {
            let words =
                format!("is the name under which the passes of the twin \"{twin}\" run; give the rule another one");
            found.push((format!("rule.{}", rule.name), words));
        }
    }
    if book.sections.iter().any(|section| section.kind == SectionKind::Rule && section.name == BY_HAND) {
        let words = "is the name of what people do by hand; give the rule another one";
        found.push((format!("rule.{BY_HAND}"), words.to_owned()));
    }
    for (name, spec) in &book.places {
        if let Some(why) = spec.local_root().and_then(|root| guarded.refuses_root(Path::new(root))) {
            found.push((format!("place.{name}"), format!("{why}; choose another root")));
        }
    }
    for database in &book.databases {
        if let DatabaseKind::Sqlite { file } = &database.kind
            && let Some(why) = guarded.refuses_database(Path::new(file))
        {
            found.push((format!("database.{}", database.name), format!("{why}; choose another file")));
        }
    }
    found
}

/// A book that can be put in force here.
fn checked(files: &[(String, String)], known: &Known, guarded: &Guarded) -> Result<Book, Vec<Problem>> {
    let book = parse_book(files, known)?;
    let problem = |(key, message): (String, String)| {
        let (file, line) = where_is(files, &key);
        Problem { file, line, key, message, amiss: Amiss::Meaning }
    };
    let problems: Vec<Problem> = beyond(&book, known, guarded).into_iter().map(problem).collect();
    if problems.is_empty() { Ok(book) } else { Err(problems) }
}

/// The file and line where a section begins.
fn where_is(files: &[(String, String)], key: &str) -> (String, usize) {
    let head = format!("[{key}]");
    let at = |(file, text): &(String, String)| {
        let line = text.lines().position(|line| line.trim_start().starts_with(&head))?;
        Some((file.clone(), line + 1))
    };
    files.iter().find_map(at).unwrap_or_else(|| (files.first().map(|(file, _)| file.clone()).unwrap_or_default(), 1))
}

impl Engine {
    /// Reads a proposed book. What is in force counts as known unless `whole`.
    pub async fn check_book(&self, files: &[(String, String)], whole: bool) -> Result<Book, EngineError> {
        let known = if whole { Known::default() } else { self.core.arranged.now().known() };
        let (files, guarded) = (files.to_vec(), self.core.effects.guarded.clone());
        // Whatever is in it must not keep others waiting.
        let checking = tokio::task::spawn_blocking(move || checked(&files, &known, &guarded));
        match tokio::time::timeout(CHECKING, checking).await {
            Ok(Ok(checked)) => checked.map_err(EngineError::Book),
            Ok(Err(error)) => Err(EngineError::Broken(format!("the book cannot be checked: {error}"))),
            Err(_) => Err(Declined::BookTooSlow(CHECKING.as_secs()).into()),
        }
    }

    /// How a proposed book differs from the one in force.
    pub async fn diff_book(&self, files: &[(String, String)], whole: bool) -> Result<BookDiff, EngineError> {
        let book = self.check_book(files, whole).await?;
        Ok(book::diff(&self.core.journal.sections().await?, &book.sections, whole))
    }

    /// Tests the places that a proposed book adds or changes, with the secrets that are set now.
    /// Nothing is put in force.
    pub async fn test_book(
        &self,
        files: &[(String, String)],
        whole: bool,
    ) -> Result<Vec<(Name, Vec<ProbeStep>)>, EngineError> {
        let book = self.check_book(files, whole).await?;
        let now = self.core.arranged.now();
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
    pub async fn apply_book<'a>(
        &self,
        files: &[(String, String)],
        whole: bool,
        by: impl Into<By<'a>>,
    ) -> Result<BookDiff, EngineError> {
        self.apply_in_turn(&self.core.arranged.turn().await, files, whole, by).await
    }

    /// The same, for whoever has the turn and has read in it what it changes.
    pub(super) async fn apply_in_turn<'a>(
        &self,
        turn: &Turn<'_>,
        files: &[(String, String)],
        whole: bool,
        by: impl Into<By<'a>>,
    ) -> Result<BookDiff, EngineError> {
        let book = self.check_book(files, whole).await?;
        let sections = self.core.journal.sections().await?;
        let diff = book::diff(&sections, &book.sections, whole);
        let order = book::order(&sections, &book, whole);
        self.change(turn, &diff, order, by.into()).await?;
        Ok(diff)
    }

    async fn change(
        &self,
        turn: &Turn<'_>,
        diff: &BookDiff,
        order: Vec<(String, String)>,
        by: By<'_>,
    ) -> Result<(), EngineError> {
        let put = diff.changes.iter().filter_map(|c| Some((c.kind.clone(), c.name.clone(), c.new.clone()?))).collect();
        let gone = diff.changes.iter().filter(|c| c.new.is_none()).map(|c| (c.kind.clone(), c.name.clone())).collect();
        self.core.journal.change_book(put, gone, order, by.who, clock::now(), by.note).await?;
        self.reload(turn).await
    }

    /// Removes a section, if nothing else in the book needs it.
    pub async fn remove_section(&self, kind: &str, name: &str, who: &str) -> Result<(), EngineError> {
        let turn = self.core.arranged.turn().await;
        let sections = self.core.journal.sections().await?;
        if !sections.iter().any(|s| s.kind == kind && s.name == name) {
            let kind = ["rule", "twin", "account", "partner", "calendar", "database"]
                .into_iter()
                .find(|known| *known == kind)
                .unwrap_or("place");
            return Err(EngineError::unknown(kind, name));
        }
        let rest: Vec<_> = sections
            .iter()
            .filter(|s| !(s.kind == kind && s.name == name))
            .map(|s| (format!("{}.{}", s.kind, s.name), s.text.clone()))
            .collect();
        self.apply_in_turn(&turn, &rest, true, who).await?;
        Ok(())
    }

    /// Says in which order rules are asked. Every rule is named once: a rule that somebody added meanwhile is not put
    /// anywhere by chance.
    pub async fn order_rules(&self, rules: &[String], who: &str) -> Result<(), EngineError> {
        let turn = self.core.arranged.turn().await;
        let sections = self.core.journal.sections().await?;
        let mut known: Vec<&str> = sections.iter().filter(|s| s.kind == "rule").map(|s| s.name.as_str()).collect();
        let mut asked: Vec<&str> = rules.iter().map(String::as_str).collect();
        known.sort_unstable();
        asked.sort_unstable();
        if known != asked {
            if let Some(unknown) = asked.iter().find(|name| !known.contains(name)) {
                return Err(EngineError::unknown("rule", unknown));
            }
            return Err(Declined::OtherRules.into());
        }
        let others = sections.iter().filter(|s| s.kind != "rule").map(|s| (s.kind.clone(), s.name.clone()));
        let order = others.chain(rules.iter().map(|name| ("rule".to_owned(), name.clone()))).collect();
        self.change(&turn, &BookDiff::default(), order, By::from(who)).await
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
        self.switch_section("rule", rule, is_on).await
    }

    /// Switches a twin on or off: whether passes are made by themselves.
    pub async fn switch_twin(&self, twin: &str, is_on: bool) -> Result<(), EngineError> {
        self.switch_section("twin", twin, is_on).await
    }

    async fn switch_section(&self, kind: &'static str, name: &str, is_on: bool) -> Result<(), EngineError> {
        let turn = self.core.arranged.turn().await;
        if !self.core.journal.switch(kind, name, is_on).await? {
            return Err(EngineError::unknown(kind, name));
        }
        self.reload(&turn).await
    }
}
