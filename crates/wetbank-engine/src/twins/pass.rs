//! A pass of a twin: a look at both sides, and then every line of the plan is an item of one run.

use std::{collections::HashSet, sync::Arc, time::Duration};

use parking_lot::Mutex;
use wetbank_core::{
    Cause, Name, RelPath,
    twin::{Action, Counts, Known, Line, Pair, Side, Stop, Twin, Was, Why, branch_of},
};
use wetbank_journal::{PassRecord, PlannedItem, TwinNote};

use super::{Looked, look};
use crate::{
    EngineError, clock,
    effects::{Aligned, Effects, Hand},
    queue::Queue,
};

/// Items queued, and notes written, at once.
const BATCH: usize = 500;
/// How often a pass looks whether its run is over.
const LOOKS: Duration = Duration::from_millis(50);

/// What a pass came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Passing {
    /// Its number.
    pub pass: i64,
    /// The run that carried it out; none where nothing was to be done.
    pub run: Option<i64>,
    /// What was planned.
    pub counts: Counts,
    /// Files on each side when it was planned.
    pub files: Pair<u64>,
    /// Why it was not begun.
    pub stop: Option<Stop>,
    /// Whether both sides met for the first time.
    pub is_first: bool,
}

/// Twins that are in a pass. Only one pass of a twin goes on at a time.
#[derive(Debug, Default)]
pub(crate) struct Going(Mutex<HashSet<Name>>);

impl Going {
    fn enter(self: &Arc<Self>, twin: &Name) -> Option<Here> {
        self.0.lock().insert(twin.clone()).then(|| Here(self.clone(), twin.clone()))
    }
}

struct Here(Arc<Going>, Name);

impl Drop for Here {
    fn drop(&mut self) {
        self.0.0.lock().remove(&self.1);
    }
}

/// A pass, from the look at both sides to the end of its run. Nothing if one goes on already.
pub(crate) async fn pass(
    (effects, queue, going): (&Arc<Effects>, &Queue, &Arc<Going>),
    twin: &Twin,
    cause: Cause,
    is_allowed: bool,
) -> Result<Option<Passing>, EngineError> {
    let Some(_here) = going.enter(&twin.name) else { return Ok(None) };
    let (journal, now) = (&effects.record.journal, clock::now());
    let is_first = !journal.has_met(&twin.name).await?;
    let number = journal.begin_pass(&twin.name, now).await?;
    let ends = |run: Option<i64>, counts: Option<&Counts>, why: Option<String>| PassRecord {
        id: number,
        began: now,
        ended: Some(clock::now()),
        run,
        plan: counts.map(|counts| serde_json::to_string(counts).expect("plain values serialise")),
        why,
    };
    let looked = match look(effects, twin, is_first, now).await {
        Ok(looked) => looked,
        Err(error) => {
            journal.set_pass(ends(None, None, Some(error.to_string()))).await?;
            return Err(error);
        }
    };
    let mut passing =
        Passing { pass: number, run: None, counts: looked.counts, files: looked.files, stop: looked.stop, is_first };
    if let Some(stop) = passing.stop.filter(|_| !is_allowed) {
        journal.set_pass(ends(None, Some(&looked.counts), Some(stop.to_string()))).await?;
        return Ok(Some(passing));
    }
    passing.stop = None;
    let carried = carry_out((effects, queue), twin, cause, is_first, &looked).await;
    let (run, why) = match carried {
        Ok(run) => (run, None),
        Err(error) => {
            journal.set_pass(ends(None, Some(&looked.counts), Some(error.to_string()))).await?;
            return Err(error);
        }
    };
    passing.run = run;
    journal.set_pass(ends(run, Some(&looked.counts), why)).await?;
    Ok(Some(passing))
}

/// When a line's turn comes: what frees a name is done before that name is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Turn {
    /// Files go.
    Deletes,
    /// Files come, and folders for them.
    Comes,
    /// Folders go, once everything that was in them is gone.
    Removes,
    /// Files come that have the name of a folder which went.
    Takes,
}

impl Turn {
    const ALL: [Self; 4] = [Self::Deletes, Self::Comes, Self::Removes, Self::Takes];

    fn of(line: &Line) -> Self {
        match (&line.action, line.why) {
            (Action::Delete { .. }, _) => Self::Deletes,
            (Action::RemoveFolder { .. }, _) => Self::Removes,
            (Action::Make { .. }, Why::FileOn(_)) => Self::Takes,
            _ => Self::Comes,
        }
    }
}

/// Queues what is to be done, turn by turn, and waits for its end.
async fn carry_out(
    (effects, queue): (&Arc<Effects>, &Queue),
    twin: &Twin,
    cause: Cause,
    is_first: bool,
    looked: &Looked,
) -> Result<Option<i64>, EngineError> {
    let journal = &effects.record.journal;
    let mut run = None;
    let mut version = None;
    for turn in Turn::ALL {
        let (mut items, mut notes, mut any) = (Vec::new(), Vec::new(), false);
        let mut reading = looked.read().await?;
        loop {
            let line = reading.next().await?;
            let is_over = line.is_none();
            if let Some(line) = line.filter(|line| Turn::of(line) == turn) {
                match branch_of(&line.action) {
                    Some(branch) => items.push(item(twin, line, branch)),
                    None => notes.extend(note(&line, is_first)),
                }
            }
            if notes.len() >= BATCH || (is_over && !notes.is_empty()) {
                journal.note_twin(&twin.name, std::mem::take(&mut notes)).await?;
            }
            if items.len() >= BATCH || (is_over && !items.is_empty()) {
                let version = match version {
                    Some(version) => version,
                    None => {
                        let rule = twin.rule_name();
                        let kept = journal.keep_text(rule.as_str(), &twin.rule_text(), "twin", clock::now()).await?;
                        *version.insert(kept)
                    }
                };
                let of = (&twin.rule_name(), version, cause);
                let works = journal.take_planned(of, run, std::mem::take(&mut items), clock::now()).await?;
                run = run.or(works.first().map(|work| work.run));
                queue.claims.add(works);
                any = true;
            }
            if is_over {
                break;
            }
        }
        if let Some(run) = run.filter(|_| any) {
            while !journal.open_items_of(run, 0, 1).await?.is_empty() {
                if effects.record.is_stopping() {
                    return Err(EngineError::Broken("the service stops; the next pass goes on".to_owned()));
                }
                tokio::time::sleep(LOOKS).await;
            }
        }
    }
    Ok(run)
}

fn item(twin: &Twin, line: Line, branch: usize) -> PlannedItem {
    // The file that it is about: that which travels, or which is taken away.
    let (side, at) = match &line.action {
        Action::Make { on } | Action::Replace { on } => (on.other(), line.at.of(on.other()).clone()),
        Action::Rename { on, from } => (*on, from.of(*on).clone()),
        Action::Delete { on } | Action::MakeFolder { on } | Action::RemoveFolder { on } => {
            (*on, line.at.of(*on).clone())
        }
        Action::KeepBoth { renamed, .. } => (*renamed, line.at.of(*renamed).clone()),
        Action::Ask { .. } | Action::Join | Action::Forget | Action::Leave => (Side::Near, line.at.near.clone()),
    };
    let file = twin.file(side, &at);
    let print = line.had.of(side).as_ref().map(|state| state.print.clone());
    let name = RelPath::from_bytes(file.path.name()).expect("a name of a path");
    let empty = Hand::empty(name);
    let fingerprint = print.clone().unwrap_or_else(|| empty.fingerprint.clone());
    let size = fingerprint.size;
    let text = print.map_or_else(String::new, |print| print.to_string());
    let aligned = Aligned {
        twin: twin.name.clone(),
        folders: twin.folders.clone(),
        line,
        kept: twin.kept(clock::now()),
        is_over: false,
    };
    let hand = Hand {
        place: Some(file.place.clone()),
        path: file.path.clone(),
        fingerprint,
        aligned: Some(Box::new(aligned)),
        ..empty
    };
    let hand = hand.text().unwrap_or_default();
    PlannedItem { file, fingerprint: text, size, branch, hand }
}

/// What is only noted.
fn note(line: &Line, is_first: bool) -> Option<TwinNote> {
    let name = Pair { near: line.at.near.name().to_vec(), far: line.at.far.name().to_vec() };
    let folder = line.at.near.parent();
    let was = match &line.action {
        Action::Forget => return Some(TwinNote::Gone(line.at.near.clone())),
        Action::Join if line.is_folder => Was::Folder,
        Action::Join => match (&line.had.near, &line.had.far) {
            (Some(near), Some(far)) => Was::File(Pair { near: near.clone(), far: far.clone() }),
            _ => return None,
        },
        // What was alike once stays known as it was: it is asked again until it is answered.
        Action::Ask { .. } if is_first || line.was.is_none() => Was::Asked,
        _ => return None,
    };
    Some(TwinNote::Known { folder, known: Box::new(Known { name, was }) })
}
