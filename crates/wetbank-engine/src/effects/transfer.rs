//! Bringing a file's content into a temporary file of another place.

use std::sync::{
    Arc,
    atomic::{AtomicU64, Ordering},
};

use futures_util::StreamExt;
use tokio_util::sync::CancellationToken;
use wetbank_core::RelPath;
use wetbank_crypt::{Digests, Hashing};
use wetbank_places::{Ahead, Entry, Place, PlaceError, PlaceErrorKind};

use super::reading::Source;

/// How much of a partial file's end is compared before writing goes on behind it.
const COMPARED: u64 = 64 << 10;
/// The end of a partial file that is not trusted: a server may have stored requests in flight in
/// any order, so there may be gaps among the last of them.
const UNSURE: u64 = 8 << 20;
/// A smaller file is sent anew: that is as fast as looking for a part of it.
const WORTH_RESUMING: u64 = 1 << 20;

/// What a transfer brought.
pub(crate) struct Staging {
    /// The temporary file.
    pub entry: Entry,
    /// Checksums of the content.
    pub digests: Digests,
    /// The source as it was after reading.
    pub source: Entry,
}

fn failed(source: &Source, kind: PlaceErrorKind, detail: &str) -> PlaceError {
    let (place, path) = (source.place.name().clone(), source.path.clone());
    PlaceError { kind, place, call: "read", path, detail: detail.to_owned(), secret: None }
}

/// Copies the source into `temporary`, which is to become `target`, at `place`, going on with a partial one where its end is
/// the same. The source must still be in the state that was decided upon when all of it was
/// read: what arrives is one state of the file, never a mixture.
pub(crate) async fn transfer(
    source: &Source,
    place: &Arc<dyn Place>,
    temporary: &RelPath,
    target: &RelPath,
    sha256: bool,
    done: Arc<AtomicU64>,
    cancel: &CancellationToken,
) -> Result<Staging, PlaceError> {
    let is_limited = source.place.is_limited() || place.is_limited();
    let staging = match (source.place.as_folder(), place.as_folder()) {
        (Some(from), Some(to)) if !is_limited => {
            let copied = to.copy_in(from, &source.path, temporary, sha256, done, cancel.clone()).await?;
            Staging { entry: copied.entry, digests: copied.digests, source: copied.source }
        }
        // Wherever it waits, for the one server, the other, or its turn within a rate.
        _ => tokio::select! {
            biased;
            streamed = stream(source, place, temporary, target, Hashing::with_sha256(sha256), &done) => streamed?,
            () = cancel.cancelled() => {
                return Err(failed(source, PlaceErrorKind::Interrupted, "the service is stopping"));
            }
        },
    };
    if staging.source.fingerprint != source.fingerprint {
        return Err(failed(source, PlaceErrorKind::Busy, "it changed while it was read"));
    }
    if staging.entry.fingerprint.size != source.fingerprint.size {
        return Err(PlaceError {
            kind: PlaceErrorKind::Interrupted,
            place: place.name().clone(),
            call: "write",
            path: temporary.clone(),
            detail: format!("{} of {} bytes are there", staging.entry.fingerprint.size, source.fingerprint.size),
            secret: None,
        });
    }
    Ok(staging)
}

async fn stream(
    source: &Source,
    place: &Arc<dyn Place>,
    temporary: &RelPath,
    target: &RelPath,
    mut hashing: Hashing,
    done: &AtomicU64,
) -> Result<Staging, PlaceError> {
    let kept = verified_part(source, place, temporary).await?;
    let mut staged = place.stage(temporary, target, kept).await?;
    let kept = kept.unwrap_or(0);
    let mut ahead = Ahead::open(source.place.as_ref(), &source.path).await?;
    let mut at = 0;
    while let Some(chunk) = ahead.next().await? {
        hashing.update(&chunk).await;
        let end = at + chunk.len() as u64;
        if end > kept {
            let new = usize::try_from(kept.saturating_sub(at)).unwrap_or(0);
            staged.write(chunk.slice(new..)).await?;
        }
        at = end;
        done.store(at, Ordering::Relaxed);
    }
    let entry = staged.finish().await?;
    let digests = hashing.finish();
    let after = source.place.stat(&source.path).await?;
    Ok(Staging { entry, digests, source: after })
}

/// How many bytes of a partial file are there already and can be kept: all but its unsure end,
/// if what lies before that end is the same as in the source.
async fn verified_part(
    source: &Source,
    place: &Arc<dyn Place>,
    temporary: &RelPath,
) -> Result<Option<u64>, PlaceError> {
    if !place.capabilities().resumes || source.fingerprint.size < WORTH_RESUMING {
        return Ok(None);
    }
    let size = match place.stat(temporary).await {
        Ok(entry) => entry.fingerprint.size,
        Err(e) if e.kind == PlaceErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(e),
    };
    let sure = size.saturating_sub(UNSURE);
    if sure == 0 || size > source.fingerprint.size {
        return Ok(None);
    }
    let from = sure.saturating_sub(COMPARED);
    let there = part(place.as_ref(), temporary, from, sure).await?;
    let here = part(source.place.as_ref(), &source.path, from, sure).await?;
    Ok((there == here).then_some(sure))
}

async fn part(place: &dyn Place, path: &RelPath, from: u64, to: u64) -> Result<Vec<u8>, PlaceError> {
    let wanted = usize::try_from(to - from).unwrap_or(usize::MAX);
    let mut bytes = Vec::with_capacity(wanted);
    let mut content = place.read(path, from).await?;
    while bytes.len() < wanted
        && let Some(chunk) = content.next().await
    {
        bytes.extend_from_slice(&chunk?);
    }
    bytes.truncate(wanted);
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use std::{fs, path::Path};

    use wetbank_core::{Limits, Name, Rate};
    use wetbank_places::{Folder, Limited};

    use super::*;

    const MIB: usize = 1 << 20;

    fn content(length: usize) -> Vec<u8> {
        (0..length as u64).map(|at| ((at * 2_654_435_761) >> 13) as u8).collect()
    }

    fn folder(root: &Path) -> Arc<dyn Place> {
        Arc::new(Folder::new(Name::new("here").unwrap(), root))
    }

    /// A place whose bytes are counted, so that they pass as those of a server do.
    fn counted(root: &Path) -> Arc<dyn Place> {
        Limited::around(folder(root), &Limits { transfers: Some(4), ..Limits::default() })
    }

    /// A file in one folder, the folder for its copy, and what lies there already.
    struct Scene {
        root: tempfile::TempDir,
        source: Source,
    }

    impl Scene {
        async fn new(content: &[u8]) -> Self {
            let root = tempfile::tempdir().unwrap();
            for folder in ["from", "to"] {
                fs::create_dir(root.path().join(folder)).unwrap();
            }
            fs::write(root.path().join("from/survey.raw"), content).unwrap();
            let (place, path) = (folder(&root.path().join("from")), RelPath::parse("survey.raw").unwrap());
            let fingerprint = place.stat(&path).await.unwrap().fingerprint;
            Self { root, source: Source { place, path, fingerprint } }
        }

        fn part(&self) -> std::path::PathBuf {
            self.root.path().join("to/.part")
        }

        /// Where it goes: in one piece here, and in chunks.
        fn both_ways(&self) -> [Arc<dyn Place>; 2] {
            let to = self.root.path().join("to");
            [folder(&to), counted(&to)]
        }

        async fn send(&self, place: Arc<dyn Place>, cancel: &CancellationToken) -> Result<Staging, PlaceError> {
            let (part, target) = (RelPath::parse(".part").unwrap(), RelPath::parse("survey.raw").unwrap());
            transfer(&self.source, &place, &part, &target, true, Arc::default(), cancel).await
        }

        /// Sends the file while this lies there from an earlier try; answers what lies there then.
        async fn send_behind(&self, partial: &[u8]) -> Vec<u8> {
            fs::write(self.part(), partial).unwrap();
            let there = counted(&self.root.path().join("to"));
            let staging = self.send(there, &CancellationToken::new()).await.unwrap();
            let brought = fs::read(self.part()).unwrap();
            assert_eq!(staging.entry.fingerprint.size, brought.len() as u64);
            brought
        }
    }

    #[tokio::test]
    async fn a_copy_here_and_one_in_chunks_are_the_same_and_have_the_same_checksums() {
        for length in [0, 1, 3 * MIB + 7] {
            let scene = Scene::new(&content(length)).await;
            let mut told = Vec::new();
            for place in scene.both_ways() {
                let staging = scene.send(place, &CancellationToken::new()).await.unwrap();
                assert!(fs::read(scene.part()).unwrap() == content(length), "{length} bytes");
                assert_eq!(staging.source.fingerprint, scene.source.fingerprint);
                told.push(staging.digests);
                fs::remove_file(scene.part()).unwrap();
            }
            assert_eq!(told[0], told[1]);
            assert!(told[0].sha256.is_some());
        }
    }

    #[tokio::test]
    async fn holes_stay_holes_and_are_made_where_zeros_come_from_elsewhere() {
        use std::os::unix::fs::MetadataExt;
        let mut whole = content(MIB);
        whole.resize(40 * MIB, 0);
        whole.extend_from_slice(b"the last sounding");
        whole.resize(56 * MIB, 0);
        let scene = Scene::new(&whole).await;
        for place in scene.both_ways() {
            scene.send(place, &CancellationToken::new()).await.unwrap();
            assert!(fs::read(scene.part()).unwrap() == whole);
            let room = fs::metadata(scene.part()).unwrap().blocks() * 512;
            assert!(room < 4 * MIB as u64, "{room} bytes");
            fs::remove_file(scene.part()).unwrap();
        }
        // Behind a part from an earlier try, too.
        assert!(scene.send_behind(&whole[..50 * MIB]).await == whole);
    }

    #[tokio::test]
    async fn what_an_earlier_try_brought_is_not_sent_again() {
        let whole = content(12 * MIB);
        let scene = Scene::new(&whole).await;
        // A byte far before the end shows what was kept; nobody but us writes such a file.
        let mut partial = whole[..10 * MIB].to_vec();
        partial[100] ^= 1;
        let mut expected = whole;
        expected[100] ^= 1;
        assert!(scene.send_behind(&partial).await == expected);
    }

    #[tokio::test]
    async fn the_last_of_an_earlier_try_is_never_trusted() {
        let whole = content(12 * MIB);
        let scene = Scene::new(&whole).await;
        // Requests in flight may have left a gap there.
        let mut partial = whole[..10 * MIB].to_vec();
        partial[3 * MIB..9 * MIB].fill(0);
        assert!(scene.send_behind(&partial).await == whole);
    }

    #[tokio::test]
    async fn an_earlier_try_with_another_content_or_a_useless_length_is_sent_anew() {
        let whole = content(12 * MIB);
        let scene = Scene::new(&whole).await;
        let mut other = whole[..10 * MIB].to_vec();
        other[2 * MIB - 1] ^= 1;
        let longer = [&whole[..], b"more"].concat();
        for partial in [&other[..], &longer[..], &whole[..5 * MIB], &content(1)[..], b""] {
            assert!(scene.send_behind(partial).await == whole, "{} bytes were there", partial.len());
        }
        let scene = Scene::new(&whole[..MIB / 2]).await;
        assert!(scene.send_behind(&whole[..MIB / 4]).await == whole[..MIB / 2], "too small to look for a part");
    }

    #[tokio::test]
    async fn a_file_that_changed_since_it_was_decided_upon_does_not_count_as_brought() {
        for changed in [content(2 * MIB + 1), content(10), content(2 * MIB)] {
            let scene = Scene::new(&content(2 * MIB)).await;
            // A file system's clock may stand still between two writes.
            std::thread::sleep(std::time::Duration::from_millis(20));
            fs::write(scene.root.path().join("from/survey.raw"), &changed).unwrap();
            for place in scene.both_ways() {
                let error = scene.send(place, &CancellationToken::new()).await.map(drop).unwrap_err();
                assert_eq!(error.kind, PlaceErrorKind::Busy, "{} bytes: {error}", changed.len());
                assert!(error.to_string().contains("survey.raw"), "{error}");
            }
        }
    }

    #[tokio::test]
    async fn a_service_that_stops_interrupts_a_transfer_of_either_sort() {
        let scene = Scene::new(&content(4 * MIB)).await;
        let stopping = CancellationToken::new();
        stopping.cancel();
        for place in scene.both_ways() {
            let error = scene.send(place, &stopping).await.map(drop).unwrap_err();
            assert_eq!(error.kind, PlaceErrorKind::Interrupted, "{error}");
            assert!(error.detail.contains("stopping"), "{error}");
        }
    }

    #[tokio::test]
    async fn what_waits_for_its_turn_within_a_rate_hears_that_it_is_to_stop() {
        let scene = Scene::new(&content(4 * MIB)).await;
        let slow = Rate { most: 100_000, hours: None };
        let limits = Limits { rates: vec![slow], ..Limits::default() };
        let place = Limited::around(folder(&scene.root.path().join("to")), &limits);
        let stopping = CancellationToken::new();
        let stopped = tokio::time::timeout(std::time::Duration::from_secs(5), async {
            let stop = async {
                tokio::time::sleep(std::time::Duration::from_millis(100)).await;
                stopping.cancel();
            };
            tokio::join!(scene.send(place, &stopping), stop).0.map(drop)
        });
        let error = stopped.await.expect("it hears").unwrap_err();
        assert_eq!(error.kind, PlaceErrorKind::Interrupted, "{error}");
    }

    #[tokio::test]
    async fn a_source_that_is_gone_and_a_target_that_is_missing_are_told_apart() {
        let scene = Scene::new(&content(10)).await;
        let missing = counted(&scene.root.path().join("elsewhere"));
        let error = scene.send(missing, &CancellationToken::new()).await.map(drop).unwrap_err();
        assert_eq!((error.kind, error.call), (PlaceErrorKind::Unreachable, "write"), "{error}");
        fs::remove_file(scene.root.path().join("from/survey.raw")).unwrap();
        for place in scene.both_ways() {
            let error = scene.send(place, &CancellationToken::new()).await.map(drop).unwrap_err();
            assert_eq!((error.kind, error.call), (PlaceErrorKind::NotFound, "read"), "{error}");
        }
    }
}
