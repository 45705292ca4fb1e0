//! Statements over many rows at once, given as one JSON text.
//!
//! A statement costs about as much as ten rows, and a busy service writes a dozen rows a file:
//! what was queued together is written together.

use serde::Serialize;
use sqlx::SqliteConnection;

use crate::{AttemptStart, Intention, Output, Progress, twins::put_notes};
use wetbank_core::ItemState;

/// The rows as JSON: one array, paths in hexadecimal because they need not be text.
pub(crate) fn json<T: Serialize>(rows: &[T]) -> String {
    serde_json::to_string(rows).expect("plain values serialise")
}

type Done = Result<(), sqlx::Error>;

/// Runs a statement over rows, unless there are none.
macro_rules! over {
    ($connection:expr, $query:literal, $rows:expr) => {
        if !$rows.is_empty() {
            let rows = $crate::bulk::json(&$rows);
            sqlx::query_file!($query, rows).execute(&mut *$connection).await?;
        }
    };
}
pub(crate) use over;

pub(crate) async fn start(connection: &mut SqliteConnection, starts: &[AttemptStart]) -> Done {
    let attempts: Vec<_> = starts
        .iter()
        .map(|start| {
            let target = start.target.as_ref();
            let place = target.map(|t| t.place.as_str());
            let path = target.map(|t| hex::encode(t.path.as_bytes()));
            let began = start.began.as_millisecond();
            (start.id, start.item, start.position.code(), start.kind, start.number, began, place, path, &start.intent)
        })
        .collect();
    over!(connection, "queries/attempts_start.sql", attempts);
    let items: Vec<_> = starts.iter().map(|start| (start.item, start.branch, start.position.code())).collect();
    over!(connection, "queries/items_working.sql", items);
    Ok(())
}

pub(crate) async fn intend(connection: &mut SqliteConnection, intentions: &[Intention]) -> Done {
    let attempts: Vec<_> = intentions
        .iter()
        .map(|i| {
            let (place, path) = (i.target.place.as_str(), hex::encode(i.target.path.as_bytes()));
            (i.attempt, &i.intent, place, path, i.size, &i.sha256, &i.blake3)
        })
        .collect();
    over!(connection, "queries/attempts_intend.sql", attempts);
    put_outputs(connection, intentions.iter().filter_map(|i| i.output.as_ref())).await
}

pub(crate) async fn put_outputs(
    connection: &mut SqliteConnection,
    outputs: impl Iterator<Item = &Output> + Send,
) -> Done {
    let rows: Vec<_> = outputs
        .map(|o| {
            (
                o.file.place.as_str(),
                hex::encode(o.file.path.as_bytes()),
                &o.fingerprint,
                o.rule.as_str(),
                o.item,
                o.depth,
            )
        })
        .collect();
    over!(connection, "queries/outputs_put.sql", rows);
    Ok(())
}

/// Whether nothing more happens to an item, whatever anybody wants.
fn is_over(state: ItemState) -> bool {
    matches!(state, ItemState::Done | ItemState::Skipped)
}

pub(crate) async fn record(connection: &mut SqliteConnection, progress: &[Progress]) -> Done {
    let ends: Vec<_> = progress
        .iter()
        .filter_map(|p| p.end.as_ref())
        .map(|end| {
            let ended = end.ended.as_millisecond();
            (end.id, ended, end.outcome.as_str(), &end.code, &end.message, &end.remedy, end.size, end.unclear)
        })
        .collect();
    over!(connection, "queries/attempts_end.sql", ends);
    let names: Vec<_> = progress
        .iter()
        .filter_map(|p| p.end.as_ref())
        .filter_map(|end| Some((end.id, end.also_named.as_ref()?)))
        .collect();
    over!(connection, "queries/attempt_names_put.sql", names);
    let settled: Vec<_> = progress.iter().filter_map(|p| p.settled).collect();
    over!(connection, "queries/attempts_settle.sql", settled);
    let over: Vec<_> = progress.iter().map(|p| &p.change).filter(|c| is_over(c.state)).map(|c| c.item).collect();
    over!(connection, "queries/results_end.sql", over);
    let changes: Vec<_> = progress
        .iter()
        .map(|p| {
            let c = &p.change;
            let is_over = is_over(c.state);
            let ended = is_over.then(|| c.at.as_millisecond());
            // Nobody goes on with an item that is over.
            let hand = c.hand.as_ref().filter(|_| !is_over);
            let due = c.due.map(|due| due.as_millisecond());
            (c.item, c.state.as_str(), c.position.code(), hand, c.failures, due, &c.why, ended, c.branch)
        })
        .collect();
    over!(connection, "queries/items_change.sql", changes);
    let holds: Vec<_> = progress
        .iter()
        .filter_map(|p| {
            let hold = p.hold.as_ref()?;
            Some((p.change.item, p.change.at.as_millisecond(), &hold.code, &hold.why, &hold.remedy))
        })
        .collect();
    over!(connection, "queries/holds_put.sql", holds);
    let forgotten: Vec<_> = progress
        .iter()
        .filter_map(|p| {
            let ((rule, file), now) = (p.forget.as_ref()?, p.change.at.as_millisecond());
            Some((rule.as_str(), file.place.as_str(), hex::encode(file.path.as_bytes()), now, now))
        })
        .collect();
    over!(connection, "queries/sightings_forget.sql", forgotten);
    let chained: Vec<_> = progress
        .iter()
        .flat_map(|p| &p.chained)
        .map(|c| {
            let (place, path) = (c.file.place.as_str(), hex::encode(c.file.path.as_bytes()));
            (c.rule.as_str(), c.version, place, path, &c.fingerprint, c.size, c.depth, &c.about)
        })
        .collect();
    over!(connection, "queries/chained_put.sql", chained);
    let mails: Vec<_> = progress
        .iter()
        .filter_map(|p| Some((p.mail.as_ref()?, &p.change)))
        .map(|(m, change)| {
            let (rule, place) = (m.rule.as_str(), m.place.as_str());
            (m.id, change.item, change.run, rule, place, &m.recipients, &m.subject, change.at.as_millisecond())
        })
        .collect();
    over!(connection, "queries/outbox_put.sql", mails);
    let settled: Vec<_> = progress
        .iter()
        .map(|p| &p.change)
        .filter(|change| change.state.is_at_rest() || matches!(change.state, ItemState::Queued | ItemState::Joining))
        .map(|change| (change.run, change.at.as_millisecond()))
        .collect();
    over!(connection, "queries/runs_settle.sql", settled);
    let noted: Vec<_> = progress.iter().filter_map(|p| p.noted.as_ref()).collect();
    for of_one in noted.chunk_by(|(one, _), (next, _)| one == next) {
        let notes: Vec<_> = of_one.iter().flat_map(|(_, notes)| notes).collect();
        put_notes(connection, &of_one[0].0, &notes).await?;
    }
    Ok(())
}
