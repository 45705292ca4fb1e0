//! Going through both folders at once, one folder after the other: nothing but the way back up is remembered.

use std::collections::VecDeque;

use super::{
    Action, Known, Lies, Line, Pair, Question, Seen, Side, State, Terms, Was, Way, Why,
    beside::{Taken, beside},
    decide::{Verdict, decide},
    met::{Hindered, Met, met},
};
use crate::RelPath;

/// A folder that is gone through.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Folder {
    /// Its path on each side, below the twin's folder there.
    pub at: Pair<RelPath>,
    /// Whether it is there; what is not there has no entries.
    pub is_there: Pair<bool>,
}

/// What a walk needs or found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Next {
    /// What lies in this folder, and what was known of it, is to be told by [`Walk::told`].
    Look(Folder),
    /// This is to be done.
    Do(Box<Line>),
    /// That was all.
    End,
}

/// A way through two folders that makes a plan.
///
/// ```
/// use wetbank_core::twin::{Next, Pair, Walk};
/// # use wetbank_core::{Names, twin::{Customs, Sameness, Scope, Settling, Terms, Way}};
/// # let customs = Customs { grain: 1, keeps_times: true, tells_case: true, names: Names::Bytes, folders_are_made: true };
/// # let terms = Terms { way: Way::Both, settling: Settling::KeepBoth, same: Sameness::SizeAndTime, scope: Scope::all(),
/// #     fits_names: false, zone: jiff::tz::TimeZone::UTC, customs: Pair::same(customs), is_first: true, young: i64::MAX };
/// let mut walk = Walk::new(&terms);
/// let Next::Look(root) = walk.next() else { panic!("it begins with the two folders themselves") };
/// assert!(root.at.near.is_root());
/// walk.told(Pair::default(), Vec::new());
/// assert_eq!(walk.next(), Next::End);
/// ```
#[derive(Debug)]
pub struct Walk<'t> {
    terms: &'t Terms,
    open: Vec<Open>,
    /// What lies in the folder that was told last, as far as nothing was made of it: a folder of very many names has one
    /// line at a time.
    met: std::vec::IntoIter<Met>,
    taken: Taken,
    lines: VecDeque<Line>,
    /// Files that were met on each side.
    files: Pair<u64>,
}

/// A folder whose end has not come yet.
#[derive(Debug)]
struct Open {
    folder: Folder,
    /// Whether what lies in it is to be told.
    is_awaited: bool,
    /// Folders in it that were not gone through, the next one last.
    below: Vec<(Folder, Ending)>,
    ending: Ending,
    /// Whether something in it stays, on each side.
    stays: Pair<bool>,
}

/// What comes at the end of a folder.
#[derive(Debug, Clone, Default)]
struct Ending {
    /// It is removed on this side, if nothing in it stays.
    removed: Option<(Side, Why)>,
    /// Then this file gets its name; if something in it stays, a person is asked.
    file: Option<Line>,
    /// On this side a file lies in its way: nothing can be made below it there.
    blocked: Option<Side>,
}

impl<'t> Walk<'t> {
    /// A walk that begins with both folders themselves.
    pub fn new(terms: &'t Terms) -> Self {
        let folder = Folder { at: Pair::same(RelPath::root()), is_there: Pair::same(true) };
        let open = vec![Open::new(folder, Ending::default())];
        let (met, taken) = (Vec::new().into_iter(), Taken::default());
        Self { terms, open, met, taken, lines: VecDeque::new(), files: Pair::default() }
    }

    /// Files that were met on each side so far, those that the twin is not about left out.
    pub fn files(&self) -> Pair<u64> {
        self.files
    }

    /// What is to be looked at or done next.
    #[allow(clippy::should_implement_trait, reason = "an iterator could not be told what lies in a folder")]
    pub fn next(&mut self) -> Next {
        loop {
            if let Some(line) = self.lines.pop_front() {
                return Next::Do(Box::new(line));
            }
            if self.goes_on() {
                continue;
            }
            let Some(top) = self.open.last_mut() else { return Next::End };
            if top.is_awaited {
                return Next::Look(top.folder.clone());
            }
            if let Some((folder, ending)) = top.below.pop() {
                self.open.push(Open::new(folder, ending));
                continue;
            }
            let done = self.open.pop().expect("there was one");
            self.close(done);
        }
    }

    /// Whether nothing was planned for the folder that was asked for itself, and both sides have it: then nothing is to
    /// be done in it as long as both list the same.
    pub fn is_plain(&self) -> bool {
        self.open.last().is_some_and(|top| {
            let Ending { removed, file, blocked } = &top.ending;
            top.folder.is_there.near
                && top.folder.is_there.far
                && removed.is_none()
                && file.is_none()
                && blocked.is_none()
        })
    }

    /// Says that nothing is to be done in the folder that was asked for, which has these folders on both sides under the
    /// same names, and so many files that count: it lists what it listed when nothing was to be done.
    pub fn unchanged(&mut self, folders: Vec<Vec<u8>>, files: Pair<u64>) {
        let Some(top) = self.open.last_mut() else { return };
        top.is_awaited = false;
        for side in Side::BOTH {
            *self.files.of_mut(side) += files.of(side);
            *top.stays.of_mut(side) |= *files.of(side) > 0 || !folders.is_empty();
        }
        let mut below = Vec::new();
        for name in folders {
            let at = (top.folder.at.near.join_name(&name), top.folder.at.far.join_name(&name));
            if let (Ok(near), Ok(far)) = at
                && self.terms.scope.deep
                && self.terms.scope.counts(&near, true)
            {
                let folder = Folder { at: Pair { near, far }, is_there: Pair::same(true) };
                below.push((folder, Ending::default()));
            }
        }
        below.sort_by(|(a, _), (b, _)| b.at.near.cmp(&a.at.near));
        top.below = below;
    }

    /// Tells what lies in the folder that was asked for. Of a side that cannot be listed nothing is known: then the
    /// walk is of no use, because what is missing in a list would look as if it were gone. Answers whether anything is to
    /// be done or noted about what lies there.
    pub fn told(&mut self, seen: Pair<Vec<Seen>>, known: Vec<Known>) -> bool {
        let Some(top) = self.open.last_mut() else { return false };
        top.is_awaited = false;
        let met = met(self.terms, seen, known);
        self.taken = Taken::by(met.iter().map(|one| one.name.clone()).collect());
        self.met = met.into_iter();
        while self.lines.is_empty() && self.goes_on() {}
        !self.lines.is_empty()
    }

    /// Sees to the next name of the folder that was told, if there is one.
    fn goes_on(&mut self) -> bool {
        let Some(Met { name, lies, known, hindered }) = self.met.next() else { return false };
        let Some(top) = self.open.last_mut() else { return false };
        let (near, far) = (top.folder.at.near.join_name(&name.near), top.folder.at.far.join_name(&name.far));
        match (near, far) {
            (Ok(near), Ok(far)) => {
                let blocked = top.ending.blocked;
                self.one(&Here { at: Pair { near, far }, lies, was: known.map(|known| known.was), blocked }, hindered);
            }
            // A path longer than any can be: it stays, and is left alone.
            _ => self.stays(&lies),
        }
        if self.met.len() == 0 {
            self.taken = Taken::default();
            // The first of them is gone through first.
            if let Some(top) = self.open.last_mut() {
                top.below.reverse();
            }
        }
        true
    }

    fn one(&mut self, one: &Here, hindered: Option<Hindered>) {
        if !self.terms.scope.counts(&one.at.near, one.is_folder()) {
            return self.stays(&one.lies);
        }
        for side in Side::BOTH {
            *self.files.of_mut(side) += u64::from(matches!(one.lies.of(side), Some(Lies::File(_))));
        }
        let of =
            |is: fn(&Lies) -> bool| Side::BOTH.into_iter().find(|side| one.lies.of(*side).as_ref().is_some_and(is));
        if let Some(side) = of(|lies| *lies == Lies::Neither) {
            self.stays(&one.lies);
            return self.lines.push_back(one.line(Action::Leave, Why::NoFile(side)));
        }
        if let Some(hindered) = hindered
            && hindered.matters(self.terms.way)
        {
            let (question, why) = hindered.asked();
            self.stays(&one.lies);
            return self.lines.push_back(one.line(Action::Ask { question }, why));
        }
        let file_on = of(|lies| matches!(lies, Lies::File(_)));
        match (file_on, of(|lies| *lies == Lies::Folder)) {
            (Some(file_on), Some(_)) => self.kinds(one, file_on),
            _ if one.is_folder() => self.folder(one),
            // What was a folder, and is a file on one side now, is new as a file.
            _ => match decide(self.terms, one.had(), one.was.as_ref().filter(|was| **was != Was::Folder)) {
                Some(verdict) => self.file(verdict, one),
                None => self.stays(&one.lies),
            },
        }
    }

    /// Notes that what lies here stays.
    fn stays(&mut self, lies: &Pair<Option<Lies>>) {
        for side in Side::BOTH {
            if lies.of(side).is_some() {
                self.stays_on(side);
            }
        }
    }

    fn file(&mut self, verdict: Verdict, one: &Here) {
        let Verdict { mut action, mut why, if_differs } = verdict;
        if let (Action::Make { on }, Some(side)) = (&action, one.blocked)
            && *on == side
        {
            (action, why) = (Action::Ask { question: Question::Kinds }, Why::FileOn(side));
        }
        let mut line = Line { if_differs, ..one.line(action, why) };
        if let Action::KeepBoth { renamed, .. } = line.action {
            let to = beside(self.terms, &line, renamed, &mut self.taken);
            line.action = Action::KeepBoth { renamed, to };
        }
        for side in Side::BOTH {
            let is_there = line.had.of(side).is_some() || line.action == Action::Make { on: side };
            if is_there && line.action != (Action::Delete { on: side }) {
                self.stays_on(side);
            }
        }
        self.lines.push_back(line);
    }

    fn folder(&mut self, one: &Here) {
        let terms = self.terms;
        let folder = Folder { at: one.at.clone(), is_there: one.lies.as_ref().map(Option::is_some) };
        let Some(on) = one.lies.only() else {
            if !folder.is_there.near {
                self.lines.push_back(one.line(Action::Forget, Why::Gone));
            } else if !terms.scope.deep {
                self.stays(&one.lies);
            } else {
                if one.was != Some(Was::Folder) {
                    self.lines.push_back(one.line(Action::Join, Why::Alike));
                }
                self.goes_below(folder, Ending { blocked: one.blocked, ..Ending::default() });
            }
            return;
        };
        if !terms.scope.deep {
            return self.stays(&one.lies);
        }
        let other = on.other();
        // That a folder is not in a place where folders are not made says nothing.
        let was_removed = one.was == Some(Was::Folder) && !terms.is_first && terms.customs.of(other).folders_are_made;
        let is_first = terms.is_first || one.was == Some(Was::Asked);
        if terms.way.deletes(on) && !is_first && (was_removed || terms.way == Way::Exact) {
            let why = if was_removed { Why::Deleted(other) } else { Why::NotOn(other) };
            self.goes_below(folder, Ending { removed: Some((on, why)), blocked: one.blocked, file: None });
            return;
        }
        if !terms.way.changes(other) || one.blocked == Some(other) {
            self.stays(&one.lies);
            let (action, why) = match terms.way {
                _ if one.blocked.is_some() => (Action::Ask { question: Question::Kinds }, Why::FileOn(other)),
                Way::Exact => (Action::Ask { question: Question::OnlyThere }, Why::NotOn(other)),
                Way::Add | Way::Update | Way::Both => (Action::Leave, Why::NotOn(other)),
            };
            return self.lines.push_back(one.line(action, why));
        }
        if terms.scope.empty_folders && terms.customs.of(other).folders_are_made {
            let why = if was_removed { Why::Missing(other) } else { Why::New(on) };
            self.lines.push_back(one.line(Action::MakeFolder { on: other }, why));
        }
        // It is there from then on, whatever becomes of what lies in it.
        self.stays_on(Side::Near);
        self.stays_on(Side::Far);
        self.goes_below(folder, Ending::default());
    }

    /// A file on one side, and a folder of its name on the other.
    fn kinds(&mut self, one: &Here, file_on: Side) {
        let terms = self.terms;
        let (folder_on, why) = (file_on.other(), Why::FileOn(file_on));
        let mut is_there = Pair::same(false);
        *is_there.of_mut(folder_on) = true;
        let folder = Folder { at: one.at.clone(), is_there };
        let is_first = terms.is_first || one.was == Some(Was::Asked);
        // The folder became a file: what was in it goes, and then the file gets the name.
        let became_file = one.was == Some(Was::Folder) || terms.way == Way::Exact;
        if !is_first && became_file && terms.way.deletes(folder_on) {
            let file = Line { is_folder: false, ..one.line(Action::Make { on: folder_on }, why) };
            self.stays_on(file_on);
            self.goes_below(
                folder,
                Ending { removed: Some((folder_on, why)), file: Some(file), blocked: Some(file_on) },
            );
            return;
        }
        // The file became a folder: it goes if it is as it was, and the folder gets the name.
        let delete = Some(Action::Delete { on: file_on });
        if decide(terms, one.had(), one.was.as_ref()).map(|verdict| verdict.action) == delete && !is_first {
            self.stays_on(folder_on);
            self.stays_on(file_on);
            self.lines.push_back(Line { is_folder: false, ..one.line(Action::Delete { on: file_on }, why) });
            if terms.scope.empty_folders && terms.customs.of(file_on).folders_are_made {
                let line = one.line(Action::MakeFolder { on: file_on }, why);
                self.lines.push_back(Line { had: Pair::default(), was: None, ..line });
            }
            self.goes_below(folder, Ending::default());
            return;
        }
        self.stays(&one.lies);
        self.lines.push_back(one.line(Action::Ask { question: Question::Kinds }, why));
    }

    fn goes_below(&mut self, folder: Folder, ending: Ending) {
        if let Some(top) = self.open.last_mut() {
            top.below.push((folder, ending));
        }
    }

    fn stays_on(&mut self, side: Side) {
        if let Some(top) = self.open.last_mut() {
            *top.stays.of_mut(side) = true;
        }
    }

    fn close(&mut self, done: Open) {
        let Open { folder, ending, stays, .. } = done;
        let mut remains = folder.is_there;
        if let Some((side, why)) = ending.removed {
            if *stays.of(side) {
                if let Some(file) = ending.file {
                    self.lines.push_back(Line { action: Action::Ask { question: Question::Kinds }, ..file });
                }
            } else {
                *remains.of_mut(side) = false;
                let line = Line {
                    at: folder.at,
                    is_folder: true,
                    action: Action::RemoveFolder { on: side },
                    why,
                    if_differs: false,
                    had: Pair::default(),
                    was: None,
                };
                self.lines.push_back(line);
                if let Some(file) = ending.file {
                    *remains.of_mut(side) = true;
                    self.lines.push_back(file);
                }
            }
        }
        if let Some(above) = self.open.last_mut() {
            for side in Side::BOTH {
                *above.stays.of_mut(side) |= *remains.of(side) || *stays.of(side);
            }
        }
    }
}

/// A name of a folder.
#[derive(Debug)]
struct Here {
    at: Pair<RelPath>,
    lies: Pair<Option<Lies>>,
    was: Option<Was>,
    blocked: Option<Side>,
}

impl Here {
    /// Whether it is a folder on a side, or was one and is nothing now.
    fn is_folder(&self) -> bool {
        let is = |side: Side| *self.lies.of(side) == Some(Lies::Folder);
        let is_gone = self.lies.near.is_none() && self.lies.far.is_none();
        is(Side::Near) || is(Side::Far) || (is_gone && self.was == Some(Was::Folder))
    }

    /// The file of each side.
    fn had(&self) -> Pair<Option<&State>> {
        self.lies.as_ref().map(|lies| match lies {
            Some(Lies::File(state)) => Some(state),
            _ => None,
        })
    }

    fn line(&self, action: Action, why: Why) -> Line {
        Line {
            at: self.at.clone(),
            is_folder: self.is_folder(),
            action,
            why,
            if_differs: false,
            had: self.had().map(|state| state.cloned()),
            was: self.was.as_ref().and_then(Was::file).cloned(),
        }
    }
}

impl Open {
    fn new(folder: Folder, ending: Ending) -> Self {
        Self { folder, is_awaited: true, below: Vec::new(), ending, stays: Pair::same(false) }
    }
}
