//! Counting what would become of files, and keeping those that were asked for.

use std::{collections::BTreeMap, sync::Arc};

use jiff::{Timestamp, civil::Date};
use wetbank_core::{ElsewiseKind, End, FileFacts, Name, Rehearsal, Rule, elsewise, rehearse};

use super::{PlayedFile, day_of, names::Names};

/// Ways that are told one by one.
const MOST_WAYS: usize = 200;

/// Which files are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Only {
    /// Every one.
    All,
    /// Those that would go otherwise.
    Differing,
    /// Those that would go otherwise in this way.
    Kind(ElsewiseKind),
    /// Those that go as before.
    Same,
}

/// Which files are shown, and how many.
#[derive(Debug, Clone, Copy)]
pub struct Show {
    /// Which.
    pub only: Only,
    /// Only those of this day.
    pub day: Option<Date>,
    /// So many of them are left out at the beginning.
    pub from: usize,
    /// So many at most.
    pub most: usize,
}

/// What came of all files.
#[derive(Debug, Default)]
pub struct Counted {
    /// Files.
    pub files: usize,
    /// Those that would go otherwise, by how.
    pub differing: BTreeMap<ElsewiseKind, usize>,
    /// By the day on which they came.
    pub days: Vec<DayCount>,
    /// By where they go, most first.
    pub ways: Vec<WayCount>,
    /// Files that would wait for a person, because a file of the rehearsal before them gets their name.
    pub same_names: usize,
    /// Files that were asked for, all pages together.
    pub shown: usize,
}

/// The files of a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DayCount {
    /// The day.
    pub day: Date,
    /// Files.
    pub files: usize,
    /// Those that would go otherwise.
    pub differing: usize,
}

/// The files that go one way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WayCount {
    /// The branch; nothing for those that no branch takes.
    pub branch: Option<String>,
    /// The places they come to.
    pub places: Vec<String>,
    /// Whether they wait for a person.
    pub is_held: bool,
    /// Files.
    pub files: usize,
}

type Way = (Option<String>, Vec<String>, bool);

/// Counts as files come.
pub(super) struct Tally {
    rule: Arc<Rule>,
    other: Option<Arc<Rule>>,
    show: Show,
    counted: Counted,
    days: BTreeMap<Date, (usize, usize)>,
    ways: BTreeMap<Way, usize>,
    names: Names,
    kept: Vec<PlayedFile>,
}

impl Tally {
    pub fn new(rule: Arc<Rule>, other: Option<Arc<Rule>>, show: Show) -> Self {
        let (counted, days, ways, names, kept) = Default::default();
        Self { rule, other, show, counted, days, ways, names, kept }
    }

    fn rules(&self) -> impl Iterator<Item = &Rule> {
        [Some(&self.rule), self.other.as_ref()].into_iter().flatten().map(AsRef::as_ref)
    }

    /// The places that one of the rules watches.
    pub fn watched_places(&self) -> Vec<Name> {
        let arrivals = self.rules().filter_map(|rule| rule.starts.arrival.as_ref());
        let mut places: Vec<_> = arrivals.map(|arrival| arrival.files.place.clone()).collect();
        places.sort();
        places.dedup();
        places
    }

    /// Whether a file lies where one of the rules looks.
    pub fn looks_at(&self, file: &FileFacts) -> bool {
        let mut arrivals = self.rules().filter_map(|rule| rule.starts.arrival.as_ref()).peekable();
        if arrivals.peek().is_none() {
            return true;
        }
        let folder = file.path.parent();
        arrivals.any(|arrival| {
            arrival.files.place == file.place
                && folder.below(&arrival.folder).is_some_and(|below| arrival.files.deep || below.is_root())
        })
    }

    pub fn add(&mut self, arrival: Option<i64>, file: FileFacts, came: Timestamp) {
        let after = rehearse(&self.rule, &file, came);
        let before = self.other.as_ref().map(|other| rehearse(other, &file, came));
        let elsewise = before.as_ref().and_then(|before| elsewise(before, &after));
        let found = self.names.give(&file, &after);
        let day = day_of(&self.rule, came);
        self.counted.files += 1;
        let of_day = self.days.entry(day).or_default();
        of_day.0 += 1;
        if let Some(found) = &elsewise {
            of_day.1 += 1;
            *self.counted.differing.entry(found.kind).or_default() += 1;
        }
        let way = way_of(&after);
        if self.ways.len() < MOST_WAYS || self.ways.contains_key(&way) {
            *self.ways.entry(way).or_default() += 1;
        }
        let is_asked_for = match self.show.only {
            Only::All => true,
            Only::Differing => elsewise.is_some(),
            Only::Kind(kind) => elsewise.as_ref().is_some_and(|found| found.kind == kind),
            Only::Same => elsewise.is_none(),
        } && self.show.day.is_none_or(|asked| asked == day);
        if !is_asked_for {
            return;
        }
        let at = self.counted.shown;
        self.counted.shown += 1;
        if at >= self.show.from && self.kept.len() < self.show.most {
            self.kept.push(PlayedFile { arrival, file, came, before, after, elsewise, found });
        }
    }

    /// What was not looked at, and why.
    pub fn left(&self) -> Option<String> {
        self.names.left()
    }

    /// Everything counted, and the files that were asked for.
    pub fn told(self) -> (Counted, Vec<PlayedFile>) {
        let day = |(day, (files, differing))| DayCount { day, files, differing };
        let way = |((branch, places, is_held), files)| WayCount { branch, places, is_held, files };
        let mut ways: Vec<_> = self.ways.into_iter().map(way).collect();
        ways.sort_by_key(|way| std::cmp::Reverse(way.files));
        let same_names = self.names.waiting;
        (Counted { same_names, days: self.days.into_iter().map(day).collect(), ways, ..self.counted }, self.kept)
    }
}

fn way_of(rehearsal: &Rehearsal) -> Way {
    let done = rehearsal.steps.iter().filter(|step| step.left_out.is_none());
    let mut places: Vec<String> = Vec::new();
    for coming in done.filter_map(|step| step.comes.as_ref()).filter(|coming| !coming.is_folder) {
        let place = coming.at.place.to_string();
        if !places.contains(&place) {
            places.push(place);
        }
    }
    (rehearsal.branch.clone(), places, matches!(rehearsal.end, End::Held { .. }))
}
