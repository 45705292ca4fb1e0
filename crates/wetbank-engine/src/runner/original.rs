//! The file that came: what it is before anything is done with it, and what becomes of it.

use std::sync::Arc;

use tokio_util::sync::CancellationToken;
use wetbank_core::{
    Branch, FileFacts, FilePath, Fingerprint, IfExists, OnFault, Original, RelPath, Rule, Template, TemplateError,
    TemplateFacts,
};
use wetbank_journal::Work;
use wetbank_places::{EntryKind, PlaceErrorKind};

use super::record::{End, failed, skip};
use crate::{
    EngineError,
    engine::Core,
    step::{AtStep, EVENT, FailureKind, Hand, StepDone, StepFailure, about, about_run},
    watch::GONE,
};

pub(super) enum Look {
    /// It is there, in the state in which it came.
    Hand(Box<Hand>),
    /// It is not worked on now.
    End(End),
}

/// Looks at the file that came, before anything is done with it.
pub(super) async fn look(core: &Arc<Core>, work: &mut Work, rule: &Rule) -> Result<Look, EngineError> {
    if rule.fault == OnFault::Stop
        && let Some(held) = core.journal.held_in_run(work.run).await?
    {
        let why = format!("not begun, because {held} is held and the rule stops then; it is taken by the next run");
        return Ok(Look::End(skip(core, work, why, true).await?));
    }
    if about_run(work).get(EVENT).is_some_and(|event| event == GONE) {
        let name = RelPath::from_bytes(work.file.path.name()).expect("a name of a path");
        return Ok(Look::Hand(Box::new(Hand::empty(name))));
    }
    let name = work.file.place.clone();
    if let Some((until, _)) = core.health.paused(&name) {
        return Ok(Look::End(End::Later(until)));
    }
    let found = match core.arrangement().place(&name) {
        Ok(place) => place.stat(&work.file.path).await,
        Err(error) => Err(error),
    };
    match found {
        Ok(entry) if entry.kind != EntryKind::File => {
            let why = "it is no regular file any more".to_owned();
            Ok(Look::End(skip(core, work, why, false).await?))
        }
        Ok(entry) if entry.fingerprint.to_string() != work.fingerprint => {
            let why = "it was replaced before its turn; the new file is taken by itself".to_owned();
            Ok(Look::End(skip(core, work, why, false).await?))
        }
        Ok(entry) => Ok(Look::Hand(Box::new(Hand {
            place: Some(name),
            path: work.file.path.clone(),
            name: RelPath::from_bytes(work.file.path.name()).expect("a name of a path"),
            fingerprint: entry.fingerprint.clone(),
            original: Some((work.file.clone(), entry.fingerprint)),
            fault: None,
            count: None,
        }))),
        Err(e) if e.kind == PlaceErrorKind::NotFound => {
            let why = "it was gone before its turn".to_owned();
            Ok(Look::End(skip(core, work, why, true).await?))
        }
        Err(error) => {
            let failure = StepFailure { attempt: None, kind: error.into() };
            Ok(Look::End(failed(core, work, rule.retry.clone(), failure).await?))
        }
    }
}

/// What becomes of the original, after everything else.
pub(super) async fn keep(
    core: &Arc<Core>,
    work: &Work,
    rule: &Rule,
    (branch, hand): (&Branch, &Hand),
    stop: &CancellationToken,
) -> Result<StepDone, StepFailure> {
    let at =
        AtStep { core, work, rule, branch: work.branch.unwrap_or(0), step: work.step, kind: "original", hand, stop };
    let mut attempt = None;
    let result = match (&branch.original, &hand.original) {
        (Original::MoveTo(folder), Some((file, fingerprint))) => {
            let facts = FileFacts::new(file, fingerprint).with(about(work, hand));
            let started = work.started;
            let facts = TemplateFacts { file: &facts, rule, run: work.run, started, now: started };
            match aside(&base(rule, file, &facts), folder, &facts) {
                Ok(folder) => match still_the_same(core, file, fingerprint).await {
                    Ok(true) => {
                        let path = folder.join(&RelPath::from_bytes(file.path.name()).expect("a name"));
                        let to = FilePath { place: file.place.clone(), path };
                        at.relocate(file, to, folder, IfExists::KeepBoth, &mut attempt).await
                    }
                    Ok(false) => Ok(StepDone::nothing(hand, "the original was replaced or removed in the meantime")),
                    Err(kind) => Err(kind),
                },
                Err(error) => Err(error.into()),
            }
        }
        (Original::Mark(name), Some((file, fingerprint))) => {
            let facts = FileFacts::new(file, fingerprint).with(about(work, hand));
            let started = work.started;
            let facts = TemplateFacts { file: &facts, rule, run: work.run, started, now: started };
            match name.render_name(&file.path.parent(), &facts) {
                Ok(path) if path == file.path => {
                    Ok(StepDone::nothing(hand, "the mark has the file's own name, so there is none"))
                }
                Ok(path) => at.mark(file, &path, &mut attempt).await,
                Err(error) => Err(error.into()),
            }
        }
        _ => at.remove_original(&mut attempt).await,
    };
    result.map_err(|kind| StepFailure { attempt, kind })
}

/// The folder that a file was taken from, with those below it.
pub(crate) fn base(rule: &Rule, file: &FilePath, facts: &TemplateFacts<'_>) -> RelPath {
    let folder = file.path.parent();
    let holds = |base: &RelPath| folder.below(base).is_some();
    let arrival = rule.starts.arrival.iter().filter(|a| a.files.place == file.place).map(|a| a.folder.clone());
    let finds = rule.finds.iter().filter(|find| find.files.place == file.place);
    let finds = finds.filter_map(|find| find.folder.render_folder(facts).ok());
    arrival.chain(finds).filter(holds).max_by_key(|base| base.as_bytes().len()).unwrap_or(folder)
}

/// Where originals are set aside: below the watched folder, or from the root with a slash.
fn aside(watched: &RelPath, folder: &Template, facts: &TemplateFacts<'_>) -> Result<RelPath, TemplateError> {
    let below = folder.render_folder(facts)?;
    Ok(if folder.source().starts_with('/') { below } else { watched.join(&below) })
}

async fn still_the_same(core: &Core, file: &FilePath, fingerprint: &Fingerprint) -> Result<bool, FailureKind> {
    let place = core.arrangement().place(&file.place)?;
    match place.stat(&file.path).await {
        Ok(entry) => Ok(entry.fingerprint == *fingerprint),
        Err(e) if e.kind == PlaceErrorKind::NotFound => Ok(false),
        Err(e) => Err(e.into()),
    }
}
