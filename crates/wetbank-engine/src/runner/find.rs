//! The search with which a run begins: every file that the rule is about becomes an item.

use std::sync::Arc;

use futures_util::StreamExt;
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;
use wetbank_core::{FileFacts, FilePath, Find, Fingerprint, ItemState, NamePattern, Rule, TemplateFacts, name_pattern};
use wetbank_journal::{AttemptEnd, AttemptStart, Outcome, Refusal, Sighting, Work};
use wetbank_places::{Depth, Entry, EntryKind, EntryStream, Place, Writers};

use super::{
    brake,
    failure::failed,
    means::Runner,
    record::{Settled, Turn, cut_short, held, read, rests, settle},
    seen::SeenPaths,
};
use crate::{
    clock,
    effects::{FailureKind, StepFailure, about_run},
    moorings::Misnamed,
    queue::{Claim, Moved},
};

/// Files taken in at once.
const BATCH: usize = 256;
/// What a search has in hand.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
pub(crate) struct Searching {
    /// Whether files that were taken before are taken again.
    pub again: bool,
    /// A person was told that so many files would be deleted, moved or replaced, and it is meant if this is released.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allowed: Option<u64>,
}

impl Searching {
    pub fn written(self) -> String {
        serde_json::to_string(&self).expect("plain values serialise")
    }

    pub(super) fn of(work: &Work) -> Self {
        work.hand.as_deref().and_then(|hand| serde_json::from_str(hand).ok()).unwrap_or_default()
    }
}

/// What a search came to.
#[derive(Default)]
struct Tally {
    found: usize,
    taken_before: usize,
    own: usize,
    written: usize,
    misnamed: Misnamed,
}

/// Looks through the folder and takes in what the rule is about.
pub(super) async fn find(runner: &Arc<Runner>, claim: Claim, rule: &Rule, stop: &CancellationToken) -> Turn {
    let Some((branch, find)) = claim.branch.and_then(|at| Some((at, rule.finds.get(at)?))) else {
        let why = "the rule does not look there any more".to_owned();
        return held(runner, claim, None, ("no-search", why, "Dismiss it, or put the search back and release.")).await;
    };
    let begun_before = claim.unclear || claim.state == ItemState::Working || claim.failures > 0;
    let claim = match read!(claim, runner.record.journal.going_attempt(claim.item).await) {
        Some(attempt) => {
            let end = Some(cut_short(attempt.id));
            let moved = Moved { end, ..Moved::stays(&claim, ItemState::Working) };
            match settle(runner, claim, moved).await {
                Settled::Done(claim) => claim,
                Settled::Stopping => return Turn::Stopping,
            }
        }
        None => claim,
    };
    if let Some((until, error)) = runner.moorings.paused(&find.files.place) {
        let kind = FailureKind::Paused { until, why: error.to_string() };
        return failed(runner, claim, rule.retry.clone(), StepFailure::before(kind)).await;
    }
    let id = runner.record.journal.next_attempt();
    let start = AttemptStart {
        id,
        item: claim.item,
        branch: Some(branch),
        position: claim.position,
        kind: "find",
        number: claim.failures + 1,
        began: clock::now(),
        target: None,
        intent: None,
    };
    if runner.record.insist(|| runner.record.journal.start_attempt(start.clone())).await.is_none() {
        return Turn::Stopping;
    }
    // Two searches of one run may meet the same file, and one that was cut short met some before.
    let mut seen = SeenPaths::default();
    if begun_before || rule.finds.len() > 1 {
        for file in read!(claim, runner.record.journal.run_paths(claim.run).await) {
            if file.place == find.files.place {
                seen.insert(&file.path);
            }
        }
    }
    let attempt = Some(id);
    match brake::asks(runner, &claim, rule, find, &seen, stop).await {
        Ok(None) => {}
        Ok(Some(question)) => return brake::hold(runner, claim, id, question).await,
        Err(kind) => {
            return failed(runner, claim, rule.retry.clone(), StepFailure { attempt, kind, unclear: false }).await;
        }
    }
    match search(runner, &claim, rule, find, &mut seen, stop).await {
        Ok(tally) if tally.found < find.least => {
            let place = &find.files.place;
            let kind = FailureKind::Lasting {
                code: "too-few".to_owned(),
                why: format!("{} of at least {} files lie in {place}:/{}", tally.found, find.least, claim.file.path),
                remedy: "Find out whether they are late; release to look again, or dismiss.".to_owned(),
            };
            failed(runner, claim, rule.retry.clone(), StepFailure { attempt, kind, unclear: false }).await
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
                unclear: false,
            };
            let moved = Moved { end: Some(end), ..Moved::stays(&claim, ItemState::Done) };
            rests(runner, claim, moved).await
        }
        Err(kind) => {
            let (is_stopped, run) = (matches!(kind, FailureKind::Stopping), claim.run);
            let turn = failed(runner, claim, rule.retry.clone(), StepFailure { attempt, kind, unclear: false }).await;
            if is_stopped && !runner.cancel.is_cancelled() {
                // What was taken in while the run was being stopped is stopped with it.
                let stopped = runner.stop_run(run, runner.queue.stopping.why(run)).await;
                stopped.inspect_err(|error| tracing::error!(run, %error, "it is stopped only in part")).ok();
            }
            turn
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
        if self.misnamed.count > 0 {
            words.push_str(&format!(", left {}", self.misnamed.words()));
        }
        if self.written > 0 {
            words.push_str(&format!(", left {} that somebody still writes", self.written));
        }
        if self.own > 0 {
            words.push_str(&format!(", left {} that the rule made itself", self.own));
        }
        words
    }
}

async fn search(
    runner: &Arc<Runner>,
    work: &Work,
    rule: &Rule,
    find: &Find,
    seen: &mut SeenPaths,
    stop: &CancellationToken,
) -> Result<Tally, FailureKind> {
    let place = runner.arranged.now().place(&find.files.place)?;
    let wanted = Wanted::by(work, rule, find)?;
    let mut listing = wanted.listing(place.as_ref());
    let (mut tally, mut batch) = (Tally::default(), Vec::new());
    loop {
        let entry = tokio::select! {
            entry = listing.next() => entry,
            () = stop.cancelled() => return Err(FailureKind::Stopping),
        };
        let Some(entry) = entry.transpose()? else { break };
        if entry.kind == EntryKind::Misnamed {
            tally.misnamed.note(&entry);
            continue;
        }
        if !wanted.takes(&entry) {
            continue;
        }
        tally.found += 1;
        if !seen.contains(&entry.path) {
            batch.push(entry);
        }
        if batch.len() >= BATCH {
            take(runner, work, find, place.as_ref(), &mut batch, &mut tally).await?;
        }
    }
    take(runner, work, find, place.as_ref(), &mut batch, &mut tally).await?;
    Ok(tally)
}

/// What a search is about.
pub(super) struct Wanted<'a> {
    work: &'a Work,
    rule: &'a Rule,
    find: &'a Find,
    /// Names that the time of the run filled in.
    filled: Vec<NamePattern>,
}

impl<'a> Wanted<'a> {
    pub(super) fn by(work: &'a Work, rule: &'a Rule, find: &'a Find) -> Result<Self, FailureKind> {
        Ok(Self { work, rule, find, filled: filled_in(work, rule, find)? })
    }

    pub(super) fn listing(&self, place: &dyn Place) -> EntryStream {
        place.list(&self.work.file.path, if self.find.files.deep { Depth::All } else { Depth::One })
    }

    pub(super) fn takes(&self, entry: &Entry) -> bool {
        let name = entry.path.name_text();
        let files = &self.find.files;
        let named = files.names.is_empty() && self.filled.is_empty()
            || files.names.iter().chain(&self.filled).any(|glob| glob.is_match(&name));
        entry.kind == EntryKind::File
            && named
            && !files.except.iter().any(|glob| glob.is_match(&name))
            && !entry.path.is_temporary()
            && !self.rule.sets_aside(&self.work.file.path, &entry.path)
    }
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
    runner: &Arc<Runner>,
    work: &Work,
    find: &Find,
    place: &dyn Place,
    batch: &mut Vec<Entry>,
    tally: &mut Tally,
) -> Result<(), FailureKind> {
    if batch.is_empty() {
        return Ok(());
    }
    if let Some(folder) = place.as_folder() {
        let writers = folder.writers(batch.iter().map(|entry| entry.path.clone()).collect()).await;
        let before = batch.len();
        let mut writers = writers.into_iter();
        batch.retain(|_| writers.next() != Some(Writers::Some));
        tally.written += before - batch.len();
        tally.found -= before - batch.len();
    }
    let now = clock::now();
    let again = !find.only_new || Searching::of(work).again;
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
    let sightings: Vec<Sighting> = sightings.collect();
    let taken = runner.record.insist(|| runner.record.journal.take_into(work, sightings.clone(), now)).await;
    let taken = taken.ok_or(FailureKind::Stopping)?;
    for refusal in taken.iter().filter_map(|one| one.as_ref().err()) {
        match refusal {
            Refusal::Known | Refusal::Noted => tally.taken_before += 1,
            Refusal::OwnResult => {
                tally.own += 1;
                tally.found -= 1;
            }
        }
    }
    runner.queue.claims.add(taken.into_iter().flatten());
    Ok(())
}
