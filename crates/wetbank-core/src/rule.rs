//! Rules: which files, and what happens to them.

use std::time::Duration;

use globset::GlobMatcher;
use jiff::tz::TimeZone;

use crate::{
    Condition, FilePath, Name, PlaceName, RelPath, RetryPolicy, RuleName, Shift, Starts, Step, Subject, Template,
    TemplateError, TemplateFacts,
};

/// Files that a run deletes without asking where its rule does nothing else with them and says nothing.
const BRAKE: u64 = 200;

/// A standing arrangement: a trigger and ordered branches.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Its name in the book.
    pub name: RuleName,
    /// Its title for people.
    pub title: String,
    /// Why it exists.
    pub why: String,
    /// The zone in which its dates are told.
    pub zone: TimeZone,
    /// What starts it.
    pub starts: Starts,
    /// What is looked for at the start of a run that no arriving file began.
    pub finds: Vec<Find>,
    /// The first branch whose condition holds takes the file.
    pub branches: Vec<Branch>,
    /// When steps are tried again; as the place says where they failed, if it does not say.
    pub retry: Option<RetryPolicy>,
    /// What a file that is held means for the others of its run.
    pub fault: OnFault,
    /// How long a run may take before what is left of it is held.
    pub limit: Option<Duration>,
    /// So many files are deleted, moved or replaced by what a search finds without asking, if the rule says so.
    pub brake: Option<u64>,
}

/// Which files of a folder.
#[derive(Debug, Clone)]
pub struct Selection {
    /// The place.
    pub place: PlaceName,
    /// Patterns of names; empty means every name.
    pub names: Vec<GlobMatcher>,
    /// Patterns of names left alone.
    pub except: Vec<GlobMatcher>,
    /// Whether folders below count.
    pub deep: bool,
}

/// Files that a run looks for when it starts.
#[derive(Debug, Clone)]
pub struct Find {
    /// Which files.
    pub files: Selection,
    /// In which folder.
    pub folder: Template,
    /// Names that hold placeholders, to be filled in when the run starts.
    pub named: Vec<Template>,
    /// Whether `A` and `a` differ in these names.
    pub case_sensitive: bool,
    /// Only files that the rule did not take in this state before.
    pub only_new: bool,
    /// So many must be there, or the run is held.
    pub least: usize,
    /// Whether it is only the rule's arrival, looked for at once.
    pub is_arrival: bool,
}

/// What a file that is held means for the others of its run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OnFault {
    /// The others go their way; what needs all of them together waits for it.
    Wait,
    /// The others go on, also together, without it.
    GoOn,
    /// Those that were not begun are left for another run.
    Stop,
}

/// Conditions and the steps for the files that meet them.
#[derive(Debug, Clone)]
pub struct Branch {
    /// Its title for people.
    pub title: String,
    /// Which files; none makes it the default.
    pub condition: Option<Condition>,
    /// What is done: the steps in their order, and behind them those of failure paths.
    pub steps: Vec<Planned>,
    /// How many of them are not in failure paths.
    pub main: usize,
    /// What becomes of the file that came.
    pub original: Original,
}

/// A step and its place in the flow.
#[derive(Debug, Clone)]
pub struct Planned {
    /// What is done.
    pub step: Step,
    /// Only for files that are like this.
    pub condition: Option<Condition>,
    /// When it is tried again, if the rule does not say it for all its steps.
    pub retry: Option<RetryPolicy>,
    /// What follows when it is done.
    pub next: Next,
    /// The step that follows when it failed for good; else the file is held.
    pub on_failure: Option<usize>,
    /// It stands in no book: a partner wants it done before the step behind it.
    pub is_wished: bool,
}

/// What follows a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Next {
    /// The step with this index.
    Step(usize),
    /// The end of the original, and with it of the file's way.
    Original,
    /// The end: a step failed, and this was the way arranged for that.
    Failed,
}

/// What becomes of the original after all steps are done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Original {
    /// It stays where it is.
    Stays,
    /// It is moved to a folder of the same place.
    MoveTo(Template),
    /// It is deleted.
    Delete,
    /// It stays, and an empty file of this name beside it says that it was seen to.
    Mark(Template),
}

impl Branch {
    /// The steps of the way that is meant, in their order.
    pub fn main_steps(&self) -> impl Iterator<Item = &Step> {
        self.steps[..self.main].iter().map(|planned| &planned.step)
    }

    /// Whether files are deleted and nothing else is done with them.
    pub fn only_deletes(&self) -> bool {
        let deletes = |step: &Step| matches!(step.shift(), Shift::Deletes);
        let is_harmless = |step: &Step| deletes(step) || step.kind() == "note";
        (self.original == Original::Delete || self.main_steps().any(deletes)) && self.main_steps().all(is_harmless)
    }

    /// Every step, those of failure paths too.
    pub fn all_steps(&self) -> impl Iterator<Item = &Step> {
        self.steps.iter().map(|planned| &planned.step)
    }
}

impl Selection {
    /// Whether a name is let through.
    pub fn lets_through(&self, name: &str) -> bool {
        let named = self.names.is_empty() || self.names.iter().any(|glob| glob.is_match(name));
        named && !self.except.iter().any(|glob| glob.is_match(name))
    }
}

impl Rule {
    /// How many files may be deleted, moved or replaced by what a search finds without asking; any number if it is nothing.
    pub fn most_unasked(&self) -> Option<u64> {
        self.brake.or_else(|| self.branches.iter().any(Branch::only_deletes).then_some(BRAKE))
    }

    /// Whether files that a branch takes count for that: all do if the rule says how many, else those that are only deleted.
    pub fn is_braked(&self, branch: usize) -> bool {
        self.brake.is_some() || self.branches.get(branch).is_some_and(Branch::only_deletes)
    }

    /// Every step of every branch.
    pub fn steps(&self) -> impl Iterator<Item = &Step> {
        self.branches.iter().flat_map(Branch::all_steps)
    }

    /// The folder that a file was taken from, with those below it.
    pub fn base(&self, file: &FilePath, facts: &TemplateFacts<'_>) -> RelPath {
        let folder = file.path.parent();
        let holds = |base: &RelPath| folder.below(base).is_some();
        let arrival = self.starts.arrival.iter().filter(|a| a.files.place == file.place).map(|a| a.folder.clone());
        let finds = self.finds.iter().filter(|find| find.files.place == file.place);
        let finds = finds.filter_map(|find| find.folder.render_folder(facts).ok());
        arrival.chain(finds).filter(holds).max_by_key(|base| base.as_bytes().len()).unwrap_or(folder)
    }

    /// Where a file is set aside: below the folder it was taken from, or from the root with a slash.
    pub fn aside(
        &self,
        file: &FilePath,
        folder: &Template,
        facts: &TemplateFacts<'_>,
    ) -> Result<RelPath, TemplateError> {
        let below = folder.render_folder(facts)?;
        Ok(if folder.source().starts_with('/') { below } else { self.base(file, facts).join(&below) })
    }

    /// Whether a path lies where the rule sets originals aside that came from the folder `base`.
    pub fn sets_aside(&self, base: &RelPath, path: &RelPath) -> bool {
        self.branches.iter().any(|branch| {
            let Original::MoveTo(folder) = &branch.original else { return false };
            let source = folder.source();
            // Only the fixed beginning of the folder is known before the file is.
            let fixed = source.split("{{").next().unwrap_or("");
            let fixed = if fixed.len() == source.len() { fixed } else { fixed.rsplit_once('/').map_or("", |(f, _)| f) };
            let Ok(fixed) = RelPath::parse(fixed) else { return false };
            let aside = if source.starts_with('/') { fixed } else { base.join(&fixed) };
            aside != *base && !aside.is_root() && path.below(&aside).is_some()
        })
    }

    /// Every partner that the rule delivers to.
    pub fn partners(&self) -> impl Iterator<Item = &Name> {
        self.steps().filter_map(|step| step.target()?.partner.as_ref())
    }

    /// The place and folder that its files come from first, for people.
    pub fn source(&self) -> Option<(&PlaceName, String)> {
        match (&self.starts.arrival, self.finds.first()) {
            (Some(arrival), _) => Some((&arrival.files.place, arrival.folder.to_string())),
            (None, Some(find)) => Some((&find.files.place, find.folder.source().to_owned())),
            (None, None) => None,
        }
    }

    /// The fields of a signal that the rule asks for, each once, as `item.id`.
    pub fn signal_fields(&self) -> Vec<String> {
        let mut fields: Vec<String> = Vec::new();
        let planned = || self.branches.iter().flat_map(|branch| &branch.steps);
        let templates = planned().flat_map(|planned| planned.step.templates());
        let finds = self.finds.iter().flat_map(|find| find.named.iter().chain([&find.folder]));
        fields.extend(templates.chain(finds).flat_map(|template| template.fields_of("signal")));
        let conditions = self.branches.iter().filter_map(|branch| branch.condition.as_ref());
        for condition in conditions.chain(planned().filter_map(|planned| planned.condition.as_ref())) {
            condition.each_subject(&mut |subject| {
                if let Subject::Run(word) = subject {
                    fields.extend(word.strip_prefix("signal.").map(str::to_owned));
                }
            });
        }
        fields.sort();
        fields.dedup();
        fields
    }

    /// Whether a run that no file began begins without one.
    pub fn begins_bare(&self) -> bool {
        self.finds.is_empty()
    }

    /// Every place the rule touches, those its files come from first.
    pub fn places(&self) -> Vec<PlaceName> {
        let mut places: Vec<PlaceName> = Vec::new();
        let arrival = self.starts.arrival.iter().map(|arrival| &arrival.files.place);
        let finds = self.finds.iter().map(|find| &find.files.place);
        for place in arrival.chain(finds).chain(self.steps().filter_map(Step::place)) {
            if !places.contains(place) {
                places.push(place.clone());
            }
        }
        places
    }
}
