//! One file: what each side has, what both had, and what follows from it.

use super::{Action, Pair, Question, Sameness, Settling, Side, State, Terms, Was, Way, Why};

/// Times that old file systems tell as one, in nanoseconds. A place that tells times more roughly than that rounds them
/// itself: then two times are one if they are told the same, and say little of a content.
const ROUGHEST: i64 = 2_000_000_000;

/// What is done about a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Verdict {
    pub action: Action,
    pub why: Why,
    pub if_differs: bool,
}

impl Verdict {
    pub fn new(action: Action, why: Why) -> Self {
        Self { action, why, if_differs: false }
    }

    fn if_differs(self, is_open: bool) -> Self {
        Self { if_differs: is_open, ..self }
    }
}

/// Whether two contents are the same, as far as their states tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Same {
    Yes,
    No,
    /// Only a look at both tells.
    Open,
}

/// Whether a file is another one than it was on the same side.
fn is_changed(terms: &Terms, side: Side, was: &State, is: &State) -> bool {
    if was.print.size != is.print.size {
        return true;
    }
    if let (Some(was), Some(is)) = (&was.sum, &is.sum) {
        return was != is;
    }
    if let (Some(was), Some(is)) = (&was.print.tag, &is.print.tag) {
        return was != is;
    }
    let grain = terms.customs.of(side).grain;
    let one_time = if grain > ROUGHEST { 1 } else { grain.max(1) };
    let is_another_time = was.print.modified.abs_diff(is.print.modified) >= one_time.unsigned_abs();
    let is_another_file = is.print.inode.is_some() && was.print.inode.is_some() && was.print.inode != is.print.inode;
    is_another_time || (is_another_file && is.print.modified >= terms.young)
}

/// Whether both sides have the same content, of which nothing is known from an earlier pass.
fn compared(terms: &Terms, had: Pair<&State>) -> Same {
    let Pair { near, far } = had;
    if near.print.size != far.print.size {
        return Same::No;
    }
    if let (Some(near), Some(far)) = (&near.sum, &far.sum) {
        return if near == far { Same::Yes } else { Same::No };
    }
    if near.print.modified.max(far.print.modified) >= terms.young {
        return Same::Open;
    }
    let is_one_time =
        terms.grain() <= ROUGHEST && near.print.modified.abs_diff(far.print.modified) < terms.grain().unsigned_abs();
    if terms.same == Sameness::SizeAndTime && terms.times_compare() && is_one_time { Same::Yes } else { Same::Open }
}

/// What is done about a file of this name, of which this is known. Nothing: it is as it was.
pub(super) fn decide(terms: &Terms, had: Pair<Option<&State>>, known: Option<&Was>) -> Option<Verdict> {
    let is_first = terms.is_first || known == Some(&Was::Asked);
    let was = known.and_then(Was::file).filter(|_| !is_first);
    match (had.near, had.far, was) {
        (None, None, _) => known.map(|_| Verdict::new(Action::Forget, Why::Gone)),
        (Some(near), Some(far), None) => Some(both_new(terms, is_first, Pair { near, far })),
        (Some(near), Some(far), Some(was)) => both_known(terms, Pair { near, far }, was),
        (Some(state), None, None) => Some(one_new(terms, is_first, Side::Near, state)),
        (None, Some(state), None) => Some(one_new(terms, is_first, Side::Far, state)),
        (Some(state), None, Some(was)) => {
            Some(one_known(terms, Side::Near, is_changed(terms, Side::Near, &was.near, state)))
        }
        (None, Some(state), Some(was)) => {
            Some(one_known(terms, Side::Far, is_changed(terms, Side::Far, &was.far, state)))
        }
    }
}

/// A file that one side has and the other never had.
fn one_new(terms: &Terms, is_first: bool, on: Side, state: &State) -> Verdict {
    let other = on.other();
    if terms.way.changes(other) {
        let is_old = terms.scope.since.is_some_and(|since| state.print.modified < since);
        return if is_old {
            Verdict::new(Action::Leave, Why::Old)
        } else {
            Verdict::new(Action::Make { on: other }, Why::New(on))
        };
    }
    match terms.way {
        Way::Exact if is_first => Verdict::new(Action::Ask { question: Question::OnlyThere }, Why::NotOn(other)),
        Way::Exact => Verdict::new(Action::Delete { on }, Why::NotOn(other)),
        Way::Add | Way::Update | Way::Both => Verdict::new(Action::Leave, Why::NotOn(other)),
    }
}

/// A file that both had and that only one has now.
fn one_known(terms: &Terms, on: Side, is_changed: bool) -> Verdict {
    let gone = on.other();
    match (terms.way, on) {
        (Way::Both, _) if is_changed => Verdict::new(Action::Make { on: gone }, Why::ChangedAndDeleted(on)),
        (Way::Both, _) => Verdict::new(Action::Delete { on }, Why::Deleted(gone)),
        (Way::Add | Way::Update | Way::Exact, Side::Near) => {
            Verdict::new(Action::Make { on: gone }, Why::Missing(gone))
        }
        (Way::Exact, Side::Far) => Verdict::new(Action::Delete { on }, Why::Deleted(gone)),
        (Way::Add | Way::Update, Side::Far) => Verdict::new(Action::Leave, Why::Deleted(gone)),
    }
}

/// A file that both have and that was not alike before.
fn both_new(terms: &Terms, is_first: bool, had: Pair<&State>) -> Verdict {
    let same = compared(terms, had);
    if same == Same::Yes {
        return Verdict::new(Action::Join, Why::Alike);
    }
    let verdict = match (terms.way, is_first) {
        (Way::Add, _) => Verdict::new(Action::Leave, Why::BothHave),
        (Way::Both, true) if terms.settling == Settling::KeepBoth => keep_both(Why::BothHave),
        (_, true) => Verdict::new(Action::Ask { question: Question::Differ }, Why::BothHave),
        (Way::Exact, false) => Verdict::new(Action::Replace { on: Side::Far }, Why::BothHave),
        (Way::Update, false) => match newer(terms, had) {
            Some(Side::Near) => Verdict::new(Action::Replace { on: Side::Far }, Why::NewerOn(Side::Near)),
            _ => Verdict::new(Action::Leave, Why::BothHave),
        },
        (Way::Both, false) => settle(terms, had, Why::BothHave),
    };
    verdict.if_differs(same == Same::Open)
}

/// A file that both have and that was alike before.
fn both_known(terms: &Terms, had: Pair<&State>, known: &Pair<State>) -> Option<Verdict> {
    let changed = Pair {
        near: is_changed(terms, Side::Near, &known.near, had.near),
        far: is_changed(terms, Side::Far, &known.far, had.far),
    };
    let replace = |on: Side, why: Why| Verdict::new(Action::Replace { on }, why);
    let verdict = match (changed.near, changed.far, terms.way) {
        (false, false, _) => return None,
        (true, true, _) if compared(terms, had) == Same::Yes => return Some(Verdict::new(Action::Join, Why::Alike)),
        (true, _, Way::Add) => Verdict::new(Action::Leave, Why::Changed(Side::Near)),
        (false, true, Way::Add | Way::Update) => Verdict::new(Action::Leave, Why::Changed(Side::Far)),
        (true, false, _) => replace(Side::Far, Why::Changed(Side::Near)),
        (false, true, Way::Both) => replace(Side::Near, Why::Changed(Side::Far)),
        (_, true, Way::Exact) => replace(Side::Far, Why::Changed(Side::Far)),
        (true, true, Way::Update | Way::Both) => settle(terms, had, Why::BothChanged),
    };
    // A file that was only touched, or whose times a place tells otherwise by now, is not sent anew.
    Some(verdict.if_differs(had.near.print.size == had.far.print.size))
}

fn keep_both(why: Why) -> Verdict {
    // The name comes with the folder in which it has to be free.
    Verdict::new(Action::KeepBoth { renamed: Side::Far, to: Vec::new() }, why)
}

/// What is done about a file that is another one on each side.
fn settle(terms: &Terms, had: Pair<&State>, why: Why) -> Verdict {
    let stays = match terms.settling {
        Settling::KeepBoth => return keep_both(why),
        Settling::Ask => return Verdict::new(Action::Ask { question: Question::Differ }, why),
        Settling::Near => Side::Near,
        Settling::Far => Side::Far,
        Settling::Newer => match newer(terms, had) {
            Some(side) => side,
            None => return keep_both(why),
        },
    };
    if !terms.way.changes(stays.other()) {
        return Verdict::new(Action::Leave, why);
    }
    let why = if terms.settling == Settling::Newer { Why::NewerOn(stays) } else { why };
    Verdict::new(Action::Replace { on: stays.other() }, why)
}

/// The side whose file was changed later, where that can be told.
fn newer(terms: &Terms, had: Pair<&State>) -> Option<Side> {
    let (near, far) = (had.near.print.modified, had.far.print.modified);
    let can_be_told = terms.times_compare() && near.abs_diff(far) >= terms.grain().unsigned_abs();
    can_be_told.then_some(if near > far { Side::Near } else { Side::Far })
}
