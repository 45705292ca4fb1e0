//! Names at a target: taken, free, lost.

use std::collections::HashSet;

use bytes::Bytes;
use futures_util::StreamExt;
use parking_lot::Mutex;
use wetbank_core::{FilePath, RelPath, Target};
use wetbank_places::{Entry, Place, PlaceError, PlaceErrorKind};

use super::{
    outcome::{Effect, FailureKind, Intent},
    reading::Source,
};

/// Numbers tried before giving up on keeping both files.
const FREE_NAMES: u32 = 1 << 24;

pub(super) async fn existing(place: &dyn Place, path: &RelPath) -> Effect<Option<Entry>> {
    match place.stat(path).await {
        Ok(entry) => Ok(Some(entry)),
        Err(e) if e.kind == PlaceErrorKind::NotFound => Ok(None),
        Err(e) => Err(e.into()),
    }
}

pub(super) fn itself(to: &FilePath) -> FailureKind {
    FailureKind::Lasting {
        code: "itself".to_owned(),
        why: format!("{to} is the file itself, so nothing would be brought anywhere"),
        remedy: "Choose another folder or name in the rule, then release. Nothing was done to the file.".to_owned(),
    }
}

pub(super) fn taken_name(to: &FilePath, taken: &Entry) -> PlaceError {
    PlaceError {
        kind: PlaceErrorKind::Exists,
        place: to.place.clone(),
        call: "write",
        path: to.path.clone(),
        detail: format!(
            "{} from {} is there",
            wetbank_core::ByteSize(taken.fingerprint.size),
            taken.fingerprint.modified_at().strftime("%F %H:%M UTC")
        ),
        secret: None,
    }
}

/// What is told when a rename failed. If the name was taken, what lies aside is of no use.
pub(super) async fn name_lost(place: &dyn Place, intent: &Intent, error: PlaceError) -> FailureKind {
    if error.kind != PlaceErrorKind::Exists {
        return error.into();
    }
    if let Err(error) = place.delete(&intent.from.path).await {
        tracing::warn!(%error, "a temporary file could not be removed");
    }
    match existing(place, &intent.to.path).await {
        Ok(Some(taken)) => taken_name(&intent.to, &taken).into(),
        _ => error.into(),
    }
}

/// Names that files of ours are about to get: no two of them try the same one at once.
#[derive(Debug, Default)]
pub(crate) struct Chosen(Mutex<HashSet<FilePath>>);

/// A name that is one file's own while this lives.
#[derive(Debug)]
pub(crate) struct Reserved<'c> {
    chosen: &'c Chosen,
    file: FilePath,
}

impl Chosen {
    fn reserve(&self, file: FilePath) -> Option<Reserved<'_>> {
        let is_new = self.0.lock().insert(file.clone());
        // Made only for the one that has it: when another goes, so would the name.
        is_new.then(|| Reserved { chosen: self, file })
    }
}

impl Drop for Reserved<'_> {
    fn drop(&mut self) {
        self.chosen.0.lock().remove(&self.file);
    }
}

impl Reserved<'_> {
    /// The name.
    pub fn path(&self) -> &RelPath {
        &self.file.path
    }
}

/// `name.csv`, `name (2).csv`, `name (3).csv`, …: one that is free, and no other file of ours is about to
/// get. Of many that are taken few are looked at.
pub(super) async fn free_name<'c>(chosen: &'c Chosen, place: &dyn Place, path: &RelPath) -> Effect<Reserved<'c>> {
    let file = |number: u32| FilePath { place: place.name().clone(), path: numbered(path, number) };
    let is_taken = async |number: u32| Ok::<_, FailureKind>(existing(place, &file(number).path).await?.is_some());
    // Twice as far each time while names are taken, then halfway back: at the end one is taken and the next free.
    let (mut taken, mut free) = (0, 1);
    while is_taken(free).await? {
        taken = free;
        free = free.saturating_mul(2);
        if free > FREE_NAMES {
            return Err(FailureKind::Lasting {
                code: "exists".to_owned(),
                why: format!("\"{path}\" and {taken} numbered names after it are taken"),
                remedy: "Clear that folder, or use a name with a date in the rule.".to_owned(),
            });
        }
    }
    while free - taken > 1 {
        let half = taken + (free - taken) / 2;
        if is_taken(half).await? { taken = half } else { free = half }
    }
    // Others of ours may be about to get it, and what they were to get may be there by now.
    loop {
        if let Some(reserved) = chosen.reserve(file(free))
            && !is_taken(free).await?
        {
            return Ok(reserved);
        }
        free += 1;
    }
}

/// The name with a number, from the second on.
pub(crate) fn numbered(path: &RelPath, number: u32) -> RelPath {
    if number < 2 {
        return path.clone();
    }
    let name = path.name();
    let dot = name.iter().rposition(|&b| b == b'.').filter(|&at| at > 0).unwrap_or(name.len());
    let mut next = name[..dot].to_vec();
    next.extend_from_slice(format!(" ({number})").as_bytes());
    next.extend_from_slice(&name[dot..]);
    path.parent().join_name(&next).expect("a name with a number is a name")
}

/// Says before a byte is sent that a target cannot have such a name.
pub(super) fn possible(target: &Target, place: &dyn Place, path: &RelPath) -> Effect<()> {
    let names = place.capabilities().names;
    match path.parts().find_map(|part| names.refuse(part)) {
        None => Ok(()),
        Some(detail) => {
            let (kind, place, path) = (PlaceErrorKind::BadName, target.place.clone(), path.clone());
            Err(PlaceError { kind, place, call: "write", path, detail, secret: None }.into())
        }
    }
}

/// Whether what lies there is what an upload of the source that broke off leaves: not longer, and each byte of it
/// either the source's or one that did not arrive.
pub(super) async fn is_part_of(source: &Source, place: &dyn Place, there: &Entry) -> Effect<bool> {
    if there.fingerprint.size > source.fingerprint.size {
        return Ok(false);
    }
    let mut left = match place.read(&there.path, 0).await {
        Ok(content) => content,
        // Who may not read it cannot tell.
        Err(error) if error.kind == PlaceErrorKind::Denied => return Ok(false),
        Err(error) => return Err(error.into()),
    };
    let mut ours = source.place.read(&source.path, 0).await?;
    let mut piece = Bytes::new();
    while let Some(chunk) = left.next().await {
        let mut chunk = chunk?;
        while !chunk.is_empty() {
            if piece.is_empty() {
                let Some(next) = ours.next().await else { return Ok(false) };
                piece = next?;
                continue;
            }
            let length = chunk.len().min(piece.len());
            let (there, here) = (chunk.split_to(length), piece.split_to(length));
            if there.iter().zip(&here).any(|(there, here)| there != here && *there != 0) {
                return Ok(false);
            }
        }
    }
    Ok(true)
}

pub(super) async fn same_content(source: &Source, place: &dyn Place, path: &RelPath, taken: &Entry) -> Effect<bool> {
    let here = source.place.stat(&source.path).await?;
    if here.fingerprint.size != taken.fingerprint.size {
        return Ok(false);
    }
    let mut sums = Vec::new();
    for mut content in [source.place.read(&source.path, 0).await?, place.read(path, 0).await?] {
        let mut hashing = wetbank_crypt::Hashing::for_ourselves();
        while let Some(chunk) = content.next().await {
            hashing.update(&chunk?).await;
        }
        sums.push(hashing.finish().blake3);
    }
    Ok(sums[0] == sums[1])
}

#[cfg(test)]
mod tests {
    use std::fs;

    use wetbank_core::Name;
    use wetbank_places::Folder;

    use super::*;

    fn scene(taken: impl IntoIterator<Item = u32>) -> (tempfile::TempDir, Folder, RelPath) {
        let root = tempfile::tempdir().unwrap();
        let path = RelPath::parse("tide.csv").unwrap();
        for number in taken {
            fs::write(root.path().join(numbered(&path, number).to_string()), "").unwrap();
        }
        let folder = Folder::new(Name::new("archive").unwrap(), root.path());
        (root, folder, path)
    }

    async fn chosen(chosen: &Chosen, place: &Folder, path: &RelPath) -> String {
        free_name(chosen, place, path).await.unwrap().path().to_string()
    }

    #[tokio::test]
    async fn the_plain_name_comes_first_and_then_numbers() {
        let names = Chosen::default();
        for (taken, expected) in [(0, "tide.csv"), (1, "tide (2).csv"), (2, "tide (3).csv"), (100, "tide (101).csv")] {
            let (_root, place, path) = scene(1..=taken);
            assert_eq!(chosen(&names, &place, &path).await, expected, "{taken} are taken");
        }
    }

    #[tokio::test]
    async fn a_name_that_somebody_is_about_to_get_is_free_for_nobody_until_that_is_over() {
        let (names, (_root, place, path)) = (Chosen::default(), scene([]));
        let mut held = Vec::new();
        for expected in ["tide.csv", "tide (2).csv", "tide (3).csv", "tide (4).csv"] {
            let one = free_name(&names, &place, &path).await.unwrap();
            assert_eq!(one.path().to_string(), expected);
            held.push(one);
        }
        held.remove(0);
        assert_eq!(chosen(&names, &place, &path).await, "tide.csv");
    }

    #[test]
    fn a_number_stands_before_the_last_ending_and_a_hidden_file_has_none() {
        let name = |text: &str| numbered(&RelPath::parse(text).unwrap(), 2).to_string();
        assert_eq!(name("in/tide.tar.gz"), "in/tide.tar (2).gz");
        assert_eq!((name("tide"), name(".tide")), ("tide (2)".to_owned(), ".tide (2)".to_owned()));
    }
}
