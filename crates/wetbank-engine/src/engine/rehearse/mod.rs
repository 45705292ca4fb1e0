//! Rehearsing a rule: what it would do, over one file, over what lies there now, or over what came. Nothing is touched,
//! written or sent.

mod looking;
mod names;
mod tally;

use std::{sync::Arc, time::Instant};

use futures_util::StreamExt;
use jiff::{Timestamp, civil::Date};
use wetbank_core::{
    About, Elsewise, FileFacts, FilePath, Name, Rehearsal, RelPath, Rule, SectionKind, TemplateFacts, parse_book,
};
use wetbank_journal::ArrivalRecord;
use wetbank_places::{Depth, EntryKind};

pub use tally::{Counted, DayCount, Only, Show, WayCount};

use super::{Engine, Proposed};
use crate::{Declined, EngineError, clock, keeping::Keeping};
use looking::OnlyLooking;
use tally::Tally;

/// Arrivals that are read at once.
const PAGE: i64 = 2_000;
/// Files that are looked at in the folders of a rule.
const MOST_HERE: usize = 10_000;

/// Which rule is rehearsed.
#[derive(Debug, Clone)]
pub enum Played {
    /// The one in force.
    InForce(String),
    /// One of its versions.
    Version(String, i64),
    /// One that is still being made.
    Draft(Proposed),
}

/// What it is compared with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Against {
    /// Nothing.
    Nothing,
    /// The version in force; nothing if there is none.
    InForce,
    /// One of its versions.
    Version(i64),
}

/// Over which files.
#[derive(Debug, Clone)]
pub enum Over {
    /// One that lies there.
    File(FilePath),
    /// One on record.
    Arrival(i64),
    /// What lies where the rule looks.
    Here,
    /// What came since then.
    Since(Timestamp),
}

/// A file of a rehearsal.
#[derive(Debug)]
pub struct PlayedFile {
    /// Its number on record.
    pub arrival: Option<i64>,
    /// It.
    pub file: FileFacts,
    /// When it came.
    pub came: Timestamp,
    /// What the other version does with it.
    pub before: Option<Rehearsal>,
    /// What the rule does with it.
    pub after: Rehearsal,
    /// How that differs.
    pub elsewise: Option<Elsewise>,
    /// For each step, what is known of its target, in words: what lies there, and whether a file before it gets that name.
    pub found: Vec<Option<String>>,
}

/// A whole rehearsal.
#[derive(Debug)]
pub struct Rehearsed {
    /// The rule.
    pub rule: Arc<Rule>,
    /// The one it is compared with.
    pub other: Option<Arc<Rule>>,
    /// Its version.
    pub against: Option<i64>,
    /// What came of it, counted.
    pub counted: Counted,
    /// The files that were asked for.
    pub files: Vec<PlayedFile>,
    /// The record of what came goes back to here.
    pub on_record_since: Option<Timestamp>,
    /// What was not looked at, and why.
    pub left: Vec<String>,
    /// How long it took, in milliseconds.
    pub took: u64,
}

impl Engine {
    /// Rehearses a rule.
    pub async fn rehearse(
        &self,
        played: Played,
        against: Against,
        over: Over,
        show: Show,
    ) -> Result<Rehearsed, EngineError> {
        let began = Instant::now();
        let (rule, name) = self.played(played).await?;
        let (other, against) = match against {
            Against::Nothing => (None, None),
            Against::InForce => {
                let arrangement = self.core.arranged.now();
                let live = Name::new(&name).ok().and_then(|name| arrangement.rule(&name).cloned());
                live.map_or((None, None), |live| (Some(live.rule.clone()), Some(live.version)))
            }
            Against::Version(version) => (Some(self.rule_at(&name, version).await?), Some(version)),
        };
        let mut tally = Tally::new(rule.clone(), other.clone(), show);
        let (mut left, mut must_look) = (Vec::new(), false);
        match over {
            Over::File(file) => {
                tally.add(None, self.facts_of(&file).await?, clock::now());
                must_look = true;
            }
            Over::Arrival(id) => {
                let one = self.core.journal.arrival(id).await?;
                let one = one.ok_or_else(|| EngineError::unknown("arrival", id.to_string()))?;
                tally.add(Some(id), came(one.file), one.seen);
                must_look = true;
            }
            Over::Here => {
                for file in self.lying_there(&rule, other.as_deref(), &mut left).await? {
                    tally.add(None, file, clock::now());
                }
                must_look = true;
            }
            Over::Since(since) => tally = self.over_arrivals(&name, since, tally).await?,
        }
        let (on_record_since, _) = self.core.journal.arrivals_on_record().await?;
        left.extend(tally.left());
        let (counted, mut files) = tally.told();
        if must_look {
            looking::look(&self.core.arranged.now(), &mut files).await;
        }
        let took = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
        Ok(Rehearsed { rule, other, against, counted, files, on_record_since, left, took })
    }

    /// Bounds of the record of what came.
    pub async fn keeping(&self) -> Result<Keeping, EngineError> {
        Keeping::of(&self.core.journal).await
    }

    /// Sets them. What lies beyond is forgotten at once.
    pub async fn keep(&self, keeping: Keeping) -> Result<(), EngineError> {
        if !(1..=Keeping::MOST_DAYS).contains(&keeping.days) || !(1..=Keeping::MOST).contains(&keeping.most) {
            return Err(Declined::KeepsTooMuch.into());
        }
        keeping.set(&self.core.journal).await?;
        self.core.intake.arrivals.keep(keeping);
        let before = clock::before(clock::now(), keeping.age());
        self.core.journal.forget_arrivals(before, keeping.most.into()).await?;
        Ok(())
    }

    async fn played(&self, played: Played) -> Result<(Arc<Rule>, String), EngineError> {
        match played {
            Played::InForce(name) => {
                let arrangement = self.core.arranged.now();
                let live = Name::new(&name).ok().and_then(|name| arrangement.rule(&name).cloned());
                let live = live.ok_or_else(|| EngineError::unknown("rule", &name))?;
                Ok((live.rule.clone(), name))
            }
            Played::Version(name, version) => Ok((self.rule_at(&name, version).await?, name)),
            Played::Draft(proposed) => {
                let drafted = self.draft(SectionKind::Rule, proposed).await?;
                let rule = drafted.draft.book.and_then(|mut book| book.rules.pop());
                match rule {
                    Some(rule) => Ok((Arc::new(rule), drafted.name)),
                    None => {
                        let mistake = drafted.draft.mistakes.into_iter().next();
                        let why = mistake.map_or_else(String::new, |mistake| mistake.message);
                        Err(Declined::UnfinishedDraft(why).into())
                    }
                }
            }
        }
    }

    /// A version of a rule, as what it names is now.
    async fn rule_at(&self, name: &str, version: i64) -> Result<Arc<Rule>, EngineError> {
        let text = self.core.journal.version_text("rule", name, version).await?;
        let text = text.ok_or_else(|| EngineError::unknown("version", version.to_string()))?;
        let known = self.core.arranged.now().known();
        let mut book = parse_book(&[(format!("version {version}"), text)], &known).map_err(EngineError::Book)?;
        let rule = book.rules.pop().ok_or_else(|| EngineError::unknown("rule", name))?;
        Ok(Arc::new(rule))
    }

    async fn facts_of(&self, file: &FilePath) -> Result<FileFacts, EngineError> {
        let entry = OnlyLooking::at(self.place(file.place.as_str())?).stat(&file.path).await?;
        if entry.kind != EntryKind::File {
            return Err(Declined::NoFile { file: file.clone(), what: "no regular file" }.into());
        }
        Ok(came(FileFacts::new(file, &entry.fingerprint)))
    }

    /// The files where one of the rules looks, none twice.
    async fn lying_there(
        &self,
        rule: &Rule,
        other: Option<&Rule>,
        left: &mut Vec<String>,
    ) -> Result<Vec<FileFacts>, EngineError> {
        let mut sources: Vec<Source> = Vec::new();
        for rule in [Some(rule), other].into_iter().flatten() {
            for source in sources_of(rule, clock::now()) {
                match sources.iter_mut().find(|known| (&known.place, &known.folder) == (&source.place, &source.folder))
                {
                    Some(known) => known.is_deep |= source.is_deep,
                    None => sources.push(source),
                }
            }
        }
        if sources.is_empty() {
            return Err(Declined::LooksNowhere.into());
        }
        let mut files: Vec<FileFacts> = Vec::new();
        for Source { place, folder, is_deep } in sources {
            let depth = if is_deep { Depth::All } else { Depth::One };
            let looking = OnlyLooking::at(self.place(place.as_str())?);
            let mut listing = looking.list(&folder, depth);
            while let Some(entry) = listing.next().await {
                let entry = match entry {
                    Ok(entry) => entry,
                    Err(error) => {
                        left.push(error.to_string());
                        continue;
                    }
                };
                if entry.kind != EntryKind::File || entry.path.is_temporary() {
                    continue;
                }
                if files.len() == MOST_HERE {
                    left.push(format!("more than {MOST_HERE} files lie there; the others were not looked at"));
                    break;
                }
                let file = FilePath { place: place.clone(), path: entry.path.clone() };
                files.push(came(FileFacts::new(&file, &entry.fingerprint)));
            }
        }
        Ok(files)
    }

    /// Over what came, a page at a time.
    async fn over_arrivals(&self, name: &str, since: Timestamp, mut tally: Tally) -> Result<Tally, EngineError> {
        let places = tally.watched_places();
        if places.is_empty() {
            // No watcher sees these files: what its runs had is what came.
            let name = Name::new(name)?;
            let mut after = 0;
            loop {
                let page = self.core.journal.items_that_came(&name, since, after, PAGE).await?;
                let Some(last) = page.last() else { return Ok(tally) };
                after = last.id;
                tally = added(tally, page.into_iter().map(|one| ArrivalRecord { id: 0, ..one }).collect()).await?;
            }
        }
        for place in places {
            let mut after = 0;
            loop {
                let page = self.core.journal.arrivals(&place, since, after, PAGE).await?;
                let Some(last) = page.last() else { break };
                after = last.id;
                tally = added(tally, page).await?;
            }
        }
        Ok(tally)
    }
}

/// Adds a page beside everything else: it takes time.
async fn added(mut tally: Tally, page: Vec<ArrivalRecord>) -> Result<Tally, EngineError> {
    let adding = tokio::task::spawn_blocking(move || {
        for one in page {
            if tally.looks_at(&one.file) {
                tally.add((one.id != 0).then_some(one.id), came(one.file), one.seen);
            }
        }
        tally
    });
    adding.await.map_err(|error| EngineError::Broken(format!("the rehearsal broke off: {error}")))
}

/// What is known of a run that a file begins by coming.
fn came(file: FileFacts) -> FileFacts {
    if !file.about.is_empty() {
        return file;
    }
    let about = [("run.cause", "arrival"), ("run.event", "new")].map(|(word, text)| (word.to_owned(), text.to_owned()));
    file.with(About::new(about.into_iter().collect()))
}

/// A folder where a rule looks.
struct Source {
    place: Name,
    folder: RelPath,
    is_deep: bool,
}

fn sources_of(rule: &Rule, now: Timestamp) -> Vec<Source> {
    let arrival = rule.starts.arrival.as_ref().filter(|arrival| arrival.letter.is_none()).map(|arrival| Source {
        place: arrival.files.place.clone(),
        folder: arrival.folder.clone(),
        is_deep: arrival.files.deep,
    });
    let finds = rule.finds.iter().filter(|find| !find.is_arrival).filter_map(|find| {
        let nowhere = FileFacts {
            place: find.files.place.clone(),
            path: RelPath::root(),
            size: 0,
            modified: now,
            about: <_>::default(),
        };
        let facts = TemplateFacts { file: &nowhere, rule, run: 0, started: now, now };
        let folder = find.folder.render_folder(&facts).ok()?;
        Some(Source { place: find.files.place.clone(), folder, is_deep: find.files.deep })
    });
    arrival.into_iter().chain(finds).collect()
}

/// The day of a time, where a rule is.
fn day_of(rule: &Rule, at: Timestamp) -> Date {
    at.to_zoned(rule.zone.clone()).date()
}
