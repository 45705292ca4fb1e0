//! Two sides in memory, with people who change them, and passes that may be stopped anywhere.

use std::collections::{BTreeMap, BTreeSet};

use super::super::{
    Action, Customs, Known, Lies, Line, Next, Pair, Renames, Seen, Side, State, Terms, Walk, Was, renamed,
};
use crate::{Fingerprint, RelPath};

/// A content; its size says little, so that many have the same.
pub type Content = u32;

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    pub content: Content,
    pub state: State,
}

/// One side.
#[derive(Debug, Clone)]
pub struct Shore {
    pub customs: Customs,
    pub files: BTreeMap<RelPath, File>,
    pub folders: BTreeSet<RelPath>,
    /// What was set aside here.
    pub kept: Vec<Content>,
    inode: u64,
    /// Every file is read.
    reads_all: bool,
}

pub fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

fn above(path: &RelPath) -> Vec<RelPath> {
    let mut all = Vec::new();
    let mut at = path.parent();
    while !at.is_root() {
        all.push(at.clone());
        at = at.parent();
    }
    all
}

impl Shore {
    pub fn new(customs: Customs) -> Self {
        Self { customs, files: BTreeMap::new(), folders: BTreeSet::new(), kept: Vec::new(), inode: 1, reads_all: false }
    }

    /// The path as it is written here, if this or one that the side cannot tell from it is there.
    fn there(&self, path: &RelPath) -> Option<RelPath> {
        if self.customs.tells_case {
            return (self.files.contains_key(path) || self.folders.contains(path)).then(|| path.clone());
        }
        let key = |path: &RelPath| path.to_string().to_lowercase();
        let asked = key(path);
        self.files.keys().chain(&self.folders).find(|one| key(one) == asked).cloned()
    }

    fn times(&self, modified: i64) -> i64 {
        modified.div_euclid(self.customs.grain) * self.customs.grain
    }

    /// Puts a file at a free name; what is not possible is not done.
    pub fn put(&mut self, path: &RelPath, content: Content, modified: i64) -> bool {
        let in_the_way =
            above(path).iter().any(|folder| self.there(folder).is_some_and(|one| self.files.contains_key(&one)));
        if in_the_way
            || self.there(path).is_some()
            || path.parts().any(|name| self.customs.names.refuse(name).is_some())
        {
            return false;
        }
        for folder in above(path) {
            if self.there(&folder).is_none() {
                self.folders.insert(folder);
            }
        }
        self.inode += 1;
        let print = Fingerprint {
            size: u64::from(content % 3) + 1,
            modified: self.times(modified),
            inode: Some(self.inode),
            tag: None,
        };
        let sum = self.reads_all.then_some([content as u8; 32]);
        self.files.insert(path.clone(), File { content, state: State { print, sum } });
        true
    }

    pub fn make_folder(&mut self, path: &RelPath) -> bool {
        let is_free = !self.there(path).is_some_and(|one| self.files.contains_key(&one));
        let ways = above(path);
        if !self.customs.folders_are_made || !is_free || ways.iter().any(|one| self.files.contains_key(one)) {
            return false;
        }
        self.folders.extend(ways);
        self.folders.insert(path.clone());
        true
    }

    /// Folders of a place where they are not made are there because of what lies in them.
    fn settle(&mut self) {
        if !self.customs.folders_are_made {
            let used: BTreeSet<RelPath> = self.files.keys().flat_map(above).collect();
            self.folders.retain(|folder| used.contains(folder));
        }
    }

    pub fn remove(&mut self, path: &RelPath) -> Option<Content> {
        let gone = self.files.remove(path).map(|file| file.content);
        self.settle();
        gone
    }

    pub fn rename(&mut self, from: &RelPath, to: &RelPath) -> bool {
        let Some(file) = self.files.remove(from) else { return false };
        let modified = if self.customs.keeps_times { file.state.print.modified } else { file.state.print.modified + 7 };
        if !self.put(to, file.content, modified) {
            self.files.insert(from.clone(), file);
            return false;
        }
        if let (true, Some(put)) = (self.customs.keeps_times, self.files.get_mut(to)) {
            put.state = file.state;
        }
        self.settle();
        true
    }

    fn is_empty(&self, folder: &RelPath) -> bool {
        let inside = |path: &RelPath| path != folder && path.below(folder).is_some();
        !self.files.keys().any(inside) && !self.folders.iter().any(inside)
    }

    fn shown(&self) -> String {
        self.all().iter().map(|(path, content)| format!("  {path} {content:?}")).collect::<Vec<_>>().join("\n")
    }

    fn list(&self, folder: &RelPath) -> Vec<Seen> {
        let in_it = |path: &&RelPath| !path.is_root() && path.parent() == *folder;
        let files = self.files.iter().filter(|(path, _)| in_it(path));
        let files = files.map(|(path, file)| Seen { name: path.name().to_vec(), lies: Lies::File(file.state.clone()) });
        let folders =
            self.folders.iter().filter(in_it).map(|path| Seen { name: path.name().to_vec(), lies: Lies::Folder });
        files.chain(folders).collect()
    }

    /// Every path with its content; a folder has none.
    pub fn all(&self) -> BTreeMap<RelPath, Option<Content>> {
        let files = self.files.iter().map(|(path, file)| (path.clone(), Some(file.content)));
        files.chain(self.folders.iter().map(|path| (path.clone(), None))).collect()
    }

    pub fn contents(&self) -> BTreeSet<Content> {
        self.files.values().map(|file| file.content).chain(self.kept.iter().copied()).collect()
    }
}

/// Both sides, and what was alike after the last pass.
#[derive(Debug, Clone)]
pub struct World {
    pub shores: Pair<Shore>,
    pub known: BTreeMap<RelPath, Known>,
    pub now: i64,
    is_first: bool,
}

impl World {
    pub fn new(customs: Pair<Customs>) -> Self {
        let reads_all = customs.near.grain.max(customs.far.grain) > 2_000_000_000;
        let shore = |customs| Shore { reads_all, ..Shore::new(customs) };
        Self { shores: customs.map(shore), known: BTreeMap::new(), now: 1_000_000_000_000, is_first: false }
    }

    pub fn shown(&self) -> String {
        let known: Vec<_> = self.known.values().map(|known| String::from_utf8_lossy(&known.name.far)).collect();
        format!("near\n{}\nfar\n{}\nknown {known:?}", self.shores.near.shown(), self.shores.far.shown())
    }

    pub fn contents(&self) -> BTreeSet<Content> {
        self.shores.near.contents().union(&self.shores.far.contents()).copied().collect()
    }

    /// The plan as it is now, renames found.
    pub fn plan(&self, terms: &Terms) -> Vec<Line> {
        let mut walk = Walk::new(terms);
        let mut lines = Vec::new();
        loop {
            match walk.next() {
                Next::End => break,
                Next::Do(line) => lines.push(*line),
                Next::Look(folder) => {
                    let seen = Pair {
                        near: if folder.is_there.near { self.shores.near.list(&folder.at.near) } else { Vec::new() },
                        far: if folder.is_there.far { self.shores.far.list(&folder.at.far) } else { Vec::new() },
                    };
                    let known =
                        self.known.iter().filter(|(path, _)| !path.is_root() && path.parent() == folder.at.near);
                    walk.told(seen, known.map(|(_, known)| known.clone()).collect());
                }
            }
        }
        let mut renames = Renames::default();
        lines.iter().enumerate().for_each(|(number, line)| renames.see(number, line));
        let mut gone = BTreeSet::new();
        for (deleted, made) in renames.pairs() {
            lines[made] = renamed(&lines[deleted], &lines[made]).expect("two halves");
            gone.insert(deleted);
        }
        let mut kept: Vec<Line> =
            lines.into_iter().enumerate().filter(|(number, _)| !gone.contains(number)).map(|(_, line)| line).collect();
        // A folder is removed once everything that is renamed has left it.
        kept.sort_by_key(|line| matches!(line.action, Action::RemoveFolder { .. }) && !gone.is_empty());
        kept
    }

    /// Carries out a line. Answers whether all of it was done; with `cut` it is stopped after so many effects, and
    /// nothing of it is noted.
    pub fn carry_out(&mut self, line: &Line, cut: Option<usize>) -> bool {
        self.now += 3_000_000_000;
        let mut effects = 0;
        let mut is_cut = || {
            effects += 1;
            cut.is_some_and(|cut| effects > cut)
        };
        let at = |side: Side| line.at.of(side).clone();
        // What is gone is forgotten, whatever came to the name that it had on the other side.
        if line.action == Action::Forget {
            self.known.retain(|path, _| path.below(&at(Side::Near)).is_none());
            return true;
        }
        // Nothing is done to another file than was planned.
        for side in Side::BOTH {
            let place = match &line.action {
                Action::Rename { on, from } if *on == side => from.of(side).clone(),
                _ => at(side),
            };
            let is = self.shores.of(side).files.get(&place).map(|file| &file.state);
            if !line.is_folder && is != line.had.of(side).as_ref() {
                return false;
            }
        }
        let content =
            |world: &Self, side: Side| world.shores.of(side).files.get(line.at.of(side)).map(|file| file.content);
        let both = (content(self, Side::Near), content(self, Side::Far));
        if line.if_differs && both.0.is_some() && both.0 == both.1 && line.action != Action::Leave {
            self.note(line, &at(Side::Near), &at(Side::Far));
            return true;
        }
        match &line.action {
            Action::Restore { .. } => unreachable!("no plan brings back what is kept"),
            Action::Make { on } => {
                if is_cut() || !self.copy(&at(on.other()), on.other(), &at(*on)) {
                    return false;
                }
                if is_cut() {
                    return false;
                }
            }
            Action::Replace { on } => {
                if is_cut() {
                    return false;
                }
                self.set_aside(*on, &at(*on));
                if is_cut() || !self.copy(&at(on.other()), on.other(), &at(*on)) || is_cut() {
                    return false;
                }
            }
            Action::Delete { on } => {
                if is_cut() {
                    return false;
                }
                self.set_aside(*on, &at(*on));
                if is_cut() {
                    return false;
                }
            }
            Action::Rename { on, from } => {
                if is_cut() || !self.shores.of_mut(*on).rename(from.of(*on), &at(*on)) || is_cut() {
                    return false;
                }
                self.known.remove(&from.near);
            }
            Action::MakeFolder { on } => {
                if is_cut() || !self.shores.of_mut(*on).make_folder(&at(*on)) {
                    return false;
                }
            }
            Action::RemoveFolder { on } => {
                if is_cut() || !self.shores.of(*on).is_empty(&at(*on)) {
                    return false;
                }
                self.shores.of_mut(*on).folders.remove(&at(*on));
            }
            Action::KeepBoth { renamed, to } => {
                let (loser, winner) = (*renamed, renamed.other());
                let beside = at(loser).parent().join_name(to).unwrap();
                if is_cut() || !self.shores.of_mut(loser).rename(&at(loser), &beside) {
                    return false;
                }
                if is_cut() || !self.copy(&at(winner), winner, &at(loser)) {
                    return false;
                }
                let (near, far) = (at(Side::Near), at(Side::Far));
                self.note(line, &near, &far);
                // The renamed one is new, and follows in the next pass.
                return !is_cut();
            }
            Action::Ask { .. } => {
                let name = Pair { near: at(Side::Near).name().to_vec(), far: at(Side::Far).name().to_vec() };
                let known = Known { name, was: Was::Asked };
                if self.is_first {
                    self.known.insert(at(Side::Near), known);
                } else {
                    self.known.entry(at(Side::Near)).or_insert(known);
                }
                return true;
            }
            Action::Leave => return true,
            Action::Join | Action::Forget => {}
        }
        self.note(line, &at(Side::Near), &at(Side::Far));
        true
    }

    fn set_aside(&mut self, side: Side, path: &RelPath) {
        let shore = self.shores.of_mut(side);
        if let Some(content) = shore.remove(path) {
            shore.kept.push(content);
        }
    }

    fn copy(&mut self, from: &RelPath, side: Side, to: &RelPath) -> bool {
        let Some(file) = self.shores.of(side).files.get(from).cloned() else { return false };
        let now = self.now;
        let other = self.shores.of_mut(side.other());
        let modified = if other.customs.keeps_times { file.state.print.modified } else { now };
        other.put(to, file.content, modified)
    }

    /// Notes what both sides have at a path now.
    fn note(&mut self, line: &Line, near: &RelPath, far: &RelPath) {
        let states = Pair {
            near: self.shores.near.files.get(near).map(|file| file.state.clone()),
            far: self.shores.far.files.get(far).map(|file| file.state.clone()),
        };
        let name = Pair { near: near.name().to_vec(), far: far.name().to_vec() };
        match (states.near, states.far) {
            (Some(near_state), Some(far_state)) => {
                let was = Was::File(Pair { near: near_state, far: far_state });
                self.note_folders(near, far);
                self.known.insert(near.clone(), Known { name, was });
            }
            _ if line.is_folder && self.shores.near.folders.contains(near) && self.shores.far.folders.contains(far) => {
                self.known.insert(near.clone(), Known { name, was: Was::Folder });
            }
            _ => {
                self.known.retain(|path, _| path.below(near).is_none());
            }
        }
    }

    fn note_folders(&mut self, near: &RelPath, far: &RelPath) {
        for (near, far) in above(near).into_iter().zip(above(far)) {
            let name = Pair { near: near.name().to_vec(), far: far.name().to_vec() };
            self.known.entry(near).or_insert(Known { name, was: Was::Folder });
        }
    }

    /// A whole pass, or as much of it as is done before it is stopped.
    pub fn pass(&mut self, terms: &Terms, stop: Option<(usize, usize)>) {
        self.is_first = terms.is_first;
        for (number, line) in self.plan(terms).iter().enumerate() {
            match stop {
                Some((at, effects)) if at == number => {
                    self.carry_out(line, Some(effects));
                    return;
                }
                _ => self.carry_out(line, None),
            };
        }
    }
}
