//! Taking files in: the sighting and its work in one transaction.

use std::{
    collections::{HashMap, HashSet},
    sync::atomic::Ordering::Relaxed,
};

use jiff::Timestamp;
use sqlx::SqliteConnection;
use wetbank_core::{Cause, FilePath, ItemKind, ItemState, Name, Position};

use crate::{
    Journal, JournalError, Work,
    bulk::{self, over},
    open::Ids,
    records,
};

/// A settled file that a rule watches for.
#[derive(Debug, Clone)]
pub struct Sighting {
    /// The rule.
    pub rule: Name,
    /// The rule's version.
    pub version: i64,
    /// The file.
    pub file: FilePath,
    /// Its state.
    pub fingerprint: String,
    /// Its size in bytes.
    pub size: u64,
    /// When it was looked at: not later than its fingerprint was read.
    pub seen: Timestamp,
    /// Whether the rule takes files that it made itself.
    pub own_results: bool,
    /// Whether it is taken although it was taken in this state before.
    pub again: bool,
    /// What is known of it besides, as a JSON object of texts, for a run of its own.
    pub about: Option<String>,
    /// Only the ledger is told of it; nothing is done.
    pub note_only: bool,
}

/// Why a sighting was not taken in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// The rule took this very state of the file before.
    Known,
    /// The rule made the file itself.
    OwnResult,
    /// Only the ledger was to be told.
    Noted,
}

impl Journal {
    /// Records sightings and queues their work, each in a run of its own, all in one transaction.
    /// From the moment this returns the files cannot be forgotten. Answers in the order asked.
    pub async fn take_in(
        &self,
        sightings: Vec<Sighting>,
        cause: Cause,
        at: Timestamp,
    ) -> Result<Vec<Result<Work, Refusal>>, JournalError> {
        self.take(sightings, Into::Own(cause), at).await
    }

    /// The same, as further items of a run that is going on: the one of this item.
    pub async fn take_into(
        &self,
        finder: &Work,
        sightings: Vec<Sighting>,
        at: Timestamp,
    ) -> Result<Vec<Result<Work, Refusal>>, JournalError> {
        self.take(sightings, Into::Run(Box::new(finder.clone())), at).await
    }

    /// Records sightings and queues their work in one run. Of a file that is told twice the first counts.
    pub async fn take_together(
        &self,
        mut sightings: Vec<Sighting>,
        cause: Cause,
        about: Option<String>,
        at: Timestamp,
    ) -> Result<Vec<Work>, JournalError> {
        let ids = self.ids.clone();
        let into = Into::Joint(cause, about, ids.run.fetch_add(1, Relaxed));
        let mut seen = HashSet::new();
        sightings.retain(|sighting| seen.insert((sighting.rule.clone(), sighting.file.clone())));
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let taken = take_batch(connection, &ids, sightings, &into, at).await?;
                    Ok(taken.into_iter().flatten().collect())
                })
            })
            .await
    }

    /// Gives an item the next number of its rule's files on a day. What it has in hand with that
    /// number is kept in the same transaction, so that no number is lost when the service is ended.
    pub async fn count_file(
        &self,
        rule: &Name,
        day: String,
        item: i64,
        in_hand: impl FnOnce(i64) -> Option<String> + Send + 'static,
    ) -> Result<i64, JournalError> {
        let rule = rule.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let rule = rule.as_str();
                    sqlx::query_file!("queries/counter_purge.sql", rule, day).execute(&mut *connection).await?;
                    let number = sqlx::query_file_scalar!("queries/counter_next.sql", rule, day)
                        .fetch_one(&mut *connection)
                        .await?;
                    let hand = in_hand(number);
                    sqlx::query_file!("queries/item_hand.sql", hand, item).execute(&mut *connection).await?;
                    Ok(number)
                })
            })
            .await
    }

    /// Starts the rules that what happened to files starts, at most so many at once. Answers the
    /// work, and whether there may be more. Rules that are not `wanted` any more take nothing.
    pub async fn take_chained(
        &self,
        most: u32,
        wanted: Vec<Name>,
        at: Timestamp,
    ) -> Result<(Vec<Work>, bool), JournalError> {
        let ids = self.ids.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let rows = sqlx::query_file!("queries/chained.sql", most).fetch_all(&mut *connection).await?;
                    let more = rows.len() == most as usize;
                    let mut works = Vec::with_capacity(rows.len());
                    for row in rows {
                        sqlx::query_file!("queries/chained_remove.sql", row.id).execute(&mut *connection).await?;
                        let rule = Name::new(&row.rule).map_err(|e| sqlx::Error::Decode(Box::new(e)))?;
                        if !wanted.contains(&rule) {
                            continue;
                        }
                        let sighting = Sighting {
                            rule,
                            version: row.version,
                            file: records::file(&row.place, &row.path)?,
                            fingerprint: row.fingerprint,
                            size: row.size.cast_unsigned(),
                            seen: at,
                            own_results: true,
                            again: true,
                            about: None,
                            note_only: false,
                        };
                        let depth = u32::try_from(row.depth).unwrap_or(u32::MAX);
                        let into = Into::Chain(row.about, depth);
                        let taken = take_batch(connection, &ids, vec![sighting], &into, at).await?;
                        works.extend(taken.into_iter().flatten());
                    }
                    Ok((works, more))
                })
            })
            .await
    }

    async fn take(
        &self,
        sightings: Vec<Sighting>,
        into: Into,
        at: Timestamp,
    ) -> Result<Vec<Result<Work, Refusal>>, JournalError> {
        let ids = self.ids.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let mut answers = Vec::with_capacity(sightings.len());
                    for batch in without_doubles(sightings) {
                        answers.extend(take_batch(connection, &ids, batch, &into, at).await?);
                    }
                    Ok(answers)
                })
            })
            .await
    }
}

/// Splits sightings so that no two of a batch are about the same file and rule: a statement
/// over many rows could not tell which of them it took.
fn without_doubles(sightings: Vec<Sighting>) -> Vec<Vec<Sighting>> {
    let mut batches = vec![Vec::with_capacity(sightings.len())];
    let mut seen = HashSet::new();
    for sighting in sightings {
        if !seen.insert((sighting.rule.clone(), sighting.file.clone())) {
            seen.clear();
            seen.insert((sighting.rule.clone(), sighting.file.clone()));
            batches.push(Vec::new());
        }
        batches.last_mut().expect("one is there").push(sighting);
    }
    batches
}

pub(crate) async fn take_batch(
    connection: &mut SqliteConnection,
    ids: &Ids,
    sightings: Vec<Sighting>,
    into: &Into,
    at: Timestamp,
) -> Result<Vec<Result<Work, Refusal>>, sqlx::Error> {
    let rows: Vec<_> = sightings
        .iter()
        .enumerate()
        .map(|(at, s)| {
            let path = hex::encode(s.file.path.as_bytes());
            (s.rule.as_str(), s.file.place.as_str(), path, &s.fingerprint, s.seen.as_millisecond(), at)
        })
        .collect();
    let rows = bulk::json(&rows);
    let mut outputs = HashMap::new();
    for output in sqlx::query_file!("queries/outputs_at.sql", rows).fetch_all(&mut *connection).await? {
        outputs.insert(usize::try_from(output.key).unwrap_or(usize::MAX), output);
    }
    let taken = sqlx::query_file!("queries/sightings_take.sql", rows).fetch_all(&mut *connection).await?;
    let taken: HashSet<_> = taken.into_iter().map(|row| (row.rule, row.place, row.path)).collect();
    let now = at.as_millisecond();
    let mut answers = Vec::with_capacity(sightings.len());
    for (index, sighting) in sightings.into_iter().enumerate() {
        let Sighting { rule, version, file, fingerprint, size, own_results, again, about, note_only, .. } = sighting;
        let output = outputs.get(&index).filter(|output| output.fingerprint == fingerprint);
        let key = (rule.as_str().to_owned(), file.place.as_str().to_owned(), file.path.as_bytes().to_vec());
        if note_only {
            answers.push(Err(Refusal::Noted));
        } else if !again && !taken.contains(&key) {
            answers.push(Err(Refusal::Known));
        } else if !own_results && output.is_some_and(|output| output.rule == rule.as_str()) {
            answers.push(Err(Refusal::OwnResult));
        } else {
            let through = if let Into::Chain(_, depth) = into { i64::from(*depth) } else { 0 };
            let depth = output.map_or(0, |output| output.depth + 1).max(through);
            let started = records::time(now);
            let (run, cause, about, started) = match into {
                Into::Own(cause) => (ids.run.fetch_add(1, Relaxed), *cause, about, started),
                Into::Joint(cause, about, run) => (*run, *cause, about.clone(), started),
                Into::Chain(about, _) => (ids.run.fetch_add(1, Relaxed), Cause::Chain, Some(about.clone()), started),
                Into::Run(finder) => (finder.run, finder.cause, finder.about.clone(), finder.started),
            };
            answers.push(Ok(Work {
                fingerprint,
                size,
                depth: u32::try_from(depth).unwrap_or(u32::MAX),
                started,
                about,
                ..blank(ids, (&rule, version, cause), run, &file, at)
            }));
        }
    }
    put_works(connection, answers.iter().flatten(), !matches!(into, Into::Run(_)), now).await?;
    Ok(answers)
}

/// Which run items go into.
pub(crate) enum Into {
    /// One of its own for each.
    Own(Cause),
    /// One for all of them, with what is known of it and its number.
    Joint(Cause, Option<String>, i64),
    /// One of its own, with what is known of it and how many rules the file came through.
    Chain(String, u32),
    /// The one of this item.
    Run(Box<Work>),
}

/// An item that nothing was done with.
pub(crate) fn blank(
    ids: &Ids,
    (rule, version, cause): (&Name, i64, Cause),
    run: i64,
    file: &FilePath,
    at: Timestamp,
) -> Work {
    Work {
        item: ids.item.fetch_add(1, Relaxed),
        run,
        rule: rule.clone(),
        version,
        kind: ItemKind::File,
        file: file.clone(),
        fingerprint: String::new(),
        size: 0,
        state: ItemState::Queued,
        branch: None,
        position: Position::Branching,
        hand: None,
        failures: 0,
        due: None,
        depth: 0,
        taken: at,
        started: at,
        cause,
        about: None,
        unclear: false,
    }
}

/// Writes items, and with `runs` the run that the first of each begins.
pub(crate) async fn put_works(
    connection: &mut SqliteConnection,
    works: impl Iterator<Item = &Work> + Clone + Send,
    runs: bool,
    now: i64,
) -> Result<(), sqlx::Error> {
    if works.clone().next().is_none() {
        return Ok(());
    }
    if runs {
        let mut runs: Vec<_> =
            works.clone().map(|w| (w.run, w.rule.as_str(), w.version, w.cause.as_str(), &w.about)).collect();
        runs.dedup_by_key(|(run, ..)| *run);
        let runs = bulk::json(&runs);
        sqlx::query_file!("queries/runs_put.sql", runs, now).execute(&mut *connection).await?;
    }
    let items: Vec<_> = works
        .clone()
        .map(|w| {
            let path = hex::encode(w.file.path.as_bytes());
            let (place, kind) = (w.file.place.as_str(), w.kind.as_str());
            (w.item, w.run, w.rule.as_str(), place, path, &w.fingerprint, w.size, w.depth, kind, w.branch, &w.hand)
        })
        .collect();
    let items = bulk::json(&items);
    sqlx::query_file!("queries/items_put.sql", items, now).execute(&mut *connection).await?;
    let files = works.filter(|w| w.kind != ItemKind::Find);
    let names: Vec<_> = files.map(|w| (w.item, w.file.path.to_string())).collect();
    over!(connection, "queries/item_names_put.sql", names);
    Ok(())
}
