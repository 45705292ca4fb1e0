//! The search with which a run begins: every file that the rule is about becomes an item.

use std::sync::Arc;

use futures_util::StreamExt;
use tokio_util::sync::CancellationToken;
use wetbank_core::{FileFacts, FilePath, Find, Fingerprint, ItemState, NamePattern, Rule, TemplateFacts, name_pattern};
use wetbank_journal::{AttemptEnd, AttemptStart, Outcome, Progress, Refusal, Sighting, Work};
use wetbank_places::{Depth, Entry, EntryKind, Place};

use super::record::{End, change, close_attempt, failed, hold, record};
use crate::{
    EngineError, clock,
    engine::Core,
    step::{FailureKind, StepFailure, about_run},
    watch::SeenPaths,
};

/// Files taken in at once.
const BATCH: usize = 256;
/// What is said of a run: that it takes files also if they were taken before.
pub(crate) const ALL: &str = "run.all";

/// What a search came to.
#[derive(Default)]
struct Tally {
    found: usize,
    taken_before: usize,
    own: usize,
}

/// Looks through the folder and takes in what the rule is about.
pub(super) async fn find(
    core: &Arc<Core>,
    work: &mut Work,
    rule: &Rule,
    stop: &CancellationToken,
) -> Result<End, EngineError> {
    let Some(find) = work.branch.and_then(|at| rule.finds.get(at)) else {
        let why = "the rule does not look there any more".to_owned();
        return hold(core, work, None, "no-search", why, "Dismiss it, or put the search back and release.".to_owned())
            .await;
    };
    let begun_before = work.state == ItemState::Working || work.failures > 0;
    if let Some(attempt) = core.journal.going_attempt(work.item).await? {
        close_attempt(core, work, attempt.id).await?;
    }
    if let Some((until, error)) = core.health.paused(&find.files.place) {
        let kind = FailureKind::Paused { until, why: error.to_string() };
        return failed(core, work, rule.retry.clone(), StepFailure { attempt: None, kind }).await;
    }
    let id = core.journal.next_attempt();
    let start = AttemptStart {
        id,
        item: work.item,
        branch: work.branch,
        step: 0,
        kind: "find",
        number: work.failures + 1,
        began: clock::now(),
        target: None,
        intent: None,
    };
    core.journal.start_attempt(start).await?;
    // Two searches of one run may meet the same file, and one that was cut short met some before.
    let mut seen = SeenPaths::default();
    if begun_before || rule.finds.len() > 1 {
        for file in core.journal.run_paths(work.run).await? {
            if file.place == find.files.place {
                seen.insert(&file.path);
            }
        }
    }
    match search(core, work, rule, find, &mut seen, stop).await {
        Ok(tally) if tally.found < find.least => {
            let place = &find.files.place;
            let kind = FailureKind::Lasting {
                code: "too-few".to_owned(),
                why: format!("{} of at least {} files lie in {place}:/{}", tally.found, find.least, work.file.path),
                remedy: "Find out whether they are late; release to look again, or dismiss.".to_owned(),
            };
            failed(core, work, rule.retry.clone(), StepFailure { attempt: Some(id), kind }).await
        }
        Ok(tally) => {
            let end = AttemptEnd {
                id,
                ended: clock::now(),
                outcome: Outcome::Done,
                size: None,
                code: None,
                message: Some(tally.words()),
                remedy: None,
                also_named: None,
            };
            let change = change(work, ItemState::Done);
            record(core, work, Progress { end: Some(end), ..Progress::change(change) }).await?;
            Ok(End::AtRest)
        }
        Err(kind) => {
            let is_stopped = matches!(kind, FailureKind::Stopping);
            let end = failed(core, work, rule.retry.clone(), StepFailure { attempt: Some(id), kind }).await;
            if is_stopped && !core.cancel.is_cancelled() {
                // What was taken in while the run was being stopped is stopped with it.
                let stopped = core.stop_run(work.run, core.why_stopped(work.run)).await;
                stopped.inspect_err(|error| tracing::error!(run = work.run, %error, "it is stopped only in part")).ok();
            }
            end
        }
    }
}

impl Tally {
    fn words(&self) -> String {
        let mut words = match self.found {
            0 => "found nothing".to_owned(),
            1 => "found 1 file".to_owned(),
            many => format!("found {many} files"),
        };
        if self.taken_before > 0 {
            words.push_str(&format!(", {} of them taken before", self.taken_before));
        }
        if self.own > 0 {
            words.push_str(&format!(", left {} that the rule made itself", self.own));
        }
        words
    }
}

async fn search(
    core: &Arc<Core>,
    work: &Work,
    rule: &Rule,
    find: &Find,
    seen: &mut SeenPaths,
    stop: &CancellationToken,
) -> Result<Tally, FailureKind> {
    let place = core.arrangement().place(&find.files.place)?;
    let filled = filled_in(work, rule, find)?;
    let depth = if find.files.deep { Depth::All } else { Depth::One };
    let mut listing = place.list(&work.file.path, depth);
    let (mut tally, mut batch) = (Tally::default(), Vec::new());
    loop {
        let entry = tokio::select! {
            entry = listing.next() => entry,
            () = stop.cancelled() => return Err(FailureKind::Stopping),
        };
        let Some(entry) = entry.transpose()? else { break };
        let name = entry.path.name_text();
        let named = find.files.names.is_empty() && filled.is_empty()
            || find.files.names.iter().chain(&filled).any(|glob| glob.is_match(&name));
        let excepted = find.files.except.iter().any(|glob| glob.is_match(&name));
        let wanted = entry.kind == EntryKind::File
            && named
            && !excepted
            && !entry.path.is_temporary()
            && !rule.sets_aside(&work.file.path, &entry.path);
        if !wanted {
            continue;
        }
        tally.found += 1;
        if !seen.contains(&entry.path) {
            batch.push(entry);
        }
        if batch.len() >= BATCH {
            take(core, work, find, place.as_ref(), &mut batch, &mut tally).await?;
        }
    }
    take(core, work, find, place.as_ref(), &mut batch, &mut tally).await?;
    if core.health.well(&find.files.place) {
        core.place_well(&find.files.place);
    }
    Ok(tally)
}

/// The names that the time of the run fills in.
fn filled_in(work: &Work, rule: &Rule, find: &Find) -> Result<Vec<NamePattern>, FailureKind> {
    let nothing = Fingerprint { size: 0, modified: 0, inode: None, tag: None };
    let folder = FileFacts::new(&work.file, &nothing).with(Arc::new(about_run(work)));
    let started = work.started;
    let facts = TemplateFacts { file: &folder, rule, run: work.run, started, now: started };
    let fill = |name: &wetbank_core::Template| {
        let text = name.render(&facts)?;
        name_pattern(&text, find.case_sensitive).map_err(|why| FailureKind::Lasting {
            code: "template".to_owned(),
            why,
            remedy: "Correct the name in the rule, then release.".to_owned(),
        })
    };
    find.named.iter().map(fill).collect()
}

async fn take(
    core: &Arc<Core>,
    work: &Work,
    find: &Find,
    place: &dyn Place,
    batch: &mut Vec<Entry>,
    tally: &mut Tally,
) -> Result<(), FailureKind> {
    if batch.is_empty() {
        return Ok(());
    }
    let now = clock::now();
    let again = !find.only_new || about_run(work).contains_key(ALL);
    let sightings = batch.drain(..).map(|entry| Sighting {
        rule: work.rule.clone(),
        version: work.version,
        file: FilePath { place: place.name().clone(), path: entry.path },
        fingerprint: entry.fingerprint.to_string(),
        size: entry.fingerprint.size,
        seen: now,
        own_results: false,
        again,
        about: None,
        note_only: false,
    });
    let taken = core.journal.take_into(work, sightings.collect(), now).await?;
    for refusal in taken.iter().filter_map(|one| one.as_ref().err()) {
        match refusal {
            Refusal::Known | Refusal::Noted => tally.taken_before += 1,
            Refusal::OwnResult => {
                tally.own += 1;
                tally.found -= 1;
            }
        }
    }
    core.claims.add(taken.into_iter().flatten());
    Ok(())
}
