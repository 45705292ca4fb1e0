//! Running a rule on a chosen file now.

use wetbank_core::{Cause, FileFacts, FilePath, Name, explain};
use wetbank_journal::{Sighting, Work};
use wetbank_places::{EntryKind, Writers};

use super::Engine;
use crate::{Declined, EngineError, clock};

impl Engine {
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
