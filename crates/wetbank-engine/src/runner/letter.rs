//! A letter that came: its attachments become items of its run, and at the end it is filed away.

use std::{collections::BTreeMap, fs, io::BufReader, sync::Arc};

use tokio_util::sync::CancellationToken;
use wetbank_core::{ItemState, Letter, RelPath, Rule};
use wetbank_errands::TakenOut;
use wetbank_journal::{AttemptStart, NewPart, Work};
use wetbank_places::{Place, PlaceErrorKind};

use super::{
    record::{End, failed, finish, skip_by},
    split,
};
use crate::{
    EngineError, clock,
    engine::Core,
    reading::{Reading, Source},
    step::{FailureKind, Hand, StepDone, StepFailure},
};

/// Where a letter stands once its attachments are taken out.
const FILING: usize = 1;

pub(super) async fn through(
    core: &Arc<Core>,
    work: &mut Work,
    rule: &Rule,
    letter: &Letter,
    hand: Hand,
    stop: &CancellationToken,
) -> Result<End, EngineError> {
    if stop.is_cancelled() {
        return super::end_stopped(core, work, None).await;
    }
    let mut attempt = None;
    if work.step >= FILING {
        return match file_away(core, work, letter, &hand, &mut attempt).await {
            Ok(done) => finish(core, work, done).await.map(|()| End::AtRest),
            Err(kind) => failed(core, work, rule.retry.clone(), StepFailure { attempt, kind }).await,
        };
    }
    let taken = match take_out(core, work, letter, &hand, &mut attempt).await {
        Ok(taken) => taken,
        Err(kind) => return failed(core, work, rule.retry.clone(), StepFailure { attempt, kind }).await,
    };
    let about = serde_json::to_string(&about(&taken)).expect("plain values serialise");
    core.journal.set_about(work.run, about.clone()).await?;
    work.about = Some(about);
    if taken.attachments.is_empty() {
        let why = match taken.others {
            0 => "there is no file attached to it".to_owned(),
            others => format!("none of its {others} attachments is one that the rule is about"),
        };
        let done = StepDone { attempt, ..StepDone::nothing(&hand, &why) };
        return skip_by(core, work, &done, format!("{why}; it stays where it is")).await;
    }
    let parts = match parts(core, work, &taken).await {
        Ok(parts) => parts,
        Err(kind) => return failed(core, work, rule.retry.clone(), StepFailure { attempt, kind }).await,
    };
    let note = match parts.len() {
        1 => "1 file".to_owned(),
        many => format!("{many} files"),
    };
    work.step = FILING;
    let done = StepDone { attempt, skipped: false, parts, ..StepDone::nothing(&hand, &note) };
    split(core, work, done, 0).await
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

async fn began(core: &Core, work: &Work, kind: &'static str, attempt: &mut Option<i64>) -> Result<(), FailureKind> {
    let id = core.journal.next_attempt();
    let start = AttemptStart {
        id,
        item: work.item,
        branch: None,
        step: work.step,
        kind,
        number: work.failures + 1,
        began: clock::now(),
        target: None,
        intent: None,
    };
    core.journal.start_attempt(start).await?;
    *attempt = Some(id);
    Ok(())
}

fn paused(core: &Core, work: &Work) -> Result<Arc<dyn Place>, FailureKind> {
    if let Some((until, error)) = core.health.paused(&work.file.place) {
        return Err(FailureKind::Paused { until, why: error.to_string() });
    }
    Ok(core.arrangement().place(&work.file.place)?)
}

/// The folder of ours with the attachments of an item.
fn folder(work: &Work) -> String {
    format!("{}-letter.d", work.item)
}

async fn take_out(
    core: &Arc<Core>,
    work: &Work,
    letter: &Letter,
    hand: &Hand,
    attempt: &mut Option<i64>,
) -> Result<TakenOut, FailureKind> {
    let place = paused(core, work)?;
    began(core, work, "attachments", attempt).await?;
    let _slot = core.crypt_slots.acquire().await.expect("the semaphore is never closed");
    let source = Source { place, path: work.file.path.clone(), fingerprint: hand.fingerprint.clone() };
    let reading = Reading::open(&source, Arc::default()).await?;
    let broken = reading.broken();
    let into = core.work_folder.root().join(folder(work));
    let letter = letter.clone();
    let taken = tokio::task::spawn_blocking(move || {
        let _ = fs::remove_dir_all(&into);
        fs::create_dir(&into)?;
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
    .map_err(|error| EngineError::NotNow(format!("the step broke off: {error}")))?;
    broken.check()?;
    Ok(taken?)
}

async fn parts(core: &Core, work: &Work, taken: &TakenOut) -> Result<Vec<NewPart>, FailureKind> {
    let mut parts = Vec::with_capacity(taken.attachments.len());
    for (number, one) in taken.attachments.iter().enumerate() {
        let path = RelPath::parse(&format!("{}/{number}", folder(work))).expect("a plain path");
        let fingerprint = core.work_folder.stat(&path).await?.fingerprint;
        let name = RelPath::root().join_name(one.name.as_bytes()).map_err(|error| FailureKind::Lasting {
            code: "bad-name".to_owned(),
            why: format!("an attachment has a name that is none: {error}"),
            remedy: "Ask the sender to name it otherwise; then dismiss this one.".to_owned(),
        })?;
        let file = wetbank_core::FilePath { place: work.file.place.clone(), path: work.file.path.join(&name) };
        let (shown, size) = (fingerprint.to_string(), fingerprint.size);
        let hand = Hand { place: None, path, fingerprint, ..Hand::empty(name) };
        let hand = serde_json::to_string(&hand).expect("plain values serialise");
        parts.push(NewPart { file, fingerprint: shown, size, step: 0, hand });
    }
    Ok(parts)
}

/// Puts the letter away, if the rule says where.
async fn file_away(
    core: &Core,
    work: &mut Work,
    letter: &Letter,
    hand: &Hand,
    attempt: &mut Option<i64>,
) -> Result<Option<StepDone>, FailureKind> {
    let Some(folder) = &letter.file_in else { return Ok(None) };
    let place = paused(core, work)?;
    began(core, work, "original", attempt).await?;
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
    work.state = ItemState::Working;
    Ok(Some(StepDone { attempt: *attempt, skipped: false, freed: true, ..StepDone::nothing(hand, &note) }))
}
