//! Which branch takes a file, and why.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::{Arrival, FileFacts, Find, RelPath, Rule, Selection, Verdict};

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

/// Decides which branch takes a file that its run has.
pub fn decide(rule: &Rule, file: &FileFacts, now: Timestamp) -> Decision {
    let mut explanation = blank(rule);
    ask_branches(rule, file, now, &mut explanation);
    match explanation.taken_by {
        Some(branch) => Decision::Branch(branch),
        None => Decision::NotTaken { why: explanation.outcome },
    }
}

/// Tells whether a rule would take a file, and how it comes to that.
pub fn explain(rule: &Rule, file: &FileFacts, now: Timestamp) -> Explanation {
    let mut explanation = blank(rule);
    explanation.trigger = ask_trigger(rule, file);
    match explanation.trigger.iter().find(|verdict| !verdict.holds) {
        Some(failed) if failed.parts.is_empty() => {
            explanation.outcome =
                format!("not taken: the rule asks that {}, here it is {}", failed.asked, failed.found);
        }
        Some(_) => "not taken: the rule looks for it nowhere here".clone_into(&mut explanation.outcome),
        None => ask_branches(rule, file, now, &mut explanation),
    }
    explanation
}

fn blank(rule: &Rule) -> Explanation {
    Explanation {
        rule: rule.name.to_string(),
        trigger: Vec::new(),
        branches: Vec::new(),
        taken_by: None,
        outcome: String::new(),
    }
}

fn ask_branches(rule: &Rule, file: &FileFacts, now: Timestamp, explanation: &mut Explanation) {
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
            return;
        }
    }
    "not taken: no branch fits and there is no default".clone_into(&mut explanation.outcome);
}

/// Every source of the rule's files: one of them must have this file.
fn ask_trigger(rule: &Rule, file: &FileFacts) -> Vec<Verdict> {
    let mut sources: Vec<Vec<Verdict>> = rule.starts.arrival.iter().map(|arrival| ask_arrival(arrival, file)).collect();
    sources.extend(rule.finds.iter().filter(|find| !find.is_arrival).map(|find| ask_find(find, file)));
    if sources.is_empty() {
        return vec![verdict("another rule hands it on".to_owned(), "not asked here".to_owned(), true)];
    }
    if sources.len() == 1 {
        return sources.remove(0);
    }
    let all = |parts: Vec<Verdict>| Verdict {
        asked: "all of".to_owned(),
        found: String::new(),
        holds: parts.iter().all(|part| part.holds),
        parts,
    };
    let parts: Vec<Verdict> = sources.into_iter().map(all).collect();
    let holds = parts.is_empty() || parts.iter().any(|part| part.holds);
    vec![Verdict { asked: "any of".to_owned(), found: String::new(), holds, parts }]
}

fn ask_arrival(arrival: &Arrival, file: &FileFacts) -> Vec<Verdict> {
    let mut verdicts = ask_selection(&arrival.files, Some(&arrival.folder), file);
    if file.path.is_temporary() {
        verdicts.push(verdict("the file is complete".to_owned(), "unfinished work of Wetbank".to_owned(), false));
    }
    verdicts
}

fn ask_find(find: &Find, file: &FileFacts) -> Vec<Verdict> {
    let folder = find.folder.is_plain().then(|| RelPath::parse(find.folder.source()).ok()).flatten();
    let mut verdicts = ask_selection(&find.files, folder.as_ref(), file);
    if !find.named.is_empty() {
        // What such a name is, only the time of a run can tell.
        let names = find.named.iter().map(ToString::to_string).collect::<Vec<_>>().join(" or ");
        verdicts.push(verdict(format!("name is like {names}, filled in when the run starts"), file.name(), true));
    }
    verdicts
}

fn ask_selection(files: &Selection, base: Option<&RelPath>, file: &FileFacts) -> Vec<Verdict> {
    let mut verdicts =
        vec![verdict(format!("place is {}", files.place), file.place.to_string(), file.place == files.place)];
    if let Some(base) = base {
        let folder = file.path.parent();
        let inside = folder.below(base);
        let (asked, holds) = if files.deep {
            (format!("folder is \"{base}\" or below"), inside.is_some())
        } else {
            (format!("folder is \"{base}\""), inside.is_some_and(|rest| rest.is_root()))
        };
        verdicts.push(verdict(asked, format!("\"{folder}\""), holds));
    }
    let name = file.name();
    let patterns = |globs: &[globset::GlobMatcher]| {
        globs.iter().map(|g| g.glob().glob().to_owned()).collect::<Vec<_>>().join(" or ")
    };
    if !files.names.is_empty() {
        let holds = files.names.iter().any(|glob| glob.is_match(&name));
        verdicts.push(verdict(format!("name is like {}", patterns(&files.names)), name.clone(), holds));
    }
    if !files.except.is_empty() {
        let holds = !files.except.iter().any(|glob| glob.is_match(&name));
        verdicts.push(verdict(format!("name is not like {}", patterns(&files.except)), name, holds));
    }
    verdicts
}
