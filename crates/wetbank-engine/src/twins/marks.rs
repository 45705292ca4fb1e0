//! Whether both sides are those of the last pass: each side that a twin changes has a mark, and so has the journal.
//! A journal that was put back from an older copy does not know the mark, and another disk does not have one. Each
//! service has a mark of its own: two of them may have a twin of one name with a folder that both share.

use std::sync::Arc;

use bytes::Bytes;
use futures_util::StreamExt;
use serde::{Deserialize, Serialize};
use wetbank_core::{
    FilePath, RelPath, TEMPORARY_PREFIX,
    twin::{Counts, KEPT, Pair, Side, Stop, Twin, Way},
};
use wetbank_journal::Journal;
use wetbank_places::{Collision, Place, PlaceError, PlaceErrorKind};

use crate::EngineError;

/// Passes that are looked through for the last whole one.
const LOOKED_THROUGH: i64 = 1_000;
/// Bytes of a mark that are read at most.
const LONGEST: usize = 64;

/// What a pass notes of itself.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Planned {
    /// What was planned.
    pub counts: Counts,
    /// Files on each side.
    pub files: Pair<u64>,
    /// Both folders: with other ones nothing is known of a last pass.
    pub folders: Option<Pair<FilePath>>,
    /// What tells each folder itself from another of its name, where a place tells that.
    pub roots: Pair<Option<u64>>,
    /// What the sides are marked with from then on.
    pub mark: Option<String>,
    /// Why it was not begun.
    pub stop: Option<Stop>,
    /// Something was left out, or only what was answered was done: what it came to says nothing of the whole.
    pub is_part: bool,
    /// Items that ended without anything done, because a file was not any more as it was planned for.
    pub left: u64,
    /// Items that were held when it ended.
    pub held: u64,
}

impl Planned {
    pub fn text(&self) -> String {
        serde_json::to_string(self).expect("plain values serialise")
    }
}

/// What is known of a twin's sides before a pass.
#[derive(Debug, Clone, Default)]
pub(crate) struct Met {
    /// The last whole pass; none if they never met.
    pub last: Option<Planned>,
    /// The sides as they are now.
    pub roots: Pair<Option<u64>>,
    /// Why nobody should go on without asking.
    pub stop: Option<Stop>,
    /// What is known of the last pass cannot be relied on, or there was none.
    pub is_first: bool,
    /// What every side that the twin changes is marked with.
    pub mark: Option<String>,
    /// They were marked once, and are not all marked so any more.
    pub needs_mark: bool,
}

fn path(twin: &Twin, side: Side, instance: &str) -> RelPath {
    let below = RelPath::parse(&format!("{KEPT}/{}.{instance}.mark", twin.name)).expect("plain names");
    twin.folders.of(side).path.join(&below)
}

/// Looks at both folders themselves, for a service.
pub(crate) async fn met(
    journal: &Journal,
    instance: &str,
    twin: &Twin,
    places: &Pair<Arc<dyn Place>>,
) -> Result<Met, EngineError> {
    let (mut last, mut marks) = (None, Vec::new());
    for pass in journal.passes(&twin.name, LOOKED_THROUGH).await? {
        let planned = pass.plan.as_deref().and_then(|plan| serde_json::from_str::<Planned>(plan).ok());
        marks.extend(planned.as_ref().and_then(|planned| planned.mark.clone()));
        if pass.ended.is_some() && pass.why.is_none() {
            last = planned.filter(|planned| planned.folders.as_ref() == Some(&twin.folders));
            break;
        }
    }
    let mut met = Met { is_first: last.is_none(), last, ..Met::default() };
    let mut seen = Vec::new();
    for side in Side::BOTH {
        let place = places.of(side);
        let inode = match place.stat(&twin.folders.of(side).path).await {
            Ok(root) => root.fingerprint.inode,
            // Where nobody makes folders one without files is not told from one that is not there.
            Err(error) if error.kind == PlaceErrorKind::NotFound && !place.capabilities().folders_are_made => None,
            Err(error) => return Err(error.into()),
        };
        *met.roots.of_mut(side) = inode;
        let Some(last) = &met.last else { continue };
        let is_same_folder = inode.is_some() && inode == *last.roots.of(side);
        if twin.way.changes(side) && last.mark.is_some() {
            match read(place.as_ref(), &path(twin, side, instance)).await? {
                Some(mark) if marks.contains(&mark) => seen.push(Some(mark)),
                Some(_) => {
                    met.is_first = true;
                    seen.push(None);
                }
                None => {
                    seen.push(None);
                    match is_same_folder {
                        true => met.is_first = true,
                        false => met.stop = met.stop.or(Some(Stop::Other { side })),
                    }
                }
            }
        } else if twin.way == Way::Exact && !is_same_folder && last.roots.of(side).is_some() {
            met.stop = met.stop.or(Some(Stop::Other { side }));
        }
    }
    // A stop between two sides leaves two marks; both are known until all sides have one.
    met.needs_mark = seen.iter().any(|mark| mark.is_none() || *mark != seen[0]);
    met.mark = seen.into_iter().next().flatten().filter(|_| !met.needs_mark);
    Ok(met)
}

async fn read(place: &dyn Place, path: &RelPath) -> Result<Option<String>, PlaceError> {
    let mut content = match place.read(path, 0).await {
        Ok(content) => content,
        Err(error) if error.kind == PlaceErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error),
    };
    let mut mark = Vec::new();
    while mark.len() < LONGEST {
        match content.next().await.transpose() {
            Ok(Some(chunk)) => mark.extend_from_slice(&chunk),
            Ok(None) => break,
            // Some places tell only with the first chunk that there is nothing.
            Err(error) if error.kind == PlaceErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        }
    }
    Ok(Some(String::from_utf8_lossy(&mark).trim().to_owned()))
}

/// A mark that was never used before.
pub(crate) fn fresh() -> String {
    hex::encode(rand::random::<[u8; 16]>())
}

/// Marks each side that the twin changes.
pub(crate) async fn set(
    instance: &str,
    twin: &Twin,
    places: &Pair<Arc<dyn Place>>,
    mark: &str,
) -> Result<(), PlaceError> {
    for side in Side::BOTH.into_iter().filter(|side| twin.way.changes(*side)) {
        let place = places.of(side);
        place.make_folder(&twin.folders.of(side).path.join(&RelPath::parse(KEPT).expect("a plain name"))).await?;
        let target = path(twin, side, instance);
        // The same at every attempt, so that a broken one is written anew.
        let aside = format!("{TEMPORARY_PREFIX}{instance}-{}.part", twin.name);
        let temporary = target.parent().join_name(aside.as_bytes()).expect("a plain name");
        let mut staged = place.stage(&temporary, &target, None).await?;
        staged.write(Bytes::from(format!("{mark}\n"))).await?;
        staged.finish().await?;
        place.rename(&temporary, &target, Collision::Replace).await?;
    }
    Ok(())
}
