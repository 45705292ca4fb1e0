//! What rules say of a file, and running one on it now.

use wetbank_core::{About, Cause, FileFacts, FilePath, Name, explain};
use wetbank_journal::{Sighting, Work};
use wetbank_places::{Entry, EntryKind, PlaceErrorKind, Writers};

use super::{Engine, ExplainedFile};
use crate::{Declined, EngineError, LiveRule, clock};

impl Engine {
    /// What every rule, or one, says of a file.
    pub async fn explain(&self, file: &FilePath, rule: Option<&str>) -> Result<ExplainedFile, EngineError> {
        let place = self.place(file.place.as_str())?;
        let entry = match place.stat(&file.path).await {
            Ok(entry) => Some(entry),
            Err(e) if e.kind == PlaceErrorKind::NotFound => None,
            Err(e) => return Err(e.into()),
        };
        if let Some(entry) = entry.as_ref().filter(|e| e.kind != EntryKind::File) {
            let what = match entry.kind {
                EntryKind::Folder => "a folder",
                EntryKind::Link => "a symbolic link; links are never followed",
                _ => "a pipe or device",
            };
            return Err(Declined::NoFile { file: file.clone(), what }.into());
        }
        let now = clock::now();
        let facts = entry.as_ref().map(|entry| FileFacts::new(file, &entry.fingerprint));
        let assumed = facts.clone().unwrap_or_else(|| FileFacts {
            place: file.place.clone(),
            path: file.path.clone(),
            size: 0,
            modified: now,
            about: About::default(),
        });
        let arrangement = self.core.arranged.now();
        let mut rules = Vec::new();
        for live in &arrangement.rules {
            if rule.is_some_and(|name| name != live.rule.name.as_str()) {
                continue;
            }
            let explanation = explain(&live.rule, &assumed, now);
            let note = self.standing(live, file, entry.as_ref()).await?;
            rules.push((explanation, note));
        }
        if let (Some(name), true) = (rule, rules.is_empty()) {
            return Err(EngineError::unknown("rule", name));
        }
        Ok(ExplainedFile { file: file.clone(), facts, rules })
    }

    /// What, besides its conditions, decides whether a rule takes a file.
    async fn standing(
        &self,
        live: &LiveRule,
        file: &FilePath,
        entry: Option<&Entry>,
    ) -> Result<Option<String>, EngineError> {
        if !live.is_on {
            return Ok(Some("the rule is off".to_owned()));
        }
        let Some(entry) = entry else {
            return Ok(Some("the file is not there; only its name was compared".to_owned()));
        };
        let fingerprint = entry.fingerprint.to_string();
        if let Some(output) = self.core.journal.output(file).await?
            && output.0 == fingerprint
            && output.1 == live.rule.name.as_str()
            && !live.rule.starts.arrival.as_ref().is_some_and(|arrival| arrival.own_results)
        {
            return Ok(Some(
                "the rule made this file itself, so it leaves it alone (own-results = true would take it)".to_owned(),
            ));
        }
        Ok(match self.core.journal.sighting(&live.rule.name, file).await? {
            Some(known) if known == fingerprint => Some("the rule took this very file before".to_owned()),
            Some(_) => Some("the rule took an earlier state of this file".to_owned()),
            None => None,
        })
    }

    /// That nobody has a file of this machine open for writing, as far as it can be told.
    pub(super) async fn is_closed(&self, file: &FilePath) -> Result<(), EngineError> {
        let place = self.place(file.place.as_str())?;
        let Some(folder) = place.as_folder() else { return Ok(()) };
        match folder.look(&file.path).await? {
            (_, Writers::Some) => Err(Declined::OpenForWriting(file.clone()).into()),
            _ => Ok(()),
        }
    }

    /// Runs a rule on a chosen file now, even if it took it before. Answers run and item.
    pub async fn run_now(&self, rule: &str, file: &FilePath) -> Result<(i64, i64), EngineError> {
        let arrangement = self.core.arranged.now();
        let name = Name::new(rule).map_err(|_| EngineError::unknown("rule", rule))?;
        let live = arrangement.rule(&name).ok_or_else(|| EngineError::unknown("rule", rule))?;
        let entry = self.place(file.place.as_str())?.stat(&file.path).await?;
        if entry.kind != EntryKind::File {
            return Err(Declined::NoFile { file: file.clone(), what: "no regular file" }.into());
        }
        self.is_closed(file).await?;
        let facts = FileFacts::new(file, &entry.fingerprint);
        let explanation = explain(&live.rule, &facts, clock::now());
        if explanation.taken_by.is_none() {
            return Err(Declined::NotTaken { file: file.clone(), outcome: explanation.outcome }.into());
        }
        let sighting = Sighting {
            rule: name,
            version: live.version,
            file: file.clone(),
            fingerprint: entry.fingerprint.to_string(),
            size: entry.fingerprint.size,
            seen: clock::now(),
            own_results: true,
            again: true,
            about: None,
            note_only: false,
        };
        let taken = self.core.journal.take_in(vec![sighting], Cause::Hand, clock::now()).await?;
        let works: Vec<Work> = taken.into_iter().flatten().collect();
        let Some(ids) = works.first().map(|work| (work.run, work.item)) else {
            let outcome = "somebody else was quicker".to_owned();
            return Err(Declined::NotTaken { file: file.clone(), outcome }.into());
        };
        self.core.queue.claims.add(works);
        Ok(ids)
    }
}
