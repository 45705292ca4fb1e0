//! What effects work with.

use std::{collections::HashSet, fs, path::PathBuf, sync::Arc};

use tokio::sync::Semaphore;
use wetbank_core::{FilePath, ItemState, Name, Position, RelPath, TEMPORARY_PREFIX};
use wetbank_errands::Source;
use wetbank_journal::Work;
use wetbank_places::{Folder, PlaceErrorKind};

use super::{
    aligned::left_beside,
    names::Chosen,
    outcome::{FailureKind, at},
    passes::Passes,
};
use crate::{
    Declined, EngineError, arranged::Arranged, events::Events, guarded::Guarded, keys::Keys, moorings::Moorings,
    record::Record,
};

/// Files being encrypted or decrypted at once.
const CRYPT_SLOTS: usize = 2;
/// Programs that run at once.
const PROGRAM_SLOTS: usize = 4;

/// Places, keys and folders for the effects of steps.
#[derive(Debug)]
pub(crate) struct Effects {
    pub record: Record,
    pub arranged: Arc<Arranged>,
    pub moorings: Arc<Moorings>,
    pub keys: Keys,
    pub events: Events,
    pub work: WorkFolder,
    /// Where mails lie that are to be sent.
    pub outbox: PathBuf,
    /// What no place and no database may be.
    pub guarded: Guarded,
    /// The list of programs that may be run.
    pub programs: PathBuf,
    /// Where passes of twins are asked for.
    pub passes: Passes,
    pub slots: Slots,
}

/// Our own folder, where files are made.
#[derive(Debug, Clone)]
pub(crate) struct WorkFolder {
    pub folder: Folder,
    /// Tells this data folder's temporary files from those of other services.
    pub instance: String,
}

/// Turns for what there is little of.
#[derive(Debug)]
pub(crate) struct Slots {
    /// Encrypting and decrypting keeps a processor busy: more at once would only take memory.
    pub crypt: Semaphore,
    /// Turns to run a program.
    pub program: Semaphore,
    /// Names that files of ours are about to get.
    pub names: Chosen,
}

impl Default for Slots {
    fn default() -> Self {
        let (crypt, program) = (Semaphore::new(CRYPT_SLOTS), Semaphore::new(PROGRAM_SLOTS));
        Self { crypt, program, names: Chosen::default() }
    }
}

impl WorkFolder {
    /// Removes what an item that may go on has there and is not whole; all of it if the item is at its end.
    pub fn tidy(entry: &fs::DirEntry, is_open: bool) -> std::io::Result<()> {
        let is_folder = entry.file_type()?.is_dir();
        match (is_open, is_folder) {
            (false, true) => fs::remove_dir_all(entry.path()),
            (true, true) => fs::read_dir(entry.path())?.try_for_each(|part| Self::tidy_part(&part?)),
            (false, false) => fs::remove_file(entry.path()),
            (true, false) => Self::tidy_part(entry),
        }
    }

    fn tidy_part(entry: &fs::DirEntry) -> std::io::Result<()> {
        let is_part = entry.path().extension().is_some_and(|ending| ending == "part");
        if is_part { fs::remove_file(entry.path()) } else { Ok(()) }
    }
}

impl Effects {
    /// A database with what opens it.
    pub async fn database(&self, name: &Name) -> Result<Source, EngineError> {
        let arrangement = self.arranged.now();
        let database = arrangement.databases.iter().find(|database| database.name == *name);
        let database = database.ok_or_else(|| EngineError::unknown("database", name))?.clone();
        let password = match &database.kind {
            wetbank_core::DatabaseKind::Postgres(spec) => match &spec.password {
                Some(secret) => Some(self.keys.secret(secret.as_str()).await?),
                None => None,
            },
            wetbank_core::DatabaseKind::Sqlite { file } => {
                let (guarded, file) = (self.guarded.clone(), PathBuf::from(file));
                let refused = tokio::task::spawn_blocking(move || guarded.refuses_database(&file)).await;
                if let Ok(Some(why)) = refused {
                    return Err(Declined::DatabaseUnused { name: name.clone(), why }.into());
                }
                None
            }
        };
        Ok(Source { database, password })
    }

    /// Removes an item's files from the work folder.
    pub async fn clear_work(&self, work: &Work) {
        let folder = self.work.folder.root().join(work.item.to_string());
        let cleared = match fs::symlink_metadata(&folder) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return,
            _ => tokio::task::spawn_blocking(move || fs::remove_dir_all(&folder)).await,
        };
        if let Ok(Err(error)) = cleared {
            tracing::warn!(item = work.item, %error, "its work files cannot be removed");
        }
    }

    /// Removes what an item left aside at its targets, when nothing goes on there: a person decides what becomes of
    /// it, or nothing does, and nothing of ours is to lie there. Answers whether a server may still make such a file,
    /// of a request that it has not got to yet; or the last refusal.
    pub async fn clear_target(&self, work: &Work) -> Result<bool, FailureKind> {
        // Of an attempt of which nobody knows what became, what lies aside may be all that tells.
        if work.unclear && work.state == ItemState::Held {
            return Ok(false);
        }
        let attempts = self.record.journal.attempts(work.item).await.inspect_err(|error| {
            tracing::warn!(item = work.item, %error, "what it left at its target is not known");
        })?;
        let left: HashSet<FilePath> = attempts
            .into_iter()
            .filter(|attempt| attempt.outcome != "done")
            .filter_map(|attempt| {
                let FilePath { place, path } = attempt.target?;
                // What was written under its own name may be somebody else's by now.
                let is_direct = self.moorings.get(&place).is_ok_and(|place| !place.capabilities().stages);
                (!is_direct).then(|| FilePath { place, path: self.aside(work, attempt.position, &path.parent()) })
            })
            .chain(left_beside(self, work))
            .collect();
        let is_remote = |file: &FilePath| self.moorings.get(&file.place).is_ok_and(|p| p.as_folder().is_none());
        let mut result = Ok(left.iter().any(is_remote));
        for file in left {
            if let Err(kind) = self.remove_aside(&file).await {
                tracing::warn!(%file, error = kind.said(), "a partial file could not be removed");
                result = Err(kind);
            }
        }
        result
    }

    pub(super) async fn remove_aside(&self, file: &FilePath) -> Result<(), FailureKind> {
        match self.moorings.get(&file.place)?.delete(&file.path).await {
            Err(error) if error.kind != PlaceErrorKind::NotFound => Err(error.into()),
            _ => Ok(()),
        }
    }

    /// The temporary file of a step, the same at every attempt so that a broken write is found again, and different
    /// for every service so that none touches another's.
    pub fn aside(&self, work: &Work, position: Position, folder: &RelPath) -> RelPath {
        let name = format!("{TEMPORARY_PREFIX}{}-{}-{}", self.work.instance, work.item, at(position));
        folder.join_name(name.as_bytes()).expect("a plain name")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn at_a_start_only_what_is_whole_and_of_open_items_stays() {
        let root = tempfile::tempdir().unwrap();
        for file in ["7/0-1", "7/0-2.part", "7/0-3.d/a.csv", "8/0-1", "9-0-1", "9-0-2.part", "10-0-1"] {
            let path = root.path().join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, "x").unwrap();
        }
        for entry in fs::read_dir(root.path()).unwrap() {
            let entry = entry.unwrap();
            let name = entry.file_name().to_string_lossy().into_owned();
            WorkFolder::tidy(&entry, name.starts_with('7') || name.starts_with('9')).unwrap();
        }
        let is_there = |file: &str| root.path().join(file).exists();
        assert!(["7/0-1", "7/0-3.d/a.csv", "9-0-1"].into_iter().all(is_there));
        assert!(!["7/0-2.part", "8", "9-0-2.part", "10-0-1"].into_iter().any(is_there));
    }
}
