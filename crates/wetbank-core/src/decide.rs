//! Which branch takes a file, and why.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::{Arrival, FileFacts, Rule, Verdict};

/// What a rule decided about a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Decision {
    /// The branch with this index takes it.
    Branch(usize),
    /// The rule does not watch for this file, or no branch takes it.
    NotTaken {
        /// The reason, for people.
        why: String,
    },
}

/// A rule's answer about a file, comparison by comparison.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Explanation {
    /// The rule's name.
    pub rule: String,
    /// Whether the trigger sees the file, test by test.
    pub trigger: Vec<Verdict>,
    /// The branches in order, up to the one that takes the file.
    pub branches: Vec<Verdict>,
    /// The index of the branch that takes it.
    pub taken_by: Option<usize>,
    /// The outcome in one sentence.
    pub outcome: String,
}

fn verdict(asked: String, found: String, holds: bool) -> Verdict {
    Verdict { asked, found, holds, parts: Vec::new() }
}

/// Whether the trigger's name patterns let this name through.
pub fn name_matches(arrival: &Arrival, name: &str) -> bool {
    let named = arrival.names.is_empty() || arrival.names.iter().any(|glob| glob.is_match(name));
    named && !arrival.except.iter().any(|glob| glob.is_match(name))
}

/// Decides about a file.
pub fn decide(rule: &Rule, file: &FileFacts, now: Timestamp) -> Decision {
    let explanation = explain(rule, file, now);
    match explanation.taken_by {
        Some(branch) => Decision::Branch(branch),
        None => Decision::NotTaken { why: explanation.outcome },
    }
}

/// Decides about a file and tells how.
pub fn explain(rule: &Rule, file: &FileFacts, now: Timestamp) -> Explanation {
    let trigger = ask_trigger(&rule.arrival, file);
    let mut explanation = Explanation {
        rule: rule.name.to_string(),
        trigger,
        branches: Vec::new(),
        taken_by: None,
        outcome: String::new(),
    };
    if let Some(failed) = explanation.trigger.iter().find(|verdict| !verdict.holds) {
        explanation.outcome = format!("not taken: the rule asks that {}, here it is {}", failed.asked, failed.found);
        return explanation;
    }
    for (index, branch) in rule.branches.iter().enumerate() {
        let verdict = match &branch.condition {
            Some(condition) => condition.ask(file, now),
            None => verdict("anything else".to_owned(), file.name(), true),
        };
        let holds = verdict.holds;
        explanation.branches.push(verdict);
        if holds {
            explanation.taken_by = Some(index);
            explanation.outcome = format!("taken by branch {} \"{}\"", index + 1, branch.title);
            return explanation;
        }
    }
    explanation.outcome = "not taken: no branch fits and there is no default".to_owned();
    explanation
}

fn ask_trigger(arrival: &Arrival, file: &FileFacts) -> Vec<Verdict> {
    let mut verdicts =
        vec![verdict(format!("place is {}", arrival.place), file.place.to_string(), file.place == arrival.place)];
    let folder = file.path.parent();
    let inside = folder.below(&arrival.folder);
    let (asked, holds) = if arrival.deep {
        (format!("folder is \"{}\" or below", arrival.folder), inside.is_some())
    } else {
        (format!("folder is \"{}\"", arrival.folder), inside.is_some_and(|rest| rest.is_root()))
    };
    verdicts.push(verdict(asked, format!("\"{folder}\""), holds));
    let name = file.name();
    let patterns = |globs: &[globset::GlobMatcher]| {
        globs.iter().map(|g| g.glob().glob().to_owned()).collect::<Vec<_>>().join(" or ")
    };
    if !arrival.names.is_empty() {
        let holds = arrival.names.iter().any(|glob| glob.is_match(&name));
        verdicts.push(verdict(format!("name is like {}", patterns(&arrival.names)), name.clone(), holds));
    }
    if !arrival.except.is_empty() {
        let holds = !arrival.except.iter().any(|glob| glob.is_match(&name));
        verdicts.push(verdict(format!("name is not like {}", patterns(&arrival.except)), name, holds));
    }
    if file.path.is_temporary() {
        verdicts.push(verdict("the file is complete".to_owned(), "unfinished work of Wetbank".to_owned(), false));
    }
    verdicts
}
