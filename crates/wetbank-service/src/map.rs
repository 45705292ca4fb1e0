//! From the domain to the API's types.

use std::collections::BTreeMap;

use crate::way::{self, At};
use jiff::{Timestamp, ToSpan, tz::TimeZone};
use wetbank_client as api;
use wetbank_core::{
    BY_HAND, Branch, Explanation, ItemKind, Next, Original, Planned, Rule, branch_sentence, delivery_words,
    format_duration, rule_sentence,
};
use wetbank_engine::REMOVED;
use wetbank_engine::{
    Arrangement, ExplainedFile, KeyStatus, LiveRule, PartnerStatus, PlaceStatus, SignInOffer, SignInState, Warning,
};
use wetbank_journal::{AttemptRecord, HoldRecord, ItemRecord, Journal, JournalError, PlaceState, RunSummary};
use wetbank_places::{Entry, EntryKind, ProbeStep, right_words};

/// Days in a rule's strip.
pub(crate) const DAYS: i64 = 14;

pub(crate) fn time(at: Timestamp) -> String {
    at.to_string()
}

/// The start of the day that is now in the machine's zone.
pub(crate) fn midnight(now: Timestamp) -> Timestamp {
    now.to_zoned(TimeZone::system()).start_of_day().map_or(now, |start| start.timestamp())
}

pub(crate) fn title(arrangement: &Arrangement, rule: &str) -> String {
    arrangement.rules.iter().find(|live| live.rule.name.as_str() == rule).map_or_else(
        || if rule == BY_HAND { "By hand".to_owned() } else { rule.to_owned() },
        |live| live.rule.title.clone(),
    )
}

/// The branch that an item follows, if its rule is still the one that it follows.
pub(crate) fn branch<'a>(
    arrangement: &'a Arrangement,
    (rule, version): (&str, i64),
    branch: Option<i64>,
) -> Option<&'a wetbank_core::Branch> {
    let live = arrangement.rules.iter().find(|live| live.rule.name.as_str() == rule)?;
    if live.version != version {
        return None;
    }
    live.rule.branches.get(usize::try_from(branch?).ok()?)
}

pub(crate) async fn rule_summary(
    journal: &Journal,
    live: &LiveRule,
    now: Timestamp,
) -> Result<api::RuleSummary, JournalError> {
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
        last: last.map(|(run, started, state)| api::LastRun { run, started: time(started), state }),
        days,
    })
}

pub(crate) async fn branches(journal: &Journal, rule: &Rule, now: Timestamp) -> Result<Vec<api::Branch>, JournalError> {
    let counts = journal.branch_counts(rule.name.as_str(), midnight(now)).await?;
    let count = |branch: usize, states: &[&str]| {
        counts.iter().filter(|c| c.group == branch as i64 && states.contains(&c.state.as_str())).map(|c| c.count).sum()
    };
    Ok(rule
        .branches
        .iter()
        .enumerate()
        .map(|(at, branch)| api::Branch {
            title: branch.title.clone(),
            condition: branch.condition.as_ref().map(wetbank_core::Condition::words),
            steps: branch.steps[..branch.main].iter().map(|planned| step(branch, planned)).collect(),
            original: match &branch.original {
                Original::Stays => "stays".to_owned(),
                Original::Delete => "is deleted".to_owned(),
                Original::MoveTo(folder) => format!("is set aside in {folder}"),
                Original::Mark(name) => format!("stays, marked with {name}"),
            },
            done: count(at, &["done"]),
            held: count(at, &["held"]),
            open: count(at, &["queued", "working", "waiting"]),
        })
        .collect())
}

fn step(branch: &Branch, planned: &Planned) -> api::Step {
    let mut on_failure = Vec::new();
    let mut next = planned.on_failure;
    // A failure path may lead back into the way that is meant.
    while let Some(other) = next.filter(|at| *at >= branch.main).and_then(|at| branch.steps.get(at)) {
        on_failure.push(other.step.words());
        next = match other.next {
            Next::Step(at) => Some(at),
            Next::Original | Next::Failed => None,
        };
    }
    let target = planned.step.target();
    api::Step {
        kind: planned.step.kind().to_owned(),
        words: planned.step.words(),
        rest: planned.step.told().1.trim_start_matches([',', ' ']).to_owned(),
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

fn explained_rule(arrangement: &Arrangement, explanation: Explanation, note: Option<String>) -> api::ExplainedRule {
    let live = arrangement.rules.iter().find(|live| live.rule.name.as_str() == explanation.rule);
    let titles: Vec<String> =
        live.map(|l| l.rule.branches.iter().map(|b| b.title.clone()).collect()).unwrap_or_default();
    api::ExplainedRule {
        title: title(arrangement, &explanation.rule),
        rule: explanation.rule,
        trigger: explanation.trigger.into_iter().map(verdict).collect(),
        taken: explanation.taken_by.is_some(),
        outcome: match explanation.taken_by.and_then(|at| live?.rule.branches.get(at)) {
            Some(branch) => format!("{}: {}", explanation.outcome, branch_sentence(branch)),
            None => explanation.outcome,
        },
        branches: explanation
            .branches
            .into_iter()
            .zip(titles)
            .map(|(one, title)| api::BranchVerdict { title, verdict: verdict(one) })
            .collect(),
        note,
    }
}

pub(crate) fn explained(arrangement: &Arrangement, explained: ExplainedFile) -> api::Explained {
    api::Explained {
        file: explained.file.to_string(),
        found: explained.facts.is_some(),
        size: explained.facts.as_ref().map(|f| f.size),
        modified: explained.facts.as_ref().map(|f| time(f.modified)),
        rules: explained.rules.into_iter().map(|(one, note)| explained_rule(arrangement, one, note)).collect(),
    }
}

pub(crate) fn run_summary(arrangement: &Arrangement, run: RunSummary) -> api::RunSummary {
    api::RunSummary {
        id: run.id,
        title: title(arrangement, &run.rule),
        rule: run.rule,
        cause: run.cause,
        started: time(run.started),
        ended: run.ended.map(time),
        state: run.state,
        items: run.items,
        file: run.first_path.map(|path| path.to_string()).unwrap_or_default(),
        size: run.first_size,
        why: run.why,
    }
}

/// What is known of a run, for people: empty texts are not.
pub(crate) fn about(about: Option<&str>) -> BTreeMap<String, String> {
    let mut known: BTreeMap<String, String> =
        about.and_then(|about| serde_json::from_str(about).ok()).unwrap_or_default();
    known.retain(|_, text| !text.is_empty());
    known
}

pub(crate) fn item(
    arrangement: &Arrangement,
    rule: (&str, i64),
    item: ItemRecord,
    attempts: Vec<AttemptRecord>,
    hold: Option<api::Hold>,
) -> api::Item {
    let arranged = branch(arrangement, rule, item.branch);
    api::Item {
        id: item.id,
        kind: item.kind.as_str().to_owned(),
        steps: way::item(arranged, &At { kind: item.kind, state: item.state, position: item.position }, &attempts),
        file: item.file.to_string(),
        size: item.size,
        state: item.state.as_str().to_owned(),
        branch: item.branch,
        branch_title: arranged.filter(|_| item.kind != ItemKind::Find).map(|b| b.title.clone()),
        step: item.position.code(),
        failures: item.failures,
        due: item.due.map(time),
        why: item.why,
        taken: time(item.taken),
        ended: item.ended.map(time),
        attempts: attempts.into_iter().map(attempt).collect(),
        hold,
    }
}

pub(crate) fn attempt(attempt: AttemptRecord) -> api::Attempt {
    api::Attempt {
        id: attempt.id,
        step: attempt.position.code(),
        kind: attempt.kind,
        number: attempt.number,
        began: time(attempt.began),
        ended: attempt.ended.map(time),
        removed: attempt.outcome == "done" && attempt.code.as_deref() == Some(REMOVED),
        outcome: attempt.outcome,
        target: attempt.target.map(|t| t.to_string()),
        size: attempt.size,
        sha256: attempt.sha256,
        blake3: attempt.blake3,
        code: attempt.code,
        message: attempt.message,
        remedy: attempt.remedy,
    }
}

pub(crate) fn hold(arrangement: &Arrangement, hold: HoldRecord) -> api::Hold {
    let step = match hold.kind {
        ItemKind::Find => Some("find"),
        _ => way::name(branch(arrangement, (&hold.rule, hold.version), hold.branch), hold.position),
    };
    let step = step.map(str::to_owned);
    api::Hold {
        item: hold.item,
        run: hold.run,
        title: title(arrangement, &hold.rule),
        rule: hold.rule,
        file: hold.file.to_string(),
        size: hold.size,
        step: step.unwrap_or_else(|| "arrival".to_owned()),
        since: time(hold.since),
        code: hold.code,
        why: hold.why,
        remedy: hold.remedy,
    }
}

fn state_of(place: &PlaceStatus) -> &'static str {
    match (&place.error, place.at) {
        (Some(_), _) => "away",
        (None, Some(_)) => "well",
        (None, None) => "unknown",
    }
}

pub(crate) fn place(place: PlaceStatus) -> api::Place {
    let state = state_of(&place);
    api::Place {
        name: place.name.to_string(),
        kind: place.spec.kind().as_str().to_owned(),
        address: place.spec.address(),
        text: place.text,
        state: state.to_owned(),
        remedy: place.error.as_ref().map(wetbank_places::PlaceError::remedy),
        error: place.error.map(|e| e.to_string()),
        at: place.at.map(time),
        since: place.since.map(time),
        again: place.again.map(time),
        rules: place.rules.iter().map(ToString::to_string).collect(),
        agreed: place.spec.agreed().is_some(),
    }
}

pub(crate) fn sign_in_offer(offer: SignInOffer) -> api::SignInOffer {
    let (state, why, granted) = match offer.state {
        SignInState::Never => ("never", None, None),
        SignInState::Waiting => ("waiting", None, None),
        SignInState::Agreed(granted) => ("agreed", None, granted),
        SignInState::Failed(why) => ("failed", Some(why), None),
    };
    let right = |right: String| api::Right { meaning: right_words(&right).map(str::to_owned), right };
    let rights = offer.rights.into_iter().map(right).collect();
    api::SignInOffer { server: offer.server, client: offer.client, rights, state: state.to_owned(), why, granted }
}

/// Spans without gaps; before the first record nothing is known.
pub(crate) fn place_day(states: Vec<PlaceState>, from: Timestamp, to: Timestamp) -> api::PlaceDay {
    let mut spans: Vec<api::PlaceSpan> = Vec::new();
    let first = states.first().map_or(to, |state| state.at);
    if first > from {
        spans.push(api::PlaceSpan { from: time(from), to: time(first), state: "unknown".to_owned(), why: None });
    }
    let ends: Vec<Timestamp> = states.iter().skip(1).map(|state| state.at).chain([to]).collect();
    for (state, end) in states.into_iter().zip(ends) {
        let begin = time(state.at.max(from));
        spans.push(api::PlaceSpan { from: begin, to: time(end), state: state.state, why: state.why });
    }
    api::PlaceDay { from: time(from), to: time(to), spans }
}

pub(crate) fn warning(warning: Warning) -> api::Warning {
    api::Warning {
        what: warning.what,
        until: warning.until.map(time),
        days: warning.days,
        partner: warning.partner.map(|partner| partner.to_string()),
        remedy: warning.remedy,
    }
}

pub(crate) fn partner(status: PartnerStatus, places: &[PlaceStatus]) -> api::Partner {
    let partner = status.partner;
    let place = |name: &wetbank_core::Name| {
        let place = places.iter().find(|place| place.name == *name);
        api::PartnerPlace {
            name: name.to_string(),
            state: place.map_or("unknown", state_of).to_owned(),
            address: place.map(|place| place.spec.address()).unwrap_or_default(),
        }
    };
    let key = |key: Result<KeyStatus, String>| match key {
        Ok(known) => api::PartnerKey {
            name: known.name,
            fingerprint: Some(known.fingerprint),
            expires: known.encrypts.as_ref().ok().copied().flatten().map(time),
            unfit: known.encrypts.err(),
        },
        Err(name) => {
            api::PartnerKey { name, fingerprint: None, expires: None, unfit: Some("it is not imported yet".to_owned()) }
        }
    };
    api::Partner {
        name: partner.name.to_string(),
        places: partner.places.iter().map(place).collect(),
        keys: status.keys.into_iter().map(key).collect(),
        delivery: partner.delivery.as_ref().map(delivery_words),
        title: partner.title,
        note: partner.note,
        people: partner.people.into_iter().map(person).collect(),
        rules: status.rules.iter().map(ToString::to_string).collect(),
        warnings: status.warnings.into_iter().map(warning).collect(),
        text: status.text,
    }
}

fn person(person: wetbank_core::Person) -> api::Person {
    api::Person { name: person.name, role: person.role, mail: person.mail, phone: person.phone }
}

pub(crate) fn test_step(step: ProbeStep) -> api::TestStep {
    let (fine, said, remedy) = match step.outcome {
        Ok(said) => (true, said, None),
        Err(error) => (false, error.to_string(), Some(error.remedy())),
    };
    api::TestStep { what: step.what.to_owned(), fine, took_ms: step.took.as_secs_f64() * 1000.0, said, remedy }
}

/// A step of a test of what is still being typed: what to do is to type something else.
pub(crate) fn tried_step(step: ProbeStep) -> api::TestStep {
    let nameless = step.outcome.as_ref().err().map(wetbank_places::PlaceError::nameless);
    let told = test_step(step);
    api::TestStep { said: nameless.unwrap_or(told.said), remedy: None, ..told }
}

pub(crate) fn entry(place: &str, entry: Entry) -> api::Entry {
    api::Entry {
        name: entry.path.name_text(),
        path: format!("{place}:/{}", entry.path),
        kind: match entry.kind {
            EntryKind::File => "file",
            EntryKind::Folder => "folder",
            EntryKind::Link => "link",
            EntryKind::Other => "other",
            EntryKind::Misnamed => "misnamed",
        }
        .to_owned(),
        size: entry.fingerprint.size,
        modified: (entry.fingerprint.modified != 0).then(|| time(entry.fingerprint.modified_at())),
        who: entry.owner,
    }
}

pub(crate) fn notice(mail: wetbank_journal::MailRecord) -> api::Notice {
    api::Notice {
        id: mail.id,
        run: mail.run,
        rule: mail.rule,
        place: mail.place,
        to: mail.recipients,
        subject: mail.subject,
        due: (mail.state == "waiting").then(|| time(mail.due)),
        state: mail.state,
        queued: time(mail.queued),
        tries: mail.tries,
        why: mail.why,
        ended: mail.ended.map(time),
    }
}

pub(crate) fn key(key: KeyStatus) -> api::Key {
    api::Key {
        name: key.name,
        fingerprint: key.fingerprint,
        users: key.users,
        has_secret: key.has_secret,
        encrypts: key.encrypts.is_ok(),
        signs: key.signs.is_ok(),
        expires: key.encrypts.as_ref().ok().copied().flatten().map(time),
        unfit: key.encrypts.err(),
        changed: time(key.changed),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_places_day_has_no_gap_and_begins_with_what_was_so_before() {
        let at = |text: &str| format!("2026-03-{text}:00Z").parse::<Timestamp>().expect("a time");
        let state = |text: &str, state: &str| PlaceState { at: at(text), state: state.to_owned(), why: None };
        let told = |states: Vec<PlaceState>| -> Vec<(String, String)> {
            let day = place_day(states, at("13T12:00"), at("14T12:00"));
            for pair in day.spans.windows(2) {
                assert_eq!(pair[0].to, pair[1].from);
            }
            assert_eq!((&day.spans[0].from, &day.spans[day.spans.len() - 1].to), (&day.from, &day.to));
            day.spans.into_iter().map(|span| (span.state, span.from[8..16].to_owned())).collect()
        };
        let span = |state: &str, from: &str| (state.to_owned(), from.to_owned());
        assert_eq!(told(Vec::new()), [span("unknown", "13T12:00")]);
        assert_eq!(
            told(vec![state("10T00:00", "well"), state("14T06:00", "away"), state("14T06:10", "well")]),
            [span("well", "13T12:00"), span("away", "14T06:00"), span("well", "14T06:10")]
        );
        assert_eq!(told(vec![state("14T06:00", "well")]), [span("unknown", "13T12:00"), span("well", "14T06:00")]);
    }
}
