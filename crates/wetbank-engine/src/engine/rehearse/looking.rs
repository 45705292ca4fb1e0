//! Looking at where files would come to lie. A rehearsal has no other hold on a place: it can look, and nothing else.

use std::{collections::HashMap, sync::Arc, time::Duration};

use futures_util::{StreamExt, stream};
use wetbank_core::{ByteSize, Coming, FilePath, IfExists, RelPath};
use wetbank_places::{Depth, Entry, EntryKind, EntryStream, Place, PlaceError, PlaceErrorKind};

use super::{PlayedFile, names::then};
use crate::Arrangement;

/// Targets that are looked at, all files together.
const MOST: usize = 400;
/// Looks at once.
const AT_ONCE: usize = 8;
/// All looks together.
const WITHIN: Duration = Duration::from_secs(10);
/// Numbered names that are tried.
const NUMBERS: u32 = 50;

/// A place that can be looked at, and no more.
pub(super) struct OnlyLooking(Arc<dyn Place>);

impl OnlyLooking {
    pub fn at(place: Arc<dyn Place>) -> Self {
        Self(place)
    }

    pub async fn stat(&self, path: &RelPath) -> Result<Entry, PlaceError> {
        self.0.stat(path).await
    }

    pub fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        self.0.list(folder, depth)
    }

    /// Why no file can have this path there.
    fn refuses(&self, path: &RelPath) -> Option<String> {
        let names = self.0.capabilities().names;
        path.parts().find_map(|part| names.refuse(part))
    }

    fn fitted(&self, path: &RelPath) -> Option<RelPath> {
        path.parent().join_name(&self.0.capabilities().names.fit(path.name())).ok()
    }

    async fn there(&self, path: &RelPath) -> Result<Option<Entry>, PlaceError> {
        match self.0.stat(path).await {
            Ok(entry) => Ok(Some(entry)),
            Err(error) if error.kind == PlaceErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }
}

/// Looks at every target of these files, and notes with each step what is there.
pub(super) async fn look(arrangement: &Arrangement, files: &mut [PlayedFile]) {
    let mut wanted: HashMap<FilePath, Coming> = HashMap::new();
    for step in files.iter().flat_map(|file| &file.after.steps).filter(|step| step.left_out.is_none()) {
        if let Some(coming) = &step.comes
            && wanted.len() < MOST
        {
            wanted.entry(coming.at.clone()).or_insert_with(|| coming.clone());
        }
    }
    let looks = stream::iter(wanted.into_values()).map(|coming| async move {
        let found = match arrangement.place(&coming.at.place) {
            Ok(place) => found(&OnlyLooking(place), &coming).await,
            Err(error) => Err(error.to_string()),
        };
        (coming.at, found.unwrap_or_else(|why| format!("what is there is not known: {why}")))
    });
    let mut looks = looks.buffer_unordered(AT_ONCE);
    let mut seen: HashMap<FilePath, String> = HashMap::new();
    let all = async {
        while let Some((at, words)) = looks.next().await {
            seen.insert(at, words);
        }
    };
    // What does not answer in time is not told, and the rest is.
    let is_late = tokio::time::timeout(WITHIN, all).await.is_err();
    let unseen = is_late.then(|| "what is there is not known: the place did not answer in time".to_owned());
    for file in files {
        let words = |coming: &Coming| seen.get(&coming.at).cloned().or_else(|| unseen.clone());
        let steps = file.after.steps.iter().zip(std::mem::take(&mut file.found));
        file.found = steps
            .map(|(step, told)| match (step.comes.as_ref().and_then(words), told) {
                (Some(there), Some(told)) => Some(format!("{there}; {told}")),
                (there, told) => there.or(told),
            })
            .collect();
    }
}

/// What is at a target, and what would be done about it.
async fn found(place: &OnlyLooking, coming: &Coming) -> Result<String, String> {
    let mut path = coming.at.path.clone();
    if let Some(why) = place.refuses(&path) {
        match coming.fits.then(|| place.fitted(&path)).flatten() {
            Some(fitted) => path = fitted,
            None => return Ok(format!("no file can be called that there ({why}): it would wait for a person")),
        }
    }
    let named = if path == coming.at.path { String::new() } else { format!("named {} there; ", path.name_text()) };
    let told = |error: PlaceError| error.to_string();
    if coming.is_folder {
        return Ok(match place.there(&path).await.map_err(told)? {
            Some(entry) if entry.kind == EntryKind::Folder => "the folder is there already".to_owned(),
            Some(_) => "a file has that name: it would wait for a person".to_owned(),
            None => "the folder would be made".to_owned(),
        });
    }
    let folder = path.parent();
    if !folder.is_root() && place.there(&folder).await.map_err(told)?.is_none() {
        return Ok(format!("{named}the folder {folder} would be made"));
    }
    let Some(taken) = place.there(&path).await.map_err(told)? else {
        return Ok(format!("{named}the name is free"));
    };
    let of = ByteSize(taken.fingerprint.size);
    let at = taken.fingerprint.modified_at().strftime("%F %H:%M UTC");
    let taken = format!("{named}the name is taken ({of} from {at})");
    let named = match coming.exists {
        IfExists::KeepBoth => free(place, &path).await.map_err(told)?,
        _ => None,
    };
    Ok(match named {
        Some(name) => format!("{taken}: it would be named {name}"),
        None => format!("{taken}: {}", then(coming.exists)),
    })
}

/// The next numbered name that is free.
async fn free(place: &OnlyLooking, path: &RelPath) -> Result<Option<String>, PlaceError> {
    for number in 2..NUMBERS {
        let next = crate::effects::numbered(path, number);
        if place.there(&next).await?.is_none() {
            return Ok(Some(next.name_text()));
        }
    }
    Ok(None)
}
