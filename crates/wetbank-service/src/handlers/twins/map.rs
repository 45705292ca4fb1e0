//! Twins as the API shows them.

use jiff::{Timestamp, civil::Date};
use wetbank_client as api;
use wetbank_core::{
    RelPath,
    twin::{Action, Answer, Choices, Line, Side, State, Stop, Twin},
};
use wetbank_engine::{Comparison, Kept, PassStatus, Passing, TwinStatus, changes};

use crate::{error::ApiError, shown::time};

pub(super) fn path(text: &str) -> Result<RelPath, ApiError> {
    RelPath::parse(text).map_err(|error| ApiError::bad(error.to_string()))
}

pub(super) fn side(word: &str) -> Result<Side, ApiError> {
    let known = Side::BOTH.into_iter().find(|side| side.to_string() == word);
    known.ok_or_else(|| ApiError::bad(format!("\"{word}\" is no side; say near or far")))
}

pub(super) fn day(word: &str) -> Result<Date, ApiError> {
    word.parse().map_err(|_| ApiError::bad(format!("\"{word}\" is no day; write it as in 2026-03-16")))
}

/// The word for a plain value.
fn word(value: impl serde::Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
}

fn answer(text: &str) -> Result<Answer, ApiError> {
    serde_json::from_value(text.into())
        .map_err(|_| ApiError::bad(format!("\"{text}\" is no answer; say near, far or both")))
}

pub(super) fn choices(asked: api::TwinChoices) -> Result<Choices, ApiError> {
    let answers = asked.answers.iter().map(|(at, said)| Ok((path(at)?, answer(said)?)));
    Ok(Choices {
        answers: answers.collect::<Result<_, ApiError>>()?,
        without: asked.without.iter().map(|at| path(at)).collect::<Result<_, _>>()?,
        only_answered: asked.only_answered,
        allowed: asked.allow.map(stop_of).transpose()?,
    })
}

fn stop_of(stop: api::TwinStop) -> Result<Stop, ApiError> {
    let on = side(&stop.side)?;
    match stop.kind.as_str() {
        "too-much" => {
            Ok(Stop::TooMuch { on, deleted: stop.deleted, replaced: stop.replaced, of: stop.of, most: stop.most })
        }
        "other" => Ok(Stop::Other { side: on }),
        "empty" => Ok(Stop::Empty { side: on, were: stop.of }),
        kind => {
            Err(ApiError::bad(format!("\"{kind}\" is no stop; say too-much, other or empty, as the comparison told")))
        }
    }
}

pub(super) fn stop(stop: Stop) -> api::TwinStop {
    let words = stop.to_string();
    let of = |kind: &str, side: Side| api::TwinStop {
        kind: kind.to_owned(),
        side: side.to_string(),
        deleted: 0,
        replaced: 0,
        of: 0,
        most: 0,
        words: words.clone(),
    };
    match stop {
        Stop::TooMuch { on, deleted, replaced, of: all, most } => {
            api::TwinStop { deleted, replaced, of: all, most, ..of("too-much", on) }
        }
        Stop::Other { side } => of("other", side),
        Stop::Empty { side, were } => api::TwinStop { of: were, ..of("empty", side) },
    }
}

fn pass(status: &PassStatus) -> api::TwinPass {
    api::TwinPass {
        id: status.record.id,
        began: time(status.record.began),
        ended: status.record.ended.map(time),
        run: status.record.run,
        words: if status.record.plan.is_some() { changes(&status.counts) } else { String::new() },
        why: status.record.why.clone(),
        near_files: status.files.near,
        far_files: status.files.far,
    }
}

/// How the sides stand, in words, and since when.
fn state(status: &TwinStatus) -> (api::TwinState, String, Option<Timestamp>) {
    use api::TwinState::{Alike, Asks, Failed, Going, New, Waits};
    if let Some(since) = status.going {
        return (Going, "a pass goes on".to_owned(), Some(since));
    }
    // A pass of which nobody heard the end was cut off with the service: the next one goes on.
    let Some(last) = status.passes.iter().find(|pass| pass.record.ended.is_some()) else {
        return (New, "no pass was made yet".to_owned(), None);
    };
    let ended = last.record.ended;
    if let Some((_, why)) = &status.question {
        return (Asks, why.clone(), Some(last.record.began));
    }
    match &last.record.why {
        Some(why) if !last.is_part => return (Failed, why.clone(), Some(last.record.began)),
        _ => {}
    }
    match (last.held, last.left + last.counts.busy, last.is_part) {
        (1.., ..) => (Asks, format!("{} of the last pass are held", last.held), ended),
        (0, waiting @ 1.., _) => (Waits, format!("{waiting} changed meanwhile or are still being written"), ended),
        (0, 0, true) => (Waits, "the last pass was only of a part".to_owned(), ended),
        (0, 0, false) => {
            // Where nobody tells of changes since, it is told of the pass.
            let words = match status.live.twin.starts.change {
                Some(_) => "both sides are alike",
                None => "both sides were alike after the last pass",
            };
            let since = if last.record.run.is_some() { ended } else { Some(last.record.began) };
            (Alike, words.to_owned(), since)
        }
    }
}

pub(super) fn twin(status: &TwinStatus) -> api::Twin {
    let twin = &status.live.twin;
    let (state, words, since) = state(status);
    api::Twin {
        name: twin.name.to_string(),
        title: twin.title.clone(),
        why: twin.why.clone(),
        sentence: twin.words(),
        near: twin.folders.near.to_string(),
        far: twin.folders.far.to_string(),
        way: word(twin.way),
        on: status.live.is_on,
        keep_days: twin.keep_days,
        state,
        words,
        since: since.map(time),
        question: status.question.as_ref().map(|(item, why)| api::TwinQuestion { item: *item, why: why.clone() }),
        next: status.next.map(time),
        passes: status.passes.iter().map(pass).collect(),
        text: status.live.text.to_string(),
    }
}

fn file(state: &State) -> api::TwinFile {
    api::TwinFile { size: state.print.size, modified: modified(state) }
}

fn modified(state: &State) -> Option<String> {
    // Some places tell no time.
    (state.print.modified > 0).then(|| Timestamp::from_nanosecond(state.print.modified.into()).ok().map(time)).flatten()
}

/// The word for what is done, and where.
fn does(action: &Action) -> (&'static str, Option<Side>) {
    match action {
        Action::Make { on } => ("make", Some(*on)),
        Action::Replace { on } => ("replace", Some(*on)),
        Action::Delete { on } => ("delete", Some(*on)),
        Action::Rename { on, .. } => ("rename", Some(*on)),
        Action::Restore { on, .. } => ("restore", Some(*on)),
        Action::MakeFolder { on } => ("make-folder", Some(*on)),
        Action::RemoveFolder { on } => ("remove-folder", Some(*on)),
        Action::KeepBoth { renamed, .. } => ("keep-both", Some(*renamed)),
        Action::Ask { .. } => ("ask", None),
        Action::Join => ("join", None),
        Action::Forget => ("forget", None),
        Action::Leave => ("leave", None),
    }
}

fn line(twin: &Twin, line: &Line) -> api::TwinLine {
    let (does, on) = does(&line.action);
    api::TwinLine {
        near: line.at.near.to_string(),
        far: line.at.far.to_string(),
        folder: line.is_folder,
        does: does.to_owned(),
        on: on.map(|on| on.to_string()),
        words: line.words(),
        why: line.why.to_string(),
        if_differs: line.if_differs,
        here: line.had.near.as_ref().map(file),
        there: line.had.far.as_ref().map(file),
        answers: line.answers(twin.way).iter().map(word).collect(),
    }
}

pub(super) fn comparison(twin: &Twin, found: Comparison) -> api::TwinComparison {
    api::TwinComparison {
        at: time(found.at),
        first: found.is_first,
        stop: found.stop.map(stop),
        near_files: found.files.near,
        far_files: found.files.far,
        words: changes(&found.counts),
        all: found.all,
        lines: found.lines.iter().map(|one| line(twin, one)).collect(),
    }
}

pub(super) fn begun() -> api::TwinPassed {
    api::TwinPassed {
        pass: None,
        run: None,
        first: false,
        words: "the pass has begun".to_owned(),
        stop: None,
        left: 0,
        held: 0,
        asked: 0,
    }
}

pub(super) fn passed(passing: &Passing) -> api::TwinPassed {
    api::TwinPassed {
        pass: Some(passing.pass),
        run: passing.run,
        first: passing.is_first,
        words: changes(&passing.counts),
        stop: passing.stop.map(stop),
        left: passing.left,
        held: passing.held,
        asked: passing.counts.asked,
    }
}

pub(super) fn kept(one: &Kept) -> api::TwinKept {
    api::TwinKept {
        side: one.side.to_string(),
        day: one.day.to_string(),
        path: one.path.to_string(),
        size: one.state.print.size,
        modified: modified(&one.state),
    }
}
