//! Proving that a place can be reached and written with the rights the service has.

use std::time::{Duration, Instant};

use bytes::Bytes;
use futures_util::StreamExt;
use wetbank_core::{RelPath, TEMPORARY_PREFIX};

use crate::{Collision, Depth, Place, PlaceError, PlaceErrorKind};

/// One step of a test, timed.
#[derive(Debug, Clone)]
pub struct ProbeStep {
    /// What was done.
    pub what: &'static str,
    /// How long it took.
    pub took: Duration,
    /// What was found, or why it failed.
    pub outcome: Result<String, PlaceError>,
}

/// Tests a place step by step and stops at the first failure. With `write` a probe file is
/// written, renamed, read back and deleted in the root.
pub async fn probe(place: &dyn Place, write: bool) -> Vec<ProbeStep> {
    let mut steps = Vec::new();
    let mut step = |what, began: Instant, outcome: Result<String, PlaceError>| {
        let fine = outcome.is_ok();
        steps.push(ProbeStep { what, took: began.elapsed(), outcome });
        fine
    };
    let began = Instant::now();
    if !step("reach and sign in", began, place.reach().await) {
        return steps;
    }
    let began = Instant::now();
    let first = place.list(&RelPath::root(), Depth::One).next().await.transpose();
    let listed = first.map(|entry| match entry {
        Some(_) => "the root can be listed".to_owned(),
        None => "the root can be listed, it is empty".to_owned(),
    });
    if !step("list", began, listed) || !write {
        return steps;
    }
    let name = |end: &str| {
        let name = format!("{TEMPORARY_PREFIX}probe-{:08x}{end}", std::process::id());
        RelPath::root().join_name(name.as_bytes()).expect("a plain name")
    };
    let (first, second) = (name(".part"), name(".done"));
    let began = Instant::now();
    let written = async {
        let mut staged = place.stage(&first, None).await?;
        staged.write(Bytes::from_static(b"wetbank probe")).await?;
        staged.finish().await
    };
    let written = written.await.map(|entry| format!("{} bytes written", entry.fingerprint.size));
    if !step("write a probe file", began, written) {
        return steps;
    }
    let began = Instant::now();
    let renamed = place.rename(&first, &second, Collision::Replace).await.map(|()| "renamed".to_owned());
    let moved = step("rename it", began, renamed);
    let last = if moved { &second } else { &first };
    let began = Instant::now();
    step("read it back", began, read_back(place, last).await);
    let began = Instant::now();
    step("delete it", began, place.delete(last).await.map(|()| "deleted".to_owned()));
    steps
}

async fn read_back(place: &dyn Place, path: &RelPath) -> Result<String, PlaceError> {
    let mut stream = place.read(path, 0).await?;
    let mut content = Vec::new();
    while let Some(chunk) = stream.next().await {
        content.extend_from_slice(&chunk?);
    }
    if content == b"wetbank probe" {
        return Ok("the same content".to_owned());
    }
    Err(PlaceError {
        kind: PlaceErrorKind::Other,
        place: place.name().clone(),
        call: "read back",
        path: path.clone(),
        detail: "the content differs from what was written".to_owned(),
    })
}
