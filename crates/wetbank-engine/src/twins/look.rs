//! Looking at both sides of a twin, folder by folder: what differs, and what is to be done about it.

use std::{
    collections::{HashMap, HashSet},
    ffi::OsStr,
    hash::{DefaultHasher, Hash, Hasher},
    os::unix::ffi::OsStrExt,
    sync::Arc,
    time::Duration,
};

use futures_util::{StreamExt, stream::FuturesOrdered};
use jiff::Timestamp;
use wetbank_core::{
    RelPath,
    twin::{
        Choices, Counts, Customs, Lies, Line, Next, Pair, Renames, Sameness, Seen, Side, State, Twin, Walk, renamed,
    },
};
use wetbank_journal::Seal;
use wetbank_places::{Depth, EntryKind, Place, PlaceError, PlaceErrorKind, Writers};

use super::{
    differ::Differ,
    marks::{self, Met, Planned},
    roots::Roots,
    spool::{Plan, Spool},
};
use crate::{Declined, EngineError, effects::Effects};

/// How long a file is taken to be still written where nobody can tell.
const SETTLE: Duration = Duration::from_secs(5);

/// Files looked at at once.
const AT_ONCE: usize = 8;
/// Folders that are sealed at once.
const SEALS: usize = 500;
/// What is sealed by another version of the service is looked at anew.
const VERSION: &str = env!("CARGO_PKG_VERSION");

/// What a look at both sides came to.
#[derive(Debug)]
pub(crate) struct Looked {
    /// What is to be done.
    plan: Plan,
    /// Lines that are no more, because they are half of a rename; and what each of the others became.
    renames: (HashSet<usize>, HashMap<usize, Line>),
    /// What it comes to.
    pub planned: Planned,
    /// Whether both sides meet for the first time.
    pub is_first: bool,
    /// The sides have to be marked, whatever is to be done.
    pub needs_mark: bool,
    /// What is left out this time.
    without: Choices,
}

/// What a place makes of names and times.
fn customs(place: &dyn Place) -> Customs {
    let can = place.capabilities();
    Customs {
        grain: if can.fine_times { 1 } else { 1_000_000_000 },
        // Between servers each goes by a clock of its own.
        keeps_times: can.sets_times && place.as_folder().is_some(),
        tells_case: can.tells_case,
        names: can.names,
        folders_are_made: can.folders_are_made,
    }
}

/// Looks at both sides. Nothing is touched.
pub(crate) async fn look(
    (effects, differ): (&Effects, &Differ),
    twin: &Twin,
    choices: &Choices,
    now: Timestamp,
) -> Result<Looked, EngineError> {
    let journal = &effects.record.journal;
    let places = places(effects, twin)?;
    let Met { roots, stop, is_first, mark, needs_mark, .. } =
        marks::met(journal, &effects.work.instance, twin, &places).await?;
    // That it is another folder than last time was seen: then they meet for the first time.
    let is_first = is_first || stop.is_some_and(|stop| choices.allows(&stop));
    let stop = stop.filter(|stop| !choices.allows(stop));
    let terms = twin.terms(places.as_ref().map(|place| customs(place.as_ref())), is_first, now);
    let own = Roots::of(twin, &places).await;
    let mut spool = Spool::new(effects.work.folder.root(), &twin.name).await?;
    // What has to be read to be compared, or was never alike, is not told by its lists.
    let by = (terms.same == Sameness::SizeAndTime && !is_first).then(|| format!("{VERSION} {twin:?}"));
    let mut seals = Vec::new();
    let (mut walk, mut renames) = (Walk::new(&terms), Renames::default());
    // Files are looked at by several at once, and their lines stay in order.
    let mut weighed = FuturesOrdered::new();
    let weigh = async |line: Line| -> Result<Line, EngineError> {
        let line = settled(twin, &places, choices.answered(&terms, line), now).await?;
        Ok(differ.compared(twin, places.as_ref().map(|place| place.as_ref()), line).await?)
    };
    loop {
        match walk.next() {
            Next::End => break,
            Next::Do(line) => {
                weighed.push_back(weigh(*line));
                if weighed.len() >= AT_ONCE
                    && let Some(line) = weighed.next().await.transpose()?
                {
                    renames.see(spool.lines, &line);
                    spool.add(&line).await?;
                }
            }
            Next::Look(folder) => {
                let (looks, roots) = (!folder.at.near.is_root(), &own);
                let side = |side: Side| {
                    let (place, root) = (places.of(side).clone(), &twin.folders.of(side).path);
                    let (at, is_there) = (root.join(folder.at.of(side)), *folder.is_there.of(side));
                    async move {
                        if !is_there {
                            return Ok(Listed::default());
                        }
                        if looks {
                            roots.check(place.as_ref(), &at).await?;
                        }
                        Ok::<_, EngineError>(list(place.as_ref(), &at, terms.same).await?)
                    }
                };
                let at = &folder.at.near;
                let can_be_sealed = by.is_some() && walk.is_plain();
                let seal = async { if can_be_sealed { journal.twin_seal(&twin.name, at).await } else { Ok(None) } };
                let (near, far, seal) = tokio::join!(side(Side::Near), side(Side::Far), seal);
                let listed = Pair { near: near?, far: far? };
                let state = by.as_ref().map(|by| state(by, &listed)).unwrap_or_default();
                if let Some(seal) = seal?.filter(|seal| seal.state == state) {
                    walk.unchanged(listed.near.folders(), seal.files);
                    continue;
                }
                let before = walk.files();
                let has_same_folders = listed.near.folders() == listed.far.folders();
                let known = journal.twin_known(&twin.name, at).await?;
                let acts = walk.told(listed.map(|listed| listed.seen), known);
                if can_be_sealed && has_same_folders && !acts {
                    let now = walk.files();
                    let files = Pair { near: now.near - before.near, far: now.far - before.far };
                    seals.push((at.clone(), Seal { state, files }));
                }
                if seals.len() >= SEALS {
                    journal.seal_twin(&twin.name, std::mem::take(&mut seals)).await?;
                }
            }
        }
    }
    while let Some(line) = weighed.next().await.transpose()? {
        renames.see(spool.lines, &line);
        spool.add(&line).await?;
    }
    if !seals.is_empty() {
        journal.seal_twin(&twin.name, seals).await?;
    }
    let files = walk.files();
    let plan = spool.finish().await?;
    let renames = found(&plan, renames.pairs()).await?;
    let is_part = choices.only_answered || !choices.without.is_empty();
    let folders = Some(twin.folders.clone());
    let planned = Planned { counts: Counts::default(), files, folders, roots, mark, stop, is_part, left: 0, held: 0 };
    let mut looked = Looked { plan, renames, planned, is_first, needs_mark, without: choices.clone() };
    let (mut counts, mut reading) = (Counts::default(), looked.read().await?);
    while let Some(line) = reading.next().await? {
        counts.add(&line);
    }
    looked.planned.counts = counts;
    let were = if is_first { 0 } else { journal.twin_files(&twin.name).await? };
    let brake = twin.brake.stops(&counts, files, were).filter(|stop| !choices.allows(stop));
    looked.planned.stop = stop.or(brake);
    Ok(looked)
}

/// Both places of a twin.
pub(crate) fn places(effects: &Effects, twin: &Twin) -> Result<Pair<Arc<dyn Place>>, EngineError> {
    let places = Pair { near: place(effects, twin, Side::Near)?, far: place(effects, twin, Side::Far)? };
    let on_disk = |side: Side| {
        let root = places.of(side).as_folder()?.root().to_owned();
        let path = root.join(OsStr::from_bytes(twin.folders.of(side).path.as_bytes()));
        // One that is not there is told of when it is looked at.
        path.canonicalize().ok()
    };
    if let (Some(near), Some(far)) = (on_disk(Side::Near), on_disk(Side::Far))
        && (near.starts_with(&far) || far.starts_with(&near))
    {
        return Err(Declined::Nested(twin.folders.near.clone(), twin.folders.far.clone()).into());
    }
    Ok(places)
}

fn place(effects: &Effects, twin: &Twin, side: Side) -> Result<Arc<dyn Place>, EngineError> {
    Ok(effects.moorings.get(&twin.folders.of(side).place)?)
}

/// The line, or that it waits: the file that would travel may still be written. A folder of this machine tells who has
/// it open; elsewhere, and where the twin says how long, it must be unchanged for a while.
async fn settled(twin: &Twin, places: &Pair<Arc<dyn Place>>, line: Line, now: Timestamp) -> Result<Line, EngineError> {
    for side in line.sources() {
        let Some(had) = line.had.of(side) else { continue };
        let is_busy = match (twin.settle, places.of(side).as_folder()) {
            (None, Some(folder)) => {
                let (_, writers) = match folder.look(&twin.file(side, line.at.of(side)).path).await {
                    Err(error) if error.kind == PlaceErrorKind::NotFound => continue,
                    looked => looked?,
                };
                writers == Writers::Some
            }
            (settle, _) => {
                let settle = i64::try_from(settle.unwrap_or(SETTLE).as_nanos()).unwrap_or(i64::MAX);
                let now = i64::try_from(now.as_nanosecond()).unwrap_or(i64::MAX);
                // A clock that goes ahead tells a time to come: that says nothing of when it was.
                (now.saturating_sub(settle)..now.saturating_add(settle)).contains(&had.print.modified)
            }
        };
        if is_busy {
            return Ok(line.waits_for(side));
        }
    }
    Ok(line)
}

/// Reads the two halves of each rename again and makes one line of them.
async fn found(plan: &Plan, pairs: Vec<(usize, usize)>) -> Result<(HashSet<usize>, HashMap<usize, Line>), EngineError> {
    let (mut gone, mut became) = (HashSet::new(), HashMap::new());
    if pairs.is_empty() {
        return Ok((gone, became));
    }
    let wanted: HashSet<usize> = pairs.iter().flat_map(|(deleted, made)| [*deleted, *made]).collect();
    let (mut halves, mut reader, mut number) = (HashMap::new(), plan.read().await?, 0);
    while let Some(line) = reader.next().await? {
        if wanted.contains(&number) {
            halves.insert(number, line);
        }
        number += 1;
    }
    for (deleted, made) in pairs {
        let (Some(old), Some(new)) = (halves.get(&deleted), halves.get(&made)) else { continue };
        if let Some(line) = renamed(old, new) {
            gone.insert(deleted);
            became.insert(made, line);
        }
    }
    Ok((gone, became))
}

/// What lies in a folder. An error says that nobody knows: what came before it is of no use, because what is missing
/// would look as if it were gone.
async fn list(place: &dyn Place, folder: &RelPath, same: Sameness) -> Result<Listed, PlaceError> {
    let (mut seen, mut digest) = (Vec::new(), [0_u64; 2]);
    let mut listing = place.list(folder, Depth::One);
    loop {
        let entry = match listing.next().await {
            None => break,
            // Where nobody makes folders one without files is not told from one that is not there.
            Some(Err(error)) if error.kind == PlaceErrorKind::NotFound && !place.capabilities().folders_are_made => {
                break;
            }
            Some(entry) => entry?,
        };
        if entry.path.is_temporary() {
            continue;
        }
        let lies = match entry.kind {
            EntryKind::File => {
                let sum = match same {
                    Sameness::SizeAndTime => None,
                    Sameness::Content => Some(sum(place, &entry.path).await?),
                };
                Lies::File(State { sum, print: entry.fingerprint })
            }
            EntryKind::Folder => Lies::Folder,
            EntryKind::Link | EntryKind::Other | EntryKind::Misnamed => Lies::Neither,
        };
        let one = Seen { name: entry.path.name().to_vec(), lies };
        // In whatever order they come.
        for (salt, sum) in digest.iter_mut().enumerate() {
            let mut hasher = DefaultHasher::new();
            salt.hash(&mut hasher);
            one.name.hash(&mut hasher);
            match &one.lies {
                Lies::File(state) => {
                    let print = &state.print;
                    (0, print.size, print.modified, print.inode, &print.tag).hash(&mut hasher);
                }
                Lies::Folder => 1.hash(&mut hasher),
                Lies::Neither => 2.hash(&mut hasher),
            }
            *sum = sum.wrapping_add(hasher.finish());
        }
        seen.push(one);
    }
    Ok(Listed { seen, digest })
}

/// What a folder lists on one side.
#[derive(Debug, Default)]
struct Listed {
    seen: Vec<Seen>,
    /// What tells it from any other list: twice 64 bits that nobody comes upon by chance.
    digest: [u64; 2],
}

impl Listed {
    /// The names of the folders in it, in their order.
    fn folders(&self) -> Vec<Vec<u8>> {
        let folders = self.seen.iter().filter(|one| one.lies == Lies::Folder);
        let mut names: Vec<_> = folders.map(|one| one.name.clone()).collect();
        names.sort_unstable();
        names
    }
}

/// What both sides list, and by what they are looked at.
fn state(by: &str, listed: &Pair<Listed>) -> Vec<u8> {
    let mut hasher = DefaultHasher::new();
    by.hash(&mut hasher);
    let parts = [hasher.finish()].into_iter().chain(listed.near.digest).chain(listed.far.digest);
    parts.flat_map(u64::to_le_bytes).collect()
}

/// The checksum of a file's content.
pub(super) async fn sum(place: &dyn Place, path: &RelPath) -> Result<[u8; 32], PlaceError> {
    let mut content = place.read(path, 0).await?;
    let mut hashing = wetbank_crypt::Hashing::for_ourselves();
    while let Some(chunk) = content.next().await.transpose()? {
        hashing.update(&chunk).await;
    }
    let mut sum = [0; 32];
    let text = hashing.finish().blake3;
    hex::decode_to_slice(&text, &mut sum).expect("a checksum in hexadecimal digits");
    Ok(sum)
}

impl Looked {
    /// Goes through the plan from its beginning, renames found.
    pub async fn read(&self) -> Result<Reading<'_>, EngineError> {
        Ok(Reading { looked: self, reader: self.plan.read().await?, number: 0 })
    }
}

/// The lines of a plan.
pub(crate) struct Reading<'l> {
    looked: &'l Looked,
    reader: super::spool::Reader,
    number: usize,
}

impl Reading<'_> {
    /// The next line.
    pub async fn next(&mut self) -> Result<Option<Line>, EngineError> {
        let (gone, became) = &self.looked.renames;
        loop {
            let Some(line) = self.reader.next().await? else { return Ok(None) };
            let number = self.number;
            self.number += 1;
            if gone.contains(&number) {
                continue;
            }
            let line = became.get(&number).cloned().unwrap_or(line);
            if !self.looked.without.leaves_out(&line) {
                return Ok(Some(line));
            }
        }
    }
}
