//! What both sides of a twin had after its last pass.

use sqlx::SqliteConnection;
use wetbank_core::{
    Name, RelPath,
    twin::{Known, Pair, State, Was},
};

use crate::{Journal, JournalError, bulk::over};

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
                Box::pin(async move { put_notes(connection, &twin, &notes.iter().collect::<Vec<_>>()).await })
            })
            .await
    }
}

/// Writes down what is known of a twin from now on, in the order told.
pub(crate) async fn put_notes(
    connection: &mut SqliteConnection,
    twin: &Name,
    notes: &[&TwinNote],
) -> Result<(), sqlx::Error> {
    let mut rows: Vec<Row> = Vec::new();
    // What is known of a folder from now on is not what it was sealed by.
    let folder_of = |note: &TwinNote| match note {
        TwinNote::Known { folder, .. } => hex::encode(folder.as_bytes()),
        TwinNote::Gone(path) => hex::encode(path.parent().as_bytes()),
    };
    let mut broken: Vec<_> = notes.iter().map(|note| (twin.to_string(), folder_of(note))).collect();
    broken.dedup();
    over!(connection, "queries/twin_seal_break.sql", broken);
    for note in notes {
        match note {
            TwinNote::Known { folder, known } => rows.push(row(twin, folder, known)),
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
}
