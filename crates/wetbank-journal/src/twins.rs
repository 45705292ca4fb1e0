//! What both sides of a twin had after its last pass, and its passes.

use std::{collections::HashSet, sync::atomic::Ordering::Relaxed};

use jiff::Timestamp;
use wetbank_core::{
    Cause, FilePath, ItemState, Name, Position, RelPath,
    twin::{Known, Pair, State, Was},
};

use crate::{
    Journal, JournalError, Work,
    bulk::over,
    intake::{blank, put_works},
    records,
};

/// What is noted of a twin's path from now on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TwinNote {
    /// This is known of a name in a folder of the near side.
    Known {
        /// The folder.
        folder: RelPath,
        /// What is known.
        known: Box<Known>,
    },
    /// Nothing is at this path of the near side any more, nor below it.
    Gone(RelPath),
}

/// An item that a plan makes: which branch does what to it is known beforehand.
#[derive(Debug, Clone)]
pub struct PlannedItem {
    /// The file.
    pub file: FilePath,
    /// Its state.
    pub fingerprint: String,
    /// Its size in bytes.
    pub size: u64,
    /// The branch.
    pub branch: usize,
    /// What it has in hand, as text.
    pub hand: String,
}

/// A pass of a twin, on record.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct PassRecord {
    pub id: i64,
    pub began: Timestamp,
    pub ended: Option<Timestamp>,
    /// The run that carries it out.
    pub run: Option<i64>,
    /// What the plan came to, as JSON.
    pub plan: Option<String>,
    /// Why it was not begun or broke off.
    pub why: Option<String>,
}

fn known(row: (Vec<u8>, Option<Vec<u8>>, &str, Option<&str>)) -> Result<Known, JournalError> {
    let (near, far, was, states) = row;
    let was = match (was, states) {
        ("folder", _) => Was::Folder,
        ("asked", _) => Was::Asked,
        (_, states) => {
            let states: Pair<State> = serde_json::from_str(states.unwrap_or_default())
                .map_err(|error| JournalError::from(sqlx::Error::Decode(Box::new(error))))?;
            Was::File(states)
        }
    };
    let far = far.unwrap_or_else(|| near.clone());
    Ok(Known { name: Pair { near, far }, was })
}

/// A row of what is known, as JSON.
type Row = (String, String, String, Option<String>, &'static str, Option<String>);

fn row(twin: &Name, folder: &RelPath, known: &Known) -> Row {
    let Known { name, was } = known;
    let far = (name.far != name.near).then(|| hex::encode(&name.far));
    let (was, states) = match was {
        Was::Folder => ("folder", None),
        Was::Asked => ("asked", None),
        Was::File(states) => ("file", Some(serde_json::to_string(states).expect("plain values serialise"))),
    };
    (twin.to_string(), hex::encode(folder.as_bytes()), hex::encode(&name.near), far, was, states)
}

/// What a folder of a twin listed on both sides when nothing was to be done in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seal {
    /// What tells both lists, and by what they were looked at, from any other.
    pub state: Vec<u8>,
    /// Files of each side that count.
    pub files: Pair<u64>,
}

impl Journal {
    /// What a folder of a twin listed when nothing was to be done in it, if that is known.
    pub async fn twin_seal(&self, twin: &Name, folder: &RelPath) -> Result<Option<Seal>, JournalError> {
        let (twin, folder) = (twin.as_str(), folder.as_bytes());
        let row = sqlx::query_file!("queries/twin_seal_get.sql", twin, folder).fetch_optional(&self.read).await?;
        Ok(row.map(|row| {
            let files = Pair { near: row.near.cast_unsigned(), far: row.far.cast_unsigned() };
            Seal { state: row.state, files }
        }))
    }

    /// Notes folders of a twin in which nothing is to be done, by what they list.
    pub async fn seal_twin(&self, twin: &Name, seals: Vec<(RelPath, Seal)>) -> Result<(), JournalError> {
        let twin = twin.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let row = |(folder, seal): &(RelPath, Seal)| {
                        let (folder, state) = (hex::encode(folder.as_bytes()), hex::encode(&seal.state));
                        (twin.to_string(), folder, state, seal.files.near, seal.files.far)
                    };
                    let rows: Vec<_> = seals.iter().map(row).collect();
                    over!(connection, "queries/twin_seal_put.sql", rows);
                    Ok(())
                })
            })
            .await
    }

    /// What is known of the names in a folder of a twin's near side.
    pub async fn twin_known(&self, twin: &Name, folder: &RelPath) -> Result<Vec<Known>, JournalError> {
        let (twin, folder) = (twin.as_str(), folder.as_bytes());
        let rows = sqlx::query_file!("queries/twin_known.sql", twin, folder).fetch_all(&self.read).await?;
        rows.into_iter().map(|row| known((row.name, row.far, &row.was, row.states.as_deref()))).collect()
    }

    /// How many files both sides of a twin had after its last pass.
    pub async fn twin_files(&self, twin: &Name) -> Result<u64, JournalError> {
        let count = sqlx::query_file_scalar!("queries/twin_files.sql", twin.as_str()).fetch_one(&self.read).await?;
        Ok(count.cast_unsigned())
    }

    /// Notes what is known of a twin from now on, in the order told.
    pub async fn note_twin(&self, twin: &Name, notes: Vec<TwinNote>) -> Result<(), JournalError> {
        let twin = twin.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let mut rows: Vec<Row> = Vec::with_capacity(notes.len());
                    // What is known of a folder from now on is not what it was sealed by.
                    let folder_of = |note: &TwinNote| match note {
                        TwinNote::Known { folder, .. } => hex::encode(folder.as_bytes()),
                        TwinNote::Gone(path) => hex::encode(path.parent().as_bytes()),
                    };
                    let mut broken: Vec<_> = notes.iter().map(|note| (twin.to_string(), folder_of(note))).collect();
                    broken.dedup();
                    over!(connection, "queries/twin_seal_break.sql", broken);
                    for note in &notes {
                        match note {
                            TwinNote::Known { folder, known } => rows.push(row(&twin, folder, known)),
                            TwinNote::Gone(path) => {
                                over!(connection, "queries/twin_known_put.sql", rows);
                                rows.clear();
                                let (name, folder, at) = (twin.as_str(), path.parent(), path.as_bytes());
                                let (folder, file) = (folder.as_bytes(), path.name());
                                let gone = sqlx::query_file!("queries/twin_known_gone.sql", name, folder, file);
                                gone.execute(&mut *connection).await?;
                                // A folder's own path, and every path below it.
                                let (from, to) = ([at, b"/"].concat(), [at, b"0"].concat());
                                let below = sqlx::query_file!("queries/twin_known_below.sql", name, at, from, to);
                                below.execute(&mut *connection).await?;
                                let seals = sqlx::query_file!("queries/twin_seal_below.sql", name, at, from, to);
                                seals.execute(&mut *connection).await?;
                            }
                        }
                    }
                    over!(connection, "queries/twin_known_put.sql", rows);
                    Ok(())
                })
            })
            .await
    }

    /// Queues planned items as one run, or as further ones of the run of this number.
    pub async fn take_planned(
        &self,
        (rule, version, cause): (&Name, i64, Cause),
        run: Option<i64>,
        items: Vec<PlannedItem>,
        at: Timestamp,
    ) -> Result<Vec<Work>, JournalError> {
        let (ids, rule) = (self.ids.clone(), rule.clone());
        let (number, is_new) = (run.unwrap_or_else(|| ids.run.fetch_add(1, Relaxed)), run.is_none());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let work = |item: PlannedItem| Work {
                        fingerprint: item.fingerprint,
                        size: item.size,
                        branch: Some(item.branch),
                        position: Position::Step(0),
                        hand: Some(item.hand),
                        ..blank(&ids, (&rule, version, cause), number, &item.file, at)
                    };
                    let works: Vec<Work> = items.into_iter().map(work).collect();
                    put_works(connection, works.iter(), is_new, at.as_millisecond()).await?;
                    Ok(works)
                })
            })
            .await
    }

    /// Begins a pass. Answers its number.
    pub async fn begin_pass(&self, twin: &Name, at: Timestamp) -> Result<i64, JournalError> {
        let twin = twin.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (twin, at) = (twin.as_str(), at.as_millisecond());
                    sqlx::query_file_scalar!("queries/twin_pass_begin.sql", twin, at).fetch_one(connection).await
                })
            })
            .await
    }

    /// What a pass came to.
    pub async fn set_pass(&self, pass: PassRecord) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let ended = pass.ended.map(|at| at.as_millisecond());
                    let PassRecord { id, plan, run, why, .. } = pass;
                    let set = sqlx::query_file!("queries/twin_pass_planned.sql", id, plan, run, why, ended);
                    set.execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// The last passes of a twin, newest first.
    pub async fn passes(&self, twin: &Name, limit: i64) -> Result<Vec<PassRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/twin_pass_last.sql", twin.as_str(), limit).fetch_all(&self.read).await?;
        let pass = |id, began, ended: Option<i64>, run, plan, why| PassRecord {
            id,
            began: records::time(began),
            ended: ended.map(records::time),
            run,
            plan,
            why,
        };
        Ok(rows.into_iter().map(|row| pass(row.id, row.began, row.ended, row.run, row.plan, row.why)).collect())
    }

    /// The last pass came to the same once more.
    pub async fn pass_again(&self, id: i64, ended: Timestamp, plan: Option<String>) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let ended = ended.as_millisecond();
                    sqlx::query_file!("queries/twin_pass_again.sql", id, ended, plan).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Held items of a branch of a rule, each with why.
    pub async fn holds_of_branch(&self, rule: &Name, branch: usize) -> Result<Vec<(i64, String)>, JournalError> {
        let (rule, branch) = (rule.as_str(), i64::try_from(branch).unwrap_or(i64::MAX));
        let rows = sqlx::query_file!("queries/twin_questions.sql", rule, branch).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| (row.item, row.why)).collect())
    }

    /// Files of a rule's items that wait for a person.
    pub async fn files_held(&self, rule: &Name) -> Result<HashSet<FilePath>, JournalError> {
        let rows = sqlx::query_file!("queries/twin_held.sql", rule.as_str()).fetch_all(&self.read).await?;
        rows.into_iter().map(|row| Ok(records::file(&row.place, &row.path)?)).collect()
    }

    /// How many items of a run are in a state.
    pub async fn items_in(&self, run: i64, state: ItemState) -> Result<u64, JournalError> {
        let rows = sqlx::query_file!("queries/twin_run_states.sql", run).fetch_all(&self.read).await?;
        let count = rows.iter().find(|row| row.state == state.as_str()).map_or(0, |row| row.count);
        Ok(count.cast_unsigned())
    }
}
