//! What is wrong now and is no single file's fault. It is said once, seen at once, and gone by itself.

use std::collections::BTreeMap;

use jiff::Timestamp;
use parking_lot::{Mutex, MutexGuard};
use wetbank_core::{FilePath, Name};
use wetbank_places::Entry;

use crate::clock;

/// What something is wrong with.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum About {
    /// A watched folder that cannot be looked at.
    Folder(FilePathKey),
    /// A watched folder that holds what cannot be used under its name.
    Names(FilePathKey),
    /// A place without room.
    Room(Name),
}

/// A path that sorts.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct FilePathKey(Name, Vec<u8>);

/// What a look found that cannot be used under its name.
#[derive(Debug, Default)]
pub(crate) struct Misnamed {
    pub count: usize,
    /// The first of them.
    shown: Vec<String>,
}

impl Misnamed {
    /// So many are named.
    const NAMED: usize = 3;

    pub fn note(&mut self, entry: &Entry) {
        self.count += 1;
        if self.shown.len() < Self::NAMED {
            self.shown.push(format!("\"{}\"", entry.path.name_text()));
        }
    }

    /// How many and which, as in `2 files whose names cannot be used here ("con", "a:b.csv")`.
    pub fn words(&self) -> String {
        let files = if self.count == 1 { "1 file whose name" } else { &format!("{} files whose names", self.count) };
        let more = if self.count > self.shown.len() { ", …" } else { "" };
        format!("{files} cannot be used here ({}{more})", self.shown.join(", "))
    }
}

/// Something that is wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Trouble {
    pub since: Timestamp,
    pub why: String,
    pub remedy: String,
}

#[derive(Debug, Default)]
pub(crate) struct Troubles(Mutex<BTreeMap<About, Trouble>>);

impl About {
    /// The folder of a place that is watched.
    pub fn folder(folder: &FilePath) -> Self {
        Self::Folder(FilePathKey(folder.place.clone(), folder.path.as_bytes().to_vec()))
    }

    /// The names in a folder of a place that is watched.
    pub fn names(folder: &FilePath) -> Self {
        Self::Names(FilePathKey(folder.place.clone(), folder.path.as_bytes().to_vec()))
    }

    fn place(&self) -> &Name {
        match self {
            Self::Folder(FilePathKey(place, _)) | Self::Names(FilePathKey(place, _)) | Self::Room(place) => place,
        }
    }
}

impl Troubles {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<About, Trouble>> {
        self.0.lock()
    }

    /// Something is wrong; answers whether that is news.
    pub fn put(&self, about: About, why: String, remedy: &str) -> bool {
        let mut all = self.lock();
        let since = all.get(&about).map(|trouble| trouble.since);
        let trouble = Trouble { since: since.unwrap_or_else(clock::now), why, remedy: remedy.to_owned() };
        all.insert(about, trouble);
        since.is_none()
    }

    /// It is right again; answers whether that is news.
    pub fn clear(&self, about: &About) -> bool {
        self.lock().remove(about).is_some()
    }

    /// Nobody looks at a place's folders any more.
    pub fn clear_folders(&self, place: &Name) {
        self.lock().retain(|about, _| matches!(about, About::Room(_)) || about.place() != place);
    }

    /// One of them.
    pub fn get(&self, about: &About) -> Option<Trouble> {
        self.lock().get(about).cloned()
    }

    /// All of them, the oldest first.
    pub fn all(&self) -> Vec<Trouble> {
        let mut all: Vec<_> = self.lock().values().cloned().collect();
        all.sort_by_key(|trouble| trouble.since);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_trouble_is_news_once_and_its_end_is() {
        let troubles = Troubles::default();
        let about = About::folder(&FilePath::parse("office:/in").unwrap());
        assert!(troubles.put(about.clone(), "gone".to_owned(), "make it"));
        let since = troubles.all()[0].since;
        assert!(!troubles.put(about.clone(), "not readable".to_owned(), "change its rights"));
        assert_eq!((troubles.all()[0].since, troubles.all()[0].why.as_str()), (since, "not readable"));
        assert!(troubles.clear(&about) && !troubles.clear(&about));
    }

    #[test]
    fn a_place_that_nobody_watches_has_no_folders_in_trouble() {
        let troubles = Troubles::default();
        let office = Name::new("office").unwrap();
        troubles.put(About::folder(&FilePath::parse("office:/in").unwrap()), String::new(), "");
        troubles.put(About::folder(&FilePath::parse("archive:/in").unwrap()), String::new(), "");
        troubles.put(About::Room(office.clone()), String::new(), "");
        troubles.clear_folders(&office);
        assert_eq!(troubles.all().len(), 2);
    }
}
