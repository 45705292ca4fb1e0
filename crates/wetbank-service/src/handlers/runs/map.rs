//! What is shown of runs, their items and attempts.

use std::collections::BTreeMap;

use wetbank_client as api;
use wetbank_core::ItemKind;
use wetbank_engine::{Arrangement, REMOVED};
use wetbank_journal::{AttemptRecord, HoldRecord, ItemRecord, RunSummary};

use crate::{
    error::ApiError,
    shown::{branch, item_kind, item_state, known, time, title},
    way::{self, At},
};

pub(crate) fn run_summary(arrangement: &Arrangement, run: RunSummary) -> Result<api::RunSummary, ApiError> {
    Ok(api::RunSummary {
        id: run.id,
        title: title(arrangement, &run.rule),
        rule: run.rule,
        cause: known(api::Cause::parse, &run.cause)?,
        started: time(run.started),
        ended: run.ended.map(time),
        state: known(api::RunState::parse, &run.state)?,
        items: run.items,
        file: run.first_path.map(|path| path.to_string()).unwrap_or_default(),
        size: run.first_size,
        why: run.why,
    })
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
) -> Result<api::Item, ApiError> {
    let arranged = branch(arrangement, rule, item.branch);
    Ok(api::Item {
        id: item.id,
        kind: item_kind(item.kind),
        steps: way::item(arranged, &At { kind: item.kind, state: item.state, position: item.position }, &attempts),
        file: item.file.to_string(),
        size: item.size,
        state: item_state(item.state),
        branch: item.branch,
        branch_title: arranged.filter(|_| item.kind != ItemKind::Find).map(|b| b.title.clone()),
        step: item.position.code(),
        failures: item.failures,
        due: item.due.map(time),
        why: item.why,
        taken: time(item.taken),
        ended: item.ended.map(time),
        attempts: attempts.into_iter().map(attempt).collect::<Result<_, _>>()?,
        hold,
    })
}

pub(crate) fn attempt(attempt: AttemptRecord) -> Result<api::Attempt, ApiError> {
    Ok(api::Attempt {
        id: attempt.id,
        step: attempt.position.code(),
        kind: attempt.kind,
        number: attempt.number,
        began: time(attempt.began),
        ended: attempt.ended.map(time),
        removed: attempt.outcome == "done" && attempt.code.as_deref() == Some(REMOVED),
        outcome: known(api::AttemptOutcome::parse, &attempt.outcome)?,
        target: attempt.target.map(|t| t.to_string()),
        size: attempt.size,
        sha256: attempt.sha256,
        blake3: attempt.blake3,
        code: attempt.code,
        message: attempt.message,
        remedy: attempt.remedy,
    })
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
