//! Before a search takes anything in: would its run delete, move or replace more files than it may without asking?

use std::{collections::HashSet, sync::Arc};

use futures_util::{StreamExt, stream};
use tokio_util::sync::CancellationToken;
use wetbank_core::{Decision, End, FileFacts, FilePath, Find, IfExists, ItemKind, ItemState, Rule, decide, rehearse};
use wetbank_journal::{AttemptEnd, Outcome, Work};
use wetbank_places::{Entry, PlaceErrorKind};

use super::{
    find::{Searching, Wanted},
    means::Runner,
    record::{self, Turn},
    seen::SeenPaths,
};
use crate::{
    EngineError, clock,
    effects::FailureKind,
    queue::{Claim, Moved},
};

/// The code of a hold in which a person is asked.
const CODE: &str = "brake";
/// Files looked at together.
const BATCH: usize = 256;
/// Names at targets looked up at once.
const AT_ONCE: usize = 8;

/// What a run would do to files that are there.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Weight {
    deleted: u64,
    moved: u64,
    replaced: u64,
}

/// What a person is asked.
#[derive(Debug)]
pub(super) struct Question {
    weight: Weight,
    most: u64,
}

impl Weight {
    fn all(&self) -> u64 {
        self.deleted + self.moved + self.replaced
    }

    fn words(&self) -> String {
        let told = [(self.deleted, "delete"), (self.moved, "move"), (self.replaced, "replace")];
        let told: Vec<String> =
            told.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{what} {count}")).collect();
        told.join(", ")
    }
}

/// What a person is to be asked before the search takes in what it did not take yet, if anything.
pub(super) async fn asks(
    runner: &Arc<Runner>,
    claim: &Claim,
    rule: &Rule,
    find: &Find,
    taken: &SeenPaths,
    stop: &CancellationToken,
) -> Result<Option<Question>, FailureKind> {
    let Some(most) = rule.most_unasked() else { return Ok(None) };
    let weight = weigh(runner, claim, rule, find, taken, stop).await?;
    // What was asked before is asked anew, or not any more.
    dismiss_earlier(runner, claim).await?;
    let meant = Searching::of(claim).allowed.unwrap_or(0);
    Ok((weight.all() > most.max(meant)).then_some(Question { weight, most }))
}

/// The search is held. Its release makes it again, with as much as was told.
pub(super) async fn hold(runner: &Runner, claim: Claim, attempt: i64, Question { weight, most }: Question) -> Turn {
    let why = format!(
        "the run would {} of the files that are there; up to {most} are done without asking. None of them was touched",
        weight.words()
    );
    let remedy = format!(
        "See what it would do (wetbank rule rehearse {}); if it is meant, release this, and as many are done; else dismiss it.",
        claim.rule
    );
    let end = AttemptEnd {
        id: attempt,
        ended: clock::now(),
        outcome: Outcome::Failed,
        size: None,
        code: Some(CODE.to_owned()),
        message: Some(why.clone()),
        remedy: Some(remedy.clone()),
        also_named: None,
        unclear: false,
    };
    let hand = Searching { allowed: Some(weight.all()), ..Searching::of(&claim) }.written();
    let moved = Moved { hand: Some(hand), end: Some(end), ..Moved::stays(&claim, ItemState::Held) };
    record::hold(runner, claim, moved, (CODE, why, remedy)).await
}

/// Counts what the run would do. Nothing is touched.
async fn weigh(
    runner: &Arc<Runner>,
    work: &Work,
    rule: &Rule,
    find: &Find,
    taken: &SeenPaths,
    stop: &CancellationToken,
) -> Result<Weight, FailureKind> {
    let place = runner.arranged.now().place(&find.files.place)?;
    let wanted = Wanted::by(work, rule, find)?;
    let mut listing = wanted.listing(place.as_ref());
    let (mut weight, mut batch) = (Weight::default(), Vec::with_capacity(BATCH));
    loop {
        let entry = tokio::select! {
            entry = listing.next() => entry.transpose()?,
            () = stop.cancelled() => return Err(FailureKind::Stopping),
        };
        let is_over = entry.is_none();
        batch.extend(entry.filter(|entry| wanted.takes(entry) && !taken.contains(&entry.path)));
        if batch.len() >= BATCH || is_over {
            add(runner, work, rule, find, std::mem::take(&mut batch), &mut weight).await?;
        }
        if is_over {
            return Ok(weight);
        }
    }
}

async fn add(
    runner: &Arc<Runner>,
    work: &Work,
    rule: &Rule,
    find: &Find,
    batch: Vec<Entry>,
    weight: &mut Weight,
) -> Result<(), FailureKind> {
    let place = &find.files.place;
    let again = !find.only_new || Searching::of(work).again;
    let known = match again {
        true => Default::default(),
        false => {
            let asked = batch.iter().map(|entry| (&work.rule, &entry.path));
            runner.record.journal.known_states(place, asked).await?
        }
    };
    let mut targets = HashSet::new();
    for (at, entry) in batch.iter().enumerate() {
        if known.get(&at).is_some_and(|state| *state == entry.fingerprint.to_string()) {
            continue;
        }
        let file = FilePath { place: place.clone(), path: entry.path.clone() };
        let facts = FileFacts::new(&file, &entry.fingerprint);
        if !matches!(decide(rule, &facts, work.started), Decision::Branch(branch) if rule.is_braked(branch)) {
            continue;
        }
        let foreseen = rehearse(rule, &facts, work.started);
        let moves = foreseen.steps.iter().any(|step| step.kind == "move" && step.left_out.is_none());
        match foreseen.end {
            End::Deleted => weight.deleted += 1,
            End::Moved { .. } if moves => weight.moved += 1,
            _ => {}
        }
        let comes = foreseen.steps.into_iter().filter(|step| step.left_out.is_none()).filter_map(|step| step.comes);
        targets
            .extend(comes.filter(|comes| comes.exists == IfExists::Replace && !comes.is_folder).map(|comes| comes.at));
    }
    let found = stream::iter(targets).map(|target| is_there(runner, target)).buffer_unordered(AT_ONCE);
    let found: Vec<Result<bool, FailureKind>> = found.collect().await;
    for is_there in found {
        weight.replaced += u64::from(is_there?);
    }
    Ok(())
}

async fn is_there(runner: &Arc<Runner>, target: FilePath) -> Result<bool, FailureKind> {
    match runner.moorings.get(&target.place)?.stat(&target.path).await {
        Ok(_) => Ok(true),
        Err(error) if error.kind == PlaceErrorKind::NotFound => Ok(false),
        Err(error) => Err(error.into()),
    }
}

/// An earlier run of the rule may still be asked about: this one stands for it.
async fn dismiss_earlier(runner: &Arc<Runner>, claim: &Claim) -> Result<(), FailureKind> {
    let Some(branch) = claim.branch else { return Ok(()) };
    for (item, _) in runner.record.journal.holds_of_branch(&claim.rule, branch).await? {
        let Some(work) = runner.record.journal.work(item).await? else { continue };
        if work.kind != ItemKind::Find || Searching::of(&work).allowed.is_none() || work.item == claim.item {
            continue;
        }
        match runner.dismiss(&work, "dismissed: a later run of the rule looked again".to_owned()).await {
            // Somebody answered it just now.
            Ok(()) | Err(EngineError::Declined(_)) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_run_would_do_is_told_by_kind() {
        let weight = Weight { deleted: 3, moved: 0, replaced: 20 };
        assert_eq!((weight.all(), weight.words().as_str()), (23, "delete 3, replace 20"));
    }
}
