//! Starting a whole rule: by the clock or by hand.

use std::{collections::BTreeMap, sync::Arc};

use jiff::Timestamp;
use wetbank_core::{Cause, FileFacts, FilePath, Fingerprint, Name, RelPath, TemplateFacts};
use wetbank_journal::NewRun;
use wetbank_places::Place;

use super::{Core, Engine};
use crate::{EngineError, LiveRule, clock, runner::ALL};

/// A firing of a schedule that is to come.
#[derive(Debug, Clone)]
pub struct NextFiring {
    /// The rule.
    pub rule: Name,
    /// When.
    pub at: Timestamp,
}

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

impl Core {
    /// Begins a run of a rule with the search for its files, or without a file if it looks for none.
    /// Answers its number; nothing if it was begun before.
    pub async fn start_run(
        self: &Arc<Self>,
        live: &LiveRule,
        cause: Cause,
        beginning: Beginning,
    ) -> Result<Option<i64>, EngineError> {
        let (rule, now) = (&live.rule, clock::now());
        let Beginning { all, firing, mut about, once } = beginning;
        let known = Arc::new(about.clone());
        let mut looks = Vec::new();
        for (number, find) in rule.finds.iter().enumerate() {
            let nothing = Fingerprint { size: 0, modified: 0, inode: None, tag: None };
            let root = FilePath { place: find.files.place.clone(), path: RelPath::root() };
            let facts = FileFacts::new(&root, &nothing).with(known.clone());
            let facts = TemplateFacts { file: &facts, rule, run: 0, started: now, now };
            let path = find.folder.render_folder(&facts).map_err(|error| EngineError::NotNow(error.to_string()))?;
            looks.push((number, FilePath { path, ..root }));
        }
        if all {
            about.insert(ALL.to_owned(), "yes".to_owned());
        }
        let about = (!about.is_empty()).then(|| serde_json::to_string(&about).expect("plain values serialise"));
        let bare = rule.begins_bare().then(|| self.no_file(&rule.name));
        let (name, version) = (rule.name.clone(), live.version);
        let run = NewRun { rule: name, version, cause, about, looks, firing, once, bare };
        let Some(works) = self.journal.start_run(run, now).await? else { return Ok(None) };
        let number = works.first().map_or(0, |work| work.run);
        self.claims.add(works);
        Ok(Some(number))
    }

    /// What stands for the file in a run that has none.
    fn no_file(&self, rule: &Name) -> FilePath {
        let path = RelPath::parse(rule.as_str()).expect("a name is a path");
        FilePath { place: self.work_folder.name().clone(), path }
    }
}

impl Engine {
    /// Runs a rule now on every file that it is about; with `all` also on those that it took
    /// before. Answers the run's number.
    pub async fn run_rule(&self, rule: &str, all: bool) -> Result<i64, EngineError> {
        let arrangement = self.core.arrangement();
        let name = Name::new(rule).map_err(|_| EngineError::unknown("rule", rule))?;
        let live = arrangement.rule(&name).ok_or_else(|| EngineError::unknown("rule", rule))?;
        if live.rule.finds.is_empty() && live.rule.starts.chain.is_some() {
            let words = "this rule looks for no files itself, another rule hands them on; choose a file, or give it finds = [ … ]";
            return Err(EngineError::NotNow(words.to_owned()));
        }
        let begun = self.core.start_run(live, Cause::Hand, Beginning { all, ..Beginning::default() }).await?;
        Ok(begun.unwrap_or_default())
    }

    /// The next firings of a rule's schedule, at most so many.
    pub fn firings(&self, rule: &Name, most: usize) -> Vec<Timestamp> {
        let arrangement = self.core.arrangement();
        let Some(live) = arrangement.rule(rule) else { return Vec::new() };
        let schedule = live.rule.starts.schedule.as_ref();
        schedule.map(|schedule| schedule.sample(clock::now(), &live.rule.zone, most)).unwrap_or_default()
    }

    /// The next firing of every rule that is on, soonest first, at most so many.
    pub fn next_firings(&self, most: usize) -> Vec<NextFiring> {
        let (arrangement, now) = (self.core.arrangement(), clock::now());
        let on = arrangement.rules.iter().filter(|live| live.is_on);
        let mut firings: Vec<NextFiring> = on
            .filter_map(|live| {
                let at = live.rule.starts.schedule.as_ref()?.next_after(now, &live.rule.zone)?;
                Some(NextFiring { rule: live.rule.name.clone(), at })
            })
            .collect();
        firings.sort_by_key(|firing| firing.at);
        firings.truncate(most);
        firings
    }
}
