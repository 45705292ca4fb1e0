//! What rules say of a file, and why nothing happened to it: the conditions, and everything else that decides.

use jiff::Timestamp;
use wetbank_core::{
    About, Arrival, Explanation, FileFacts, FilePath, Fingerprint, Gather, Name, Schedule, explain, format_duration,
};
use wetbank_places::{Entry, EntryKind, Place, PlaceErrorKind, Writers};

use super::Engine;
use crate::{Declined, EngineError, LiveRule, clock, intake::silence};

/// What rules say of a file.
#[derive(Debug)]
pub struct ExplainedFile {
    /// The file.
    pub file: FilePath,
    /// It as it is; nothing if it is not there, or nobody can look.
    pub facts: Option<FileFacts>,
    /// When a watcher saw it in this state first.
    pub seen: Option<Timestamp>,
    /// Why nobody can look.
    pub away: Option<String>,
    /// What each rule says, in the order they are asked.
    pub rules: Vec<RuleOnFile>,
}

/// What one rule says of a file.
#[derive(Debug)]
pub struct RuleOnFile {
    /// Its conditions, one by one.
    pub explanation: Explanation,
    /// What else decides, each in a sentence.
    pub notes: Vec<String>,
}

/// The file as a look found it.
struct Looked<'a> {
    file: &'a FilePath,
    entry: Option<&'a Entry>,
    writers: Writers,
}

impl Engine {
    /// What every rule, or one, says of a file. A place that cannot be looked at is no reason to say nothing.
    pub async fn explain(&self, file: &FilePath, rule: Option<&str>) -> Result<ExplainedFile, EngineError> {
        let place = self.place(file.place.as_str())?;
        let (entry, away) = match place.stat(&file.path).await {
            Ok(entry) => (Some(entry), None),
            Err(e) if e.kind == PlaceErrorKind::NotFound => (None, None),
            Err(e) => (None, Some(format!("{} cannot be looked at: {e}", file.place))),
        };
        if let Some(entry) = entry.as_ref().filter(|e| e.kind != EntryKind::File) {
            let what = match entry.kind {
                EntryKind::Folder => "a folder",
                EntryKind::Link => "a symbolic link; links are never followed",
                _ => "a pipe or device",
            };
            return Err(Declined::NoFile { file: file.clone(), what }.into());
        }
        let writers = match (place.as_folder(), &entry) {
            (Some(folder), Some(_)) => folder.look(&file.path).await.map_or(Writers::Unknown, |(_, writers)| writers),
            _ => Writers::Unknown,
        };
        let now = clock::now();
        let facts = entry.as_ref().map(|entry| FileFacts::new(file, &entry.fingerprint));
        let assumed = facts.clone().unwrap_or_else(|| FileFacts {
            place: file.place.clone(),
            path: file.path.clone(),
            size: 0,
            modified: now,
            about: About::default(),
        });
        let last = self.core.journal.last_arrival(file).await?;
        let is_same = |seen: &str| entry.as_ref().is_none_or(|entry| entry.fingerprint.to_string() == seen);
        let seen = last.filter(|(state, _)| is_same(state)).map(|(_, seen)| seen);
        let arrangement = self.core.arranged.now();
        let looked = Looked { file, entry: entry.as_ref(), writers };
        let mut rules = Vec::new();
        for live in &arrangement.rules {
            if rule.is_some_and(|name| name != live.rule.name.as_str()) {
                continue;
            }
            let explanation = explain(&live.rule, &assumed, now);
            let mut notes: Vec<String> = away.iter().cloned().collect();
            self.standing(live, &looked, &explanation, &mut notes).await?;
            if let Some(arrival) = live.rule.starts.arrival.as_ref().filter(|_| explanation.taken_by.is_some()) {
                settling(place.as_ref(), arrival, &looked, seen, &mut notes).await;
                let looks_there = arrival.files.place == file.place;
                if live.is_on && looks_there && seen.is_none() && entry.is_some() {
                    notes.push("no watcher saw it in this state yet".to_owned());
                }
            }
            rules.push(RuleOnFile { explanation, notes });
        }
        if let (Some(name), true) = (rule, rules.is_empty()) {
            return Err(EngineError::unknown("rule", name));
        }
        Ok(ExplainedFile { file: file.clone(), facts, seen, away, rules })
    }

    /// What is on record, or arranged, that decides besides the conditions.
    async fn standing(
        &self,
        live: &LiveRule,
        looked: &Looked<'_>,
        explanation: &Explanation,
        notes: &mut Vec<String>,
    ) -> Result<(), EngineError> {
        let (file, rule) = (looked.file, &live.rule);
        if !live.is_on {
            notes.push("the rule is off".to_owned());
        }
        if let Some((until, error)) = self.core.moorings.paused(&file.place)
            && explanation.taken_by.is_some()
        {
            let until = until.to_zoned(rule.zone.clone()).strftime("%H:%M:%S").to_string();
            notes.push(format!("{} is away since it failed ({error}); it is tried again at {until}", file.place));
        }
        let Some(entry) = looked.entry else {
            if notes.is_empty() {
                notes.push("the file is not there; only its name was compared".to_owned());
            }
            return Ok(());
        };
        let state = entry.fingerprint.to_string();
        let takes_own = rule.starts.arrival.as_ref().is_some_and(|arrival| arrival.own_results);
        if let Some(output) = self.core.journal.output(file).await?
            && output.0 == state
            && output.1 == rule.name.as_str()
            && !takes_own
        {
            notes.push(
                "the rule made this file itself, so it leaves it alone (own-results = true would take it)".to_owned(),
            );
        }
        let only_changes = rule.starts.arrival.as_ref().is_some_and(|arrival| !arrival.of.new);
        match self.core.journal.sighting(&rule.name, file).await? {
            Some(known) if known == state && only_changes => {
                notes.push("the rule knows the file as it is now, and waits until it changes or goes".to_owned());
            }
            Some(known) if known == state => notes.push("the rule took this very file before".to_owned()),
            Some(_) => notes.push("the rule took an earlier state of this file".to_owned()),
            None => {}
        }
        for (item, run, other, state) in self.core.journal.items_in_hand(file).await? {
            let who =
                if other == rule.name.as_str() { "this rule".to_owned() } else { format!("the rule \"{other}\"") };
            let state = match state.as_str() {
                "held" => "it is held there",
                "waiting" => "it waits there to be tried again",
                "joining" => "it waits there for the others of its run",
                _ => "it is being worked on",
            };
            notes.push(format!("{who} has it in hand: run {run}, item {item}; {state}"));
        }
        self.begins(&rule.name, explanation, notes);
        Ok(())
    }

    /// When a rule looks, if it does not watch.
    fn begins(&self, name: &Name, explanation: &Explanation, notes: &mut Vec<String>) {
        let arrangement = self.core.arranged.now();
        let Some(rule) = arrangement.rule(name).map(|live| live.rule.clone()) else { return };
        if rule.starts.arrival.is_some() || explanation.taken_by.is_none() {
            return;
        }
        let words = |schedule: &Schedule| schedule.words();
        let next = self.firings(name, 1).into_iter().next();
        let next = next.map(|at| at.to_zoned(rule.zone.clone()).strftime("%A %-d %B %H:%M").to_string());
        notes.push(match (rule.starts.schedule.as_ref().map(words), next) {
            (Some(words), Some(next)) => format!("the rule does not watch: it looks {words}, next on {next}"),
            (Some(words), None) => format!("the rule does not watch: it looks {words}"),
            _ if rule.starts.chain.is_some() => "the rule does not watch: another rule hands it its files".to_owned(),
            _ if rule.starts.signal.is_some() => "the rule does not watch: it looks when it is signalled".to_owned(),
            _ => "the rule does not watch: it looks when a person starts it".to_owned(),
        });
    }
}

/// What of a file that comes keeps it from being complete.
async fn settling(
    place: &dyn Place,
    arrival: &Arrival,
    looked: &Looked<'_>,
    seen: Option<Timestamp>,
    notes: &mut Vec<String>,
) {
    let Some(Entry { fingerprint, .. }) = looked.entry else { return };
    if looked.writers == Writers::Some {
        notes.push("somebody has it open for writing; it is taken when it is closed".to_owned());
    }
    let age = clock::since(fingerprint.modified_at());
    // Nobody tells when a server's file is closed: it counts from when it was seen.
    let is_local = place.as_folder().is_some();
    let silent = seen.map(clock::since).filter(|silent| *silent < silence(arrival.settle));
    if let (false, None, None, Some(silent)) = (is_local, &arrival.marker, &arrival.letter, silent) {
        let (silent, wanted) = (format_duration(silent), format_duration(silence(arrival.settle)));
        notes.push(format!("it was seen {silent} ago, and on a server it must stay the same for {wanted}"));
    }
    if is_local && !arrival.settle.is_zero() && age < arrival.settle {
        let (age, settle) = (format_duration(age), format_duration(arrival.settle));
        notes.push(format!("it was changed {age} ago and must stay the same for {settle}"));
    }
    if let Some(marker) = arrival.marker.as_ref().and_then(|marker| marker.of(&looked.file.path)) {
        match place.stat(&marker).await {
            Err(error) if error.kind == PlaceErrorKind::NotFound => {
                notes.push(format!("the file that says it is complete is not there yet: {marker}"));
            }
            Ok(entry) if is_older(&entry.fingerprint, fingerprint) => {
                notes.push(format!("{marker} is older than the file itself, so it is about another one"));
            }
            _ => {}
        }
    }
    let of = arrival.of;
    if !of.new && of.changed {
        notes.push("the rule is about files that change, not about new ones".to_owned());
    }
    if !of.new && !of.changed {
        notes.push("the rule is about files that go away".to_owned());
    }
    match &arrival.gather {
        Some(Gather::Count(count)) => notes.push(format!("the rule waits until {count} files are there together")),
        Some(Gather::Quiet(time)) => {
            notes.push(format!("the rule waits until no file came for {}", format_duration(*time)));
        }
        Some(Gather::Marker(name)) => notes.push(format!("the rule waits until {name} is there")),
        Some(Gather::Set(_)) => notes.push("the rule waits until the whole set is there".to_owned()),
        None => {}
    }
}

fn is_older(marker: &Fingerprint, file: &Fingerprint) -> bool {
    marker.modified < file.modified
}
