//! Names at a target: taken, free, lost.

use wetbank_core::{FilePath, RelPath};
use wetbank_places::{Entry, Place, PlaceError, PlaceErrorKind};

use super::{Effect, FailureKind, Intent};
use crate::reading::Source;

/// Free names tried before giving up on keeping both files.
const FREE_NAMES: u32 = 1000;

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

/// `name (2).csv`, `name (3).csv`, … whichever is free first.
pub(super) async fn free_name(place: &dyn Place, path: &RelPath) -> Effect<RelPath> {
    let name = path.name();
    let dot = name.iter().rposition(|&b| b == b'.').filter(|&at| at > 0).unwrap_or(name.len());
    for number in 2..FREE_NAMES {
        let mut next = name[..dot].to_vec();
        next.extend_from_slice(format!(" ({number})").as_bytes());
        next.extend_from_slice(&name[dot..]);
        let next = path.parent().join_name(&next).expect("a name with a number is a name");
        if existing(place, &next).await?.is_none() {
            return Ok(next);
        }
    }
    Err(FailureKind::Lasting {
        code: "exists".to_owned(),
        why: format!("\"{path}\" and {FREE_NAMES} numbered names after it are taken"),
        remedy: "Clear that folder, or use a name with a date in the rule.".to_owned(),
    })
}

pub(super) async fn same_content(source: &Source, place: &dyn Place, path: &RelPath, taken: &Entry) -> Effect<bool> {
    use futures_util::StreamExt;
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
