//! A pass of a twin: a look at both sides, and then every line of the plan is an item of one run.

use std::time::Duration;

use wetbank_core::{
    Cause, ItemState, RelPath,
    twin::{Action, Choices, Counts, Known, Line, Notice, Pair, Side, Twin, Was, Why, branch_of},
};
use wetbank_journal::{PassRecord, PlannedItem, PlannedRun, TwinNote};

use super::{
    keeper::Keeper,
    look::{Looked, look, places},
    marks::{self, Planned},
    questions::question,
};
use crate::{
    EngineError, clock,
    effects::{Aligned, Hand, Passing},
};

/// Items queued, and notes written, at once.
const BATCH: usize = 500;
/// How often a pass looks whether its run is over.
const LOOKS: Duration = Duration::from_millis(50);

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
    /// Whether there can be any such lines in a plan that comes to this.
    fn has_any(self, counts: &Counts) -> bool {
        match self {
            Self::Deletes => counts.deleted != Pair::default(),
            Self::Comes => true,
            Self::Removes | Self::Takes => counts.folders != Pair::default(),
        }
    }

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

impl Keeper {
    /// A pass, from the look at both sides to the end of its run.
    pub(super) async fn pass_in_turn(
        &self,
        twin: &Twin,
        cause: Cause,
        choices: &Choices,
    ) -> Result<Passing, EngineError> {
        let (journal, began) = (&self.record.journal, clock::now());
        let looked = match look((&self.effects, &self.differ), twin, choices, began).await {
            Ok(looked) => looked,
            Err(error) => {
                self.note_pass(twin, None, (None, Some(error.to_string())), began).await?;
                return Err(error);
            }
        };
        let mut planned = looked.planned.clone();
        let Planned { counts, files, stop, .. } = planned;
        let mut passing =
            Passing { pass: 0, run: None, counts, files, left: 0, held: 0, stop, is_first: looked.is_first };
        if !planned.is_part {
            self.ask(twin, question(twin, stop, &counts)).await?;
        }
        if let Some(stop) = stop {
            passing.pass = self.note_pass(twin, Some(&planned), (None, Some(stop.to_string())), began).await?;
            return Ok(passing);
        }
        if !counts.acts() && !looked.needs_mark {
            let noted = self.carry_out(twin, (cause, None), &looked).await.map(|_| ());
            let why = noted.as_ref().err().map(ToString::to_string).or_else(|| part(&looked));
            passing.pass = self.note_pass(twin, Some(&planned), (None, why), began).await?;
            return noted.map(|()| passing);
        }
        self.acts(&twin.name);
        let tell = twin.tell.iter().map(Notice::key).collect();
        let number = journal.begin_pass(&twin.name, tell, began).await?;
        let mark = planned.mark.insert(marks::fresh()).clone();
        let ends = |run: Option<i64>, planned: &Planned, is_over: bool, why: Option<String>| PassRecord {
            id: number,
            began,
            ended: is_over.then(clock::now),
            run,
            plan: Some(planned.text()),
            why,
        };
        let carried = async {
            // It is on record before it is on any side: a side that is marked so is known after a stop, too.
            journal.set_pass(ends(None, &planned, false, None)).await?;
            marks::set(&self.effects.work.instance, twin, &places(&self.effects, twin)?, &mark).await?;
            self.carry_out(twin, (cause, Some(number)), &looked).await
        };
        match carried.await {
            // What was left out of a first meeting is met for the first time when it comes to it.
            Ok((run, held)) => {
                passing.held = held;
                if let Some(run) = run {
                    passing.left = journal.items_in(run, ItemState::Skipped).await?;
                    passing.held += journal.items_in(run, ItemState::Held).await?;
                }
                let planned = Planned { left: passing.left, held: passing.held, ..planned.clone() };
                journal.set_pass(ends(run, &planned, true, part(&looked))).await?;
                Ok(Passing { pass: number, run, ..passing })
            }
            Err(error) => {
                journal.set_pass(ends(None, &planned, true, Some(error.to_string()))).await?;
                Err(error)
            }
        }
    }

    /// Writes down a pass in which nothing was done to a file. What comes to the same as the pass before is one line with
    /// it. Answers its number.
    async fn note_pass(
        &self,
        twin: &Twin,
        planned: Option<&Planned>,
        (run, why): (Option<i64>, Option<String>),
        began: jiff::Timestamp,
    ) -> Result<i64, EngineError> {
        let journal = &self.record.journal;
        let (plan, ended) = (planned.map(Planned::text), clock::now());
        if let Some(last) = journal.passes(&twin.name, 1).await?.pop()
            && (last.ended.is_some(), last.run, &last.plan, &last.why) == (true, None, &plan, &why)
        {
            journal.pass_again(last.id, ended, None).await?;
            return Ok(last.id);
        }
        let id = journal.begin_pass(&twin.name, Vec::new(), began).await?;
        journal.set_pass(PassRecord { id, began, ended: Some(ended), run, plan, why }).await?;
        self.tell(&twin.name);
        Ok(id)
    }

    /// Queues what is to be done for a pass, turn by turn, and waits for its end. Answers the run, and how much of it was held before
    /// already: that waits for a person, and is not done again beside it.
    async fn carry_out(
        &self,
        twin: &Twin,
        (cause, pass): (Cause, Option<i64>),
        looked: &Looked,
    ) -> Result<(Option<i64>, u64), EngineError> {
        let journal = &self.record.journal;
        let (held, mut waiting) = (journal.files_held(&twin.rule_name()).await?, 0);
        let mut run = None;
        let mut version = None;
        for turn in Turn::ALL.into_iter().filter(|turn| turn.has_any(&looked.planned.counts)) {
            let (mut items, mut notes, mut any) = (Vec::new(), Vec::new(), false);
            let mut reading = looked.read().await?;
            loop {
                let line = reading.next().await?;
                let is_over = line.is_none();
                if let Some(line) = line.filter(|line| Turn::of(line) == turn) {
                    match branch_of(&line.action) {
                        Some(branch) => {
                            let item = item(twin, line, branch);
                            match held.contains(&item.file) {
                                true => waiting += 1,
                                false => items.push(item),
                            }
                        }
                        None => notes.extend(note(&line, looked.is_first)),
                    }
                }
                if notes.len() >= BATCH || (is_over && !notes.is_empty()) {
                    journal.note_twin(&twin.name, std::mem::take(&mut notes)).await?;
                }
                if items.len() >= BATCH || (is_over && !items.is_empty()) {
                    let version = match version {
                        Some(version) => version,
                        None => *version.insert(self.rule_version(twin).await?),
                    };
                    let of = (&twin.rule_name(), version, cause);
                    let into = match (run, pass) {
                        (Some(run), _) => PlannedRun::Known(run),
                        (None, Some(pass)) => PlannedRun::OfPass(pass),
                        (None, None) => PlannedRun::New,
                    };
                    let works = journal.take_planned(of, into, std::mem::take(&mut items), clock::now()).await?;
                    run = run.or(works.first().map(|work| work.run));
                    self.queue.claims.add(works);
                    any = true;
                }
                if is_over {
                    break;
                }
            }
            if let Some(run) = run.filter(|_| any) {
                self.ends(run).await?;
            }
        }
        Ok((run, waiting))
    }

    /// Waits until nothing of a run is to be done any more; what is held is left to a person.
    pub(super) async fn ends(&self, run: i64) -> Result<(), EngineError> {
        while !self.record.journal.open_items_of(run, 0, 1).await?.is_empty() {
            tokio::select! {
                () = tokio::time::sleep(LOOKS) => {}
                () = self.cancel.cancelled() => {
                    return Err(EngineError::Broken("the service stops; the next pass goes on".to_owned()));
                }
            }
        }
        Ok(())
    }
}

/// Why it was no whole pass.
fn part(looked: &Looked) -> Option<String> {
    (looked.is_first && looked.planned.is_part).then(|| "a part of it was left out".to_owned())
}

pub(super) fn item(twin: &Twin, line: Line, branch: usize) -> PlannedItem {
    // The file that it is about: that which travels, or which is taken away.
    let (side, at) = match &line.action {
        Action::Make { on } | Action::Replace { on } => (on.other(), line.at.of(on.other()).clone()),
        Action::Rename { on, from } => (*on, from.of(*on).clone()),
        Action::Restore { on, from } => (*on, from.clone()),
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
        brought: None,
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
