//! An office: an engine, three folders that it has as places, and questions that are asked of it.

use std::{
    fs,
    path::PathBuf,
    time::{Duration, Instant},
};

use tempfile::TempDir;
use wetbank_core::{FilePath, ItemKind, ItemState};
use wetbank_engine::{Engine, EngineError, EngineOptions};
use wetbank_journal::{ItemRecord, RunFilter};

/// Longer than anything here may take.
const PATIENCE: Duration = Duration::from_secs(30);

const PLACES: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.archive]\nkind = \"folder\"\n\
root = \"@/archive\"\n[place.harbour]\nkind = \"folder\"\nroot = \"@/harbour\"\n";

pub struct Office {
    pub folder: TempDir,
    pub engine: Engine,
}

pub fn file(text: &str) -> FilePath {
    FilePath::parse(text).unwrap()
}

/// A rule `keep` with these branches, for files that come into the folder `in` of the office.
pub fn on_arrival(branches: &str) -> String {
    format!("[rule.keep]\nstarts = {{ arrival = {{ place = \"office\", folder = \"in\" }} }}\n{branches}\n")
}

/// A rule `keep` that a person starts, for the files of the folder `in` of the office.
pub fn by_hand(keys: &str, branches: &str) -> String {
    format!(
        "[rule.keep]\nstarts = {{ hand = {{}} }}\nfinds = [ {{ place = \"office\", folder = \"in\" }} ]\n{keys}\n{branches}\n"
    )
}

/// A branch with these steps.
pub fn branch(steps: &str) -> String {
    format!("[[rule.keep.branch]]\nsteps = [ {steps} ]")
}

impl Office {
    pub async fn new(rules: &str) -> Self {
        let folder = TempDir::new().unwrap();
        for name in ["office/in", "archive", "harbour"] {
            fs::create_dir_all(folder.path().join(name)).unwrap();
        }
        let options = EngineOptions { data: folder.path().join("data"), programs: None, new_vault_key: false };
        let office = Self { folder, engine: Engine::start(options).await.unwrap() };
        office.arrange(rules).await;
        office
    }

    /// The same office with an engine that is started anew; the one before has to be stopped.
    pub async fn started_again(self) -> Self {
        let Self { folder, engine } = self;
        drop(engine);
        let end = Instant::now() + PATIENCE;
        loop {
            let options = EngineOptions { data: folder.path().join("data"), programs: None, new_vault_key: false };
            match Engine::start(options).await {
                Ok(engine) => return Self { folder, engine },
                // What still holds the one before ends in a moment.
                Err(EngineError::Locked(_)) if Instant::now() < end => {
                    tokio::time::sleep(Duration::from_millis(5)).await
                }
                Err(error) => panic!("{error}"),
            }
        }
    }

    /// Puts these rules in the place of those that are there.
    pub async fn arrange(&self, rules: &str) {
        let book = format!("{PLACES}{rules}").replace('@', &self.folder.path().display().to_string());
        self.engine.apply_book(&[("book.toml".to_owned(), book)], true, "test").await.unwrap();
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    /// A file that is whole when it is seen.
    pub fn put(&self, below: &str, content: impl AsRef<[u8]>) {
        let (aside, path) = (self.path("aside"), self.path(below));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&aside, content).unwrap();
        fs::rename(aside, path).unwrap();
    }

    pub fn read(&self, below: &str) -> String {
        let path = self.path(below);
        fs::read_to_string(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()))
    }

    pub fn is_there(&self, below: &str) -> bool {
        self.path(below).exists()
    }

    /// What lies in a folder, in order.
    pub fn names(&self, below: &str) -> Vec<String> {
        let entries = fs::read_dir(self.path(below)).unwrap();
        let mut names: Vec<_> = entries.map(|one| one.unwrap().file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        names
    }

    /// Every file on record, and what was made of them, in the order in which they were taken.
    pub async fn items(&self) -> Vec<ItemRecord> {
        let filter = RunFilter { limit: 500, ..RunFilter::default() };
        let mut items = Vec::new();
        for run in self.engine.journal().runs(&filter).await.unwrap() {
            items.extend(self.engine.journal().items(run.id, 0, 500).await.unwrap());
        }
        items.retain(|item| item.kind != ItemKind::Find);
        items.sort_by_key(|item| item.id);
        items
    }

    /// Waits until something is true of the items on record.
    pub async fn until(&self, what: &str, is: impl Fn(&[ItemRecord]) -> bool) -> Vec<ItemRecord> {
        let end = Instant::now() + PATIENCE;
        loop {
            let items = self.items().await;
            if is(&items) {
                return items;
            }
            assert!(Instant::now() < end, "never: {what}: {items:#?}");
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }

    /// Waits until there are so many items and none of them is worked on.
    pub async fn at_rest(&self, count: usize) -> Vec<ItemRecord> {
        let rests = |item: &ItemRecord| matches!(item.state, ItemState::Done | ItemState::Held | ItemState::Skipped);
        self.until("at rest", |items| items.len() == count && items.iter().all(rests)).await
    }

    /// Waits for the only item there is.
    pub async fn only(&self) -> ItemRecord {
        self.at_rest(1).await.remove(0)
    }

    /// Starts the rule and waits until so many items are at rest.
    pub async fn run(&self, count: usize) -> Vec<ItemRecord> {
        self.engine.run_rule("keep", true).await.unwrap();
        self.at_rest(count).await
    }

    /// Takes the name of `a.csv` in the archive, so that a copy with that name fails.
    pub fn take_name(&self) {
        self.put("archive/a.csv", "somebody else's");
    }

    /// Frees it.
    pub fn free_name(&self) {
        fs::remove_file(self.path("archive/a.csv")).unwrap();
    }

    /// What was tried for an item: each step's kind and what came of it.
    pub async fn tried(&self, item: &ItemRecord) -> Vec<String> {
        let attempts = self.engine.journal().attempts(item.id).await.unwrap();
        attempts.into_iter().map(|attempt| format!("{} {}", attempt.kind, attempt.outcome)).collect()
    }
}

/// The names and states of items.
pub fn states(items: &[ItemRecord]) -> Vec<(String, ItemState)> {
    let mut states: Vec<_> = items.iter().map(|item| (item.file.path.to_string(), item.state)).collect();
    states.sort_by(|a, b| a.0.cmp(&b.0));
    states
}
