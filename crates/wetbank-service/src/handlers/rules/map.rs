//! What is shown of rules.

use jiff::{Timestamp, ToSpan, tz::TimeZone};
use wetbank_client as api;
use wetbank_core::{
    Branch, Explanation, Next, Original, Planned, Rule, Telling, branch_sentence, format_duration, rule_sentence,
};
use wetbank_engine::{Arrangement, ExplainedFile, LiveRule, RuleOnFile};
use wetbank_journal::{Journal, JournalError};

use crate::{
    error::ApiError,
    shown::{known, midnight, time},
};

/// Days in a rule's strip.
const DAYS: i64 = 14;

pub(crate) async fn rule_summary(
    journal: &Journal,
    live: &LiveRule,
    now: Timestamp,
) -> Result<api::RuleSummary, ApiError> {
    let rule = &live.rule;
    let name = rule.name.as_str();
    let last = journal.last_run(name).await?;
    let zone = TimeZone::system();
    let first_day = now.to_zoned(zone.clone()).date().saturating_sub((DAYS - 1).days());
    let since = first_day.to_zoned(zone).map_or(now, |start| start.timestamp());
    let mut days: Vec<api::DayRuns> = (0..DAYS)
        .map(|n| api::DayRuns { day: first_day.saturating_add(n.days()).to_string(), ..Default::default() })
        .collect();
    for count in journal.day_counts(name, since).await? {
        let Some(day) = usize::try_from(count.group).ok().and_then(|at| days.get_mut(at)) else { continue };
        match count.state.as_str() {
            "done" => day.done += count.count,
            "held" => day.held += count.count,
            _ => day.other += count.count,
        }
    }
    Ok(api::RuleSummary {
        name: name.to_owned(),
        title: rule.title.clone(),
        sentence: rule_sentence(rule),
        why: rule.why.clone(),
        on: live.is_on,
        version: live.version,
        place: rule.source().map(|(place, _)| place.to_string()).unwrap_or_default(),
        folder: rule.source().map(|(_, folder)| folder).unwrap_or_default(),
        next: live.is_on.then(|| rule.starts.schedule.as_ref()?.next_after(now, &rule.zone)).flatten().map(time),
        last: last.map(last_run).transpose()?,
        days,
    })
}

fn last_run((run, started, state): (i64, Timestamp, String)) -> Result<api::LastRun, ApiError> {
    Ok(api::LastRun { run, started: time(started), state: known(api::RunState::parse, &state)? })
}

/// The branches of a rule with the files of today.
pub(crate) async fn branches(journal: &Journal, rule: &Rule, now: Timestamp) -> Result<Vec<api::Branch>, JournalError> {
    let counts = journal.branch_counts(rule.name.as_str(), midnight(now)).await?;
    let count = |branch: usize, states: &[&str]| {
        counts.iter().filter(|c| c.group == branch as i64 && states.contains(&c.state.as_str())).map(|c| c.count).sum()
    };
    let counted = |(at, branch)| api::Branch {
        done: count(at, &["done"]),
        held: count(at, &["held"]),
        open: count(at, &["queued", "working", "waiting"]),
        ..branch
    };
    Ok(drawn(rule).into_iter().enumerate().map(counted).collect())
}

/// The branches of a rule that took no file yet.
pub(crate) fn drawn(rule: &Rule) -> Vec<api::Branch> {
    let branch = |branch: &Branch| api::Branch {
        title: branch.title.clone(),
        condition: branch.condition.as_ref().map(wetbank_core::Condition::words),
        steps: branch.steps[..branch.main].iter().map(|planned| step(branch, planned)).collect(),
        original: match &branch.original {
            Original::Stays => "stays".to_owned(),
            Original::Delete => "is deleted".to_owned(),
            Original::MoveTo(folder) => format!("is set aside in {folder}"),
            Original::Mark(name) => format!("stays, marked with {name}"),
        },
        done: 0,
        held: 0,
        open: 0,
    };
    rule.branches.iter().map(branch).collect()
}

fn step(branch: &Branch, planned: &Planned) -> api::Step {
    let mut on_failure = Vec::new();
    let mut next = planned.on_failure;
    // A failure path may lead back into the way that is meant.
    while let Some(other) = next.filter(|at| *at >= branch.main).and_then(|at| branch.steps.get(at)) {
        on_failure.push(other.step.words(Telling::AsWritten));
        next = match other.next {
            Next::Step(at) => Some(at),
            Next::Original | Next::Failed => None,
        };
    }
    let target = planned.step.target();
    api::Step {
        kind: planned.step.kind().to_owned(),
        words: planned.step.words(Telling::AsWritten),
        rest: planned.step.told(Telling::AsWritten).1.trim_start_matches([',', ' ']).to_owned(),
        place: planned.step.place().map(ToString::to_string),
        folder: target.map(|target| target.folder.source().to_owned()),
        condition: planned.condition.as_ref().map(wetbank_core::Condition::words),
        on_failure,
    }
}

/// How long a file that comes must stay unchanged.
pub(crate) fn settle_words(rule: &Rule) -> Option<String> {
    let arrival = rule.starts.arrival.as_ref().filter(|arrival| arrival.letter.is_none())?;
    let settle = arrival.settle;
    Some(if settle.is_zero() { "at once".to_owned() } else { format_duration(settle) })
}

/// The names that a rule is about.
pub(crate) fn names(rule: &Rule) -> Vec<String> {
    if let Some(letter) = rule.starts.arrival.as_ref().and_then(|arrival| arrival.letter.as_ref()) {
        return letter.names.iter().map(|glob| glob.glob().glob().to_owned()).collect();
    }
    let files = rule.starts.arrival.as_ref().map(|arrival| &arrival.files);
    let files = files.or_else(|| rule.finds.first().map(|find| &find.files));
    let fixed = files.into_iter().flat_map(|files| &files.names).map(|glob| glob.glob().glob().to_owned());
    let filled = rule.finds.first().into_iter().flat_map(|find| &find.named).map(ToString::to_string);
    fixed.chain(filled).collect()
}

fn verdict(verdict: wetbank_core::Verdict) -> api::Verdict {
    api::Verdict {
        asked: verdict.asked,
        found: verdict.found,
        holds: verdict.holds,
        parts: verdict.parts.into_iter().map(self::verdict).collect(),
    }
}

pub(crate) fn explained_rule(rule: &Rule, explanation: Explanation, notes: Vec<String>) -> api::ExplainedRule {
    let titles = rule.branches.iter().map(|branch| branch.title.clone());
    api::ExplainedRule {
        title: rule.title.clone(),
        rule: explanation.rule,
        trigger: explanation.trigger.into_iter().map(verdict).collect(),
        taken: explanation.taken_by.is_some(),
        handed: rule.starts.arrival.is_none() && rule.finds.is_empty(),
        outcome: match explanation.taken_by.and_then(|at| rule.branches.get(at)) {
            Some(branch) => format!("{}: {}", explanation.outcome, branch_sentence(branch)),
            None => explanation.outcome,
        },
        branches: explanation
            .branches
            .into_iter()
            .zip(titles)
            .map(|(one, title)| api::BranchVerdict { title, verdict: verdict(one) })
            .collect(),
        notes,
    }
}

/// The same of a rule in force; one that was removed meanwhile has nothing to say.
fn shown(arrangement: &Arrangement, one: RuleOnFile) -> Option<api::ExplainedRule> {
    let RuleOnFile { explanation, notes } = one;
    let live = arrangement.rules.iter().find(|live| live.rule.name.as_str() == explanation.rule)?;
    Some(explained_rule(&live.rule, explanation, notes))
}

pub(crate) fn explained(arrangement: &Arrangement, explained: ExplainedFile) -> api::Explained {
    api::Explained {
        file: explained.file.to_string(),
        found: explained.facts.is_some(),
        size: explained.facts.as_ref().map(|f| f.size),
        modified: explained.facts.as_ref().map(|f| time(f.modified)),
        seen: explained.seen.map(time),
        away: explained.away,
        rules: explained.rules.into_iter().filter_map(|one| shown(arrangement, one)).collect(),
    }
}
