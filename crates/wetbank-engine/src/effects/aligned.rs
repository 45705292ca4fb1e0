//! One line of a twin's plan, as the journal keeps it with what is in hand.

use serde::{Deserialize, Serialize};
use wetbank_core::{
    FilePath, Fingerprint, Name, Position, RelPath,
    twin::{Action, Known, Line, Pair, Side, State, Was},
};
use wetbank_journal::{TwinNote, Work};
use wetbank_places::Place;

use super::{means::Effects, outcome::Hand, staging::Brought};

/// The step that puts a file under a name which another one had until then.
pub(super) const PUTS: Position = Position::Step(1);

/// A line of a plan with what it needs, as the journal keeps it with what is in hand.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Aligned {
    /// The twin.
    pub twin: Name,
    /// Both folders.
    pub folders: Pair<FilePath>,
    /// What is planned.
    pub line: Line,
    /// Where below its folder a side keeps what it loses.
    pub kept: RelPath,
    /// Both contents turned out to be the same: what would follow need not be done.
    #[serde(default)]
    pub is_over: bool,
    /// What takes the name of another version lies beside it already.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub brought: Option<Brought>,
}

impl Aligned {
    /// A path of one side.
    pub(super) fn file(&self, side: Side, below: &RelPath) -> FilePath {
        let folder = self.folders.of(side);
        FilePath { place: folder.place.clone(), path: folder.path.join(below) }
    }

    /// Its own path on one side.
    pub(super) fn at(&self, side: Side) -> FilePath {
        self.file(side, self.line.at.of(side))
    }

    /// What is noted once nothing is at this path of the near side any more.
    pub(super) fn gone(&self, at: &RelPath) -> (Name, Vec<TwinNote>) {
        (self.twin.clone(), vec![TwinNote::Gone(at.clone())])
    }

    /// What is noted of the line's path once both sides have this there.
    pub(super) fn known(&self, was: Was) -> (Name, Vec<TwinNote>) {
        let at = &self.line.at;
        let name = Pair { near: at.near.name().to_vec(), far: at.far.name().to_vec() };
        let note = TwinNote::Known { folder: at.near.parent(), known: Box::new(Known { name, was }) };
        (self.twin.clone(), vec![note])
    }

    /// The file as both sides have it, once one of them got it from the other.
    pub(super) fn as_put(&self, on: Side, arrived: &Fingerprint) -> Option<Was> {
        let mut states = Pair::same(State::of(self.had(on.other())?));
        *states.of_mut(on) = State::of(arrived);
        Some(Was::File(states))
    }

    /// The file as it was on one side when this was planned.
    pub(super) fn had(&self, side: Side) -> Option<&Fingerprint> {
        self.line.had.of(side).as_ref().map(|state| &state.print)
    }
}

/// Whether what is brought to a place lies under a temporary name there until it gets its own.
pub(super) fn lies_beside(place: &dyn Place) -> bool {
    let can = place.capabilities();
    can.stages && can.rename_keeps_state
}

/// Where an item of a pass may have left what it brought for a name that another version has.
pub(super) fn left_beside(effects: &Effects, work: &Work) -> Option<FilePath> {
    let aligned = Hand::of(work).ok()??.aligned?;
    let (Action::Replace { on } | Action::KeepBoth { renamed: on, .. }) = aligned.line.action else { return None };
    let to = aligned.at(on);
    let lies = effects.moorings.get(&to.place).is_ok_and(|place| lies_beside(place.as_ref()));
    lies.then(|| FilePath { path: effects.aside(work, PUTS, &to.path.parent()), place: to.place })
}
