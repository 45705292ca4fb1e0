//! Beginning a run otherwise than with a file that came.

use std::{collections::BTreeMap, sync::Arc};

use jiff::Timestamp;
use wetbank_core::{Cause, FileFacts, FilePath, Fingerprint, Name, RelPath, TemplateFacts};
use wetbank_journal::NewRun;
use wetbank_places::Place;

use super::means::Intake;
use crate::{EngineError, LiveRule, clock, runner::Searching};

/// How a run is to begin.
#[derive(Debug, Default)]
pub(crate) struct Beginning {
    /// Whether files that were taken before are taken again.
    pub all: bool,
    /// The firing of a schedule that it is.
    pub firing: Option<Timestamp>,
    /// What is known of it besides.
    pub about: BTreeMap<String, String>,
    /// What tells that it was begun before.
    pub once: Option<String>,
}

impl Intake {
    /// Begins a run of a rule with the search for its files, or without a file if it looks for none.
    /// Answers its number; nothing if it was begun before.
    pub async fn start_run(
        &self,
        live: &LiveRule,
        cause: Cause,
        beginning: Beginning,
    ) -> Result<Option<i64>, EngineError> {
        let (rule, now) = (&live.rule, clock::now());
        let Beginning { all, firing, about, once } = beginning;
        let known = Arc::new(about.clone());
        let mut looks = Vec::new();
        for (number, find) in rule.finds.iter().enumerate() {
            let nothing = Fingerprint { size: 0, modified: 0, inode: None, tag: None };
            let root = FilePath { place: find.files.place.clone(), path: RelPath::root() };
            let facts = FileFacts::new(&root, &nothing).with(known.clone());
            let facts = TemplateFacts { file: &facts, rule, run: 0, started: now, now };
            let path = find.folder.render_folder(&facts)?;
            looks.push((number, FilePath { path, ..root }));
        }
        let about = (!about.is_empty()).then(|| serde_json::to_string(&about).expect("plain values serialise"));
        let bare = rule.begins_bare().then(|| self.no_file(&rule.name));
        let (name, version) = (rule.name.clone(), live.version);
        let run = NewRun {
            rule: name,
            version,
            cause,
            about,
            looks,
            hand: Some(Searching { again: all, allowed: None }.written()),
            firing,
            once,
            bare,
        };
        let Some(works) = self.record.journal.start_run(run, now).await? else { return Ok(None) };
        let number = works.first().map_or(0, |work| work.run);
        self.queue.claims.add(works);
        Ok(Some(number))
    }

    /// What stands for the file in a run that has none.
    fn no_file(&self, rule: &Name) -> FilePath {
        let path = RelPath::parse(rule.as_str()).expect("a name is a path");
        FilePath { place: self.runner.effects.work.folder.name().clone(), path }
    }
}
