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

use crate::reading::Source;

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
    PlaceError { kind, place, call: "read", path, detail: detail.to_owned() }
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
        _ => stream(source, place, temporary, target, Hashing::with_sha256(sha256), &done, cancel).await?,
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
    cancel: &CancellationToken,
) -> Result<Staging, PlaceError> {
    let kept = verified_part(source, place, temporary).await?;
    let mut staged = place.stage(temporary, target, kept).await?;
    let kept = kept.unwrap_or(0);
    let mut ahead = Ahead::open(source.place.as_ref(), &source.path).await?;
    let mut at = 0;
    loop {
        let chunk = tokio::select! {
            chunk = ahead.next() => chunk?,
            () = cancel.cancelled() => {
                return Err(failed(source, PlaceErrorKind::Interrupted, "the service is stopping"));
            }
        };
        let Some(chunk) = chunk else { break };
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
