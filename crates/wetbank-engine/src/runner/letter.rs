//! A letter that came: its attachments become items of its run, and at the end it is filed away.

use std::{collections::BTreeMap, fs, io::BufReader, sync::Arc};

use tokio_util::sync::CancellationToken;
use wetbank_core::{ItemState, Letter, Position, RelPath, Rule};
use wetbank_errands::TakenOut;
use wetbank_journal::{AttemptStart, NewPart, Work};
use wetbank_places::{Place, PlaceErrorKind};

use super::{
    failure::failed,
    means::Runner,
    record::{Turn, after, end_stopped, ended, rests, skipped_by},
};
use crate::{
    clock,
    effects::{FailureKind, Hand, Reading, Source, StepDone, StepFailure},
    queue::{Claim, Moved},
};

pub(super) async fn through(
    runner: &Arc<Runner>,
    claim: Claim,
    rule: &Rule,
    letter: &Letter,
    hand: Hand,
    stop: &CancellationToken,
) -> Turn {
    if stop.is_cancelled() {
        return end_stopped(runner, claim, None).await;
    }
    let mut attempt = None;
    let failure = |attempt, kind| StepFailure { attempt, kind, unclear: false };
    // Older journals count where a letter is filed away as the step after its attachments.
    if matches!(claim.position, Position::Original | Position::Step(1..)) {
        return match file_away(runner, &claim, letter, &hand, &mut attempt).await {
            Ok(done) => {
                let moved = match done {
                    Some(done) => after(&claim, done, ItemState::Done),
                    None => Moved::stays(&claim, ItemState::Done),
                };
                ended(runner, claim, Moved { position: Position::End, ..moved }).await
            }
            Err(kind) => failed(runner, claim, rule.retry.clone(), failure(attempt, kind)).await,
        };
    }
    let taken = match take_out(runner, &claim, letter, &hand, &mut attempt).await {
        Ok(taken) => taken,
        Err(kind) => return failed(runner, claim, rule.retry.clone(), failure(attempt, kind)).await,
    };
    let about = serde_json::to_string(&about(&taken)).expect("plain values serialise");
    let run = claim.run;
    if runner.record.insist(|| runner.record.journal.set_about(run, about.clone())).await.is_none() {
        return Turn::Stopping;
    }
    let claim = claim.with_about(about);
    if taken.attachments.is_empty() {
        let why = match taken.others {
            0 => "there is no file attached to it".to_owned(),
            others => format!("none of its {others} attachments is one that the rule is about"),
        };
        let done = StepDone { attempt, ..StepDone::nothing(&hand, &why) };
        return skipped_by(runner, claim, done, format!("{why}; it stays where it is")).await;
    }
    let parts = match parts(runner, &claim, &taken).await {
        Ok(parts) => parts,
        Err(kind) => return failed(runner, claim, rule.retry.clone(), failure(attempt, kind)).await,
    };
    let note = match parts.len() {
        1 => "1 file".to_owned(),
        many => format!("{many} files"),
    };
    let done = StepDone { attempt, skipped: false, parts, ..StepDone::nothing(&hand, &note) };
    let moved = Moved { position: Position::Original, ..after(&claim, done, ItemState::Joining) };
    rests(runner, claim, moved).await
}

/// What is known of a run that a letter began.
fn about(taken: &TakenOut) -> BTreeMap<&'static str, String> {
    let facts = &taken.facts;
    let date = facts.date.map(|date| date.to_zoned(jiff::tz::TimeZone::UTC).to_string());
    BTreeMap::from([
        ("mail.from", facts.from.clone()),
        ("mail.to", facts.to.clone()),
        ("mail.subject", facts.subject.clone()),
        ("mail.date", date.unwrap_or_default()),
        ("mail.id", facts.id.clone()),
    ])
}

async fn began(runner: &Runner, work: &Work, kind: &'static str, attempt: &mut Option<i64>) -> Result<(), FailureKind> {
    let id = runner.record.journal.next_attempt();
    let start = AttemptStart {
        id,
        item: work.item,
        branch: None,
        position: work.position,
        kind,
        number: work.failures + 1,
        began: clock::now(),
        target: None,
        intent: None,
    };
    runner.record.insist(|| runner.record.journal.start_attempt(start.clone())).await.ok_or(FailureKind::Stopping)?;
    *attempt = Some(id);
    Ok(())
}

fn paused(runner: &Runner, work: &Work) -> Result<Arc<dyn Place>, FailureKind> {
    Ok(runner.moorings.get(&work.file.place)?)
}

/// The folder of ours with the attachments of an item.
fn folder(work: &Work) -> String {
    format!("{}/letter.d", work.item)
}

async fn take_out(
    runner: &Arc<Runner>,
    work: &Work,
    letter: &Letter,
    hand: &Hand,
    attempt: &mut Option<i64>,
) -> Result<TakenOut, FailureKind> {
    let place = paused(runner, work)?;
    began(runner, work, "attachments", attempt).await?;
    let _slot = runner.effects.slots.crypt.acquire().await.expect("the semaphore is never closed");
    let source = Source { place, path: work.file.path.clone(), fingerprint: hand.fingerprint.clone() };
    let reading = Reading::open(&source, Arc::default()).await?;
    let broken = reading.broken();
    let into = runner.effects.work.folder.root().join(folder(work));
    let letter = letter.clone();
    let taken = tokio::task::spawn_blocking(move || {
        let _ = fs::remove_dir_all(&into);
        fs::create_dir_all(&into)?;
        let taken = wetbank_errands::take_out(
            BufReader::with_capacity(256 << 10, reading),
            letter.most.0,
            |name| letter.takes(name),
            |number| Ok(std::io::BufWriter::new(fs::File::create_new(into.join(number.to_string()))?)),
        );
        if taken.is_err() {
            let _ = fs::remove_dir_all(&into);
        }
        taken
    })
    .await
    .map_err(FailureKind::fault)?;
    broken.check()?;
    Ok(taken?)
}

async fn parts(runner: &Runner, work: &Work, taken: &TakenOut) -> Result<Vec<NewPart>, FailureKind> {
    let mut parts = Vec::with_capacity(taken.attachments.len());
    for (number, one) in taken.attachments.iter().enumerate() {
        let path = RelPath::parse(&format!("{}/{number}", folder(work))).expect("a plain path");
        let fingerprint = runner.effects.work.folder.stat(&path).await?.fingerprint;
        let name = RelPath::root().join_name(one.name.as_bytes()).map_err(|error| FailureKind::Lasting {
            code: "bad-name".to_owned(),
            why: format!("an attachment has a name that is none: {error}"),
            remedy: "Ask the sender to name it otherwise; then dismiss this one.".to_owned(),
        })?;
        let file = wetbank_core::FilePath { place: work.file.place.clone(), path: work.file.path.join(&name) };
        let (shown, size) = (fingerprint.to_string(), fingerprint.size);
        let hand = Hand { place: None, path, fingerprint, ..Hand::empty(name) };
        let hand = serde_json::to_string(&hand).expect("plain values serialise");
        parts.push(NewPart { file, fingerprint: shown, size, position: Position::Branching, hand });
    }
    Ok(parts)
}

/// Puts the letter away, if the rule says where.
async fn file_away(
    runner: &Runner,
    work: &Work,
    letter: &Letter,
    hand: &Hand,
    attempt: &mut Option<i64>,
) -> Result<Option<StepDone>, FailureKind> {
    let Some(folder) = &letter.file_in else { return Ok(None) };
    let place = paused(runner, work)?;
    began(runner, work, "original", attempt).await?;
    let Some(mailbox) = place.as_mailbox() else {
        return Err(FailureKind::Lasting {
            code: "no-mailbox".to_owned(),
            why: format!("{} is no mailbox, so no letter can be filed away there", work.file.place),
            remedy: "Name a place of kind \"mailbox\" in the rule, then release.".to_owned(),
        });
    };
    let note = match mailbox.file_away(&work.file.path, folder).await {
        Ok(()) => format!("filed in {folder}"),
        // A stop may have come between the filing and the record of it.
        Err(error) if error.kind == PlaceErrorKind::NotFound && error.path == work.file.path => {
            "it was gone from there already".to_owned()
        }
        Err(error) => return Err(error.into()),
    };
    Ok(Some(StepDone { attempt: *attempt, skipped: false, freed: true, ..StepDone::nothing(hand, &note) }))
}
