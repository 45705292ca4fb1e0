//! An item in somebody's hands, and the only way on for it.

use std::ops::Deref;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use wetbank_core::{FilePath, InvalidMove, ItemState, Name, Position};
use wetbank_journal::{
    AttemptEnd, Chained, ItemChange, Journal, JournalError, NewHold, NewMail, NewPart, Progress, TwinNote, Work,
};

use crate::clock;

/// An item that somebody works on: a plain value that can be read, and serialised, but not changed. Where it
/// stands changes only by [`Claim::commit`], which answers the claim as the journal has it now; what the
/// journal refused has not happened, and the claim is what it was.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Claim(Box<Work>);

/// What is to be on record of an item from now on.
#[derive(Debug, Clone)]
pub(crate) struct Moved {
    pub state: ItemState,
    pub branch: Option<usize>,
    pub position: Position,
    /// What is in hand, as text.
    pub hand: Option<String>,
    /// Failed attempts at this position.
    pub failures: u32,
    pub due: Option<Timestamp>,
    pub why: Option<String>,
    /// The attempt that ended.
    pub end: Option<AttemptEnd>,
    /// An attempt that had ended unclear, now that somebody looked.
    pub settled: Option<i64>,
    pub hold: Option<NewHold>,
    /// The path of the original is free: the rule would take a new file of that name.
    pub forget: bool,
    pub chained: Vec<Chained>,
    pub mail: Option<NewMail>,
    /// What is known of a twin from now on.
    pub noted: Option<(Name, Vec<TwinNote>)>,
    /// Files that were taken out of the item's and go on instead of it.
    pub parts: Vec<NewPart>,
}

/// Why nothing was recorded.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Refused {
    /// The journal could not be written.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// The life of an item does not have this change.
    #[error(transparent)]
    Move(#[from] InvalidMove),
}

impl Deref for Claim {
    type Target = Work;

    fn deref(&self) -> &Work {
        &self.0
    }
}

impl Moved {
    /// The item stays where it is, in this state.
    pub fn stays(claim: &Claim, state: ItemState) -> Self {
        Self {
            state,
            branch: claim.branch,
            position: claim.position,
            hand: claim.hand.clone(),
            failures: claim.failures,
            due: None,
            why: None,
            end: None,
            settled: None,
            hold: None,
            forget: false,
            chained: Vec::new(),
            mail: None,
            noted: None,
            parts: Vec::new(),
        }
    }

    /// Whether nobody knows what became of the last attempt once this is on record: it is so until it
    /// ended clearly, or somebody looked.
    fn stays_unclear(&self, was: bool) -> bool {
        match &self.end {
            Some(end) => end.unclear,
            None => was && self.settled.is_none(),
        }
    }

    fn progress(&self, work: &Work) -> Progress {
        let forgotten =
            |forget: bool| -> Option<(Name, FilePath)> { forget.then(|| (work.rule.clone(), work.file.clone())) };
        Progress {
            end: self.end.clone(),
            settled: self.settled,
            change: ItemChange {
                item: work.item,
                run: work.run,
                state: self.state,
                branch: self.branch,
                position: self.position,
                hand: self.hand.clone(),
                failures: self.failures,
                due: self.due,
                why: self.why.clone(),
                at: clock::now(),
            },
            hold: self.hold.clone(),
            forget: forgotten(self.forget),
            chained: self.chained.clone(),
            mail: self.mail.clone(),
            noted: self.noted.clone(),
        }
    }
}

impl Claim {
    /// An item is at work from now on.
    pub fn new(work: Work) -> Self {
        Self(Box::new(work))
    }

    /// The item, that others may work on it.
    pub fn into_work(self) -> Work {
        *self.0
    }

    /// Nobody knows what became of an attempt that was on record when the work broke off.
    pub fn left_unclear(mut self) -> Self {
        self.0.unclear = true;
        self
    }

    /// Another number or note of a file in hand, which is on record already.
    pub fn with_hand(mut self, hand: Option<String>) -> Self {
        self.0.hand = hand;
        self
    }

    /// What is known of its run from now on, which is on record already.
    pub fn with_about(mut self, about: String) -> Self {
        self.0.about = Some(about);
        self
    }

    /// Records what came of the item. Answers it as it is now, and the items that were made of its parts.
    ///
    /// # Errors
    ///
    /// The claim as it was, and why nothing was recorded.
    pub async fn commit(self, journal: &Journal, moved: &Moved) -> Result<(Self, Vec<Work>), (Self, Refused)> {
        // Whoever has it in hand works on it, whatever it did before.
        let before = match self.state {
            ItemState::Queued | ItemState::Waiting => ItemState::Working,
            state => state,
        };
        if let Err(error) = before.become_(moved.state) {
            return Err((self, error.into()));
        }
        let progress = moved.progress(&self);
        let recorded = if moved.parts.is_empty() {
            journal.record(progress).await.map(|()| Vec::new())
        } else {
            journal.split(progress, &self, moved.parts.clone(), clock::now()).await
        };
        match recorded {
            Ok(parts) => Ok((self.moved(moved), parts)),
            Err(error) => Err((self, error.into())),
        }
    }

    fn moved(self, moved: &Moved) -> Self {
        let unclear = moved.stays_unclear(self.unclear);
        Self(Box::new(Work {
            state: moved.state,
            branch: moved.branch,
            position: moved.position,
            hand: moved.hand.clone(),
            failures: moved.failures,
            due: moved.due,
            unclear,
            ..*self.0
        }))
    }
}

#[cfg(test)]
mod tests {
    use wetbank_core::{Cause, RelPath};
    use wetbank_journal::Sighting;

    use super::*;

    async fn taken() -> (tempfile::TempDir, Journal, Claim) {
        let folder = tempfile::tempdir().unwrap();
        let journal = Journal::open(folder.path()).await.unwrap();
        let file = FilePath { place: Name::new("office").unwrap(), path: RelPath::parse("a.csv").unwrap() };
        let sighting = Sighting {
            rule: Name::new("keep").unwrap(),
            version: 1,
            file,
            fingerprint: "1".to_owned(),
            size: 1,
            seen: clock::now(),
            own_results: false,
            again: false,
            about: None,
            note_only: false,
        };
        let taken = journal.take_in(vec![sighting], Cause::Arrival, clock::now()).await.unwrap();
        let claim = Claim::new(taken.into_iter().next().unwrap().unwrap());
        (folder, journal, claim)
    }

    fn at(claim: &Claim, step: usize) -> Moved {
        let position = Position::Step(step);
        Moved { branch: Some(0), position, ..Moved::stays(claim, ItemState::Working) }
    }

    #[tokio::test]
    async fn what_the_journal_refused_has_not_happened() {
        let (folder, journal, claim) = taken().await;
        let item = claim.item;
        let (claim, _) = claim.commit(&journal, &at(&Claim::new(taken_again(&journal, item).await), 1)).await.unwrap();
        journal.close().await;
        let before = serde_json::to_string(&claim).unwrap();
        let moved = at(&claim, 2);
        let (claim, refused) = claim.commit(&journal, &moved).await.unwrap_err();
        assert!(matches!(refused, Refused::Journal(_)), "{refused}");
        assert_eq!(serde_json::to_string(&claim).unwrap(), before, "the claim is what it was");
        let journal = Journal::open(folder.path()).await.unwrap();
        assert_eq!(taken_again(&journal, item).await.position, Position::Step(1), "and so is the record");
    }

    async fn taken_again(journal: &Journal, item: i64) -> Work {
        journal.work(item).await.unwrap().unwrap()
    }

    #[tokio::test]
    async fn a_way_that_items_do_not_have_is_refused_before_anything_is_recorded() {
        let (_folder, journal, claim) = taken().await;
        let item = claim.item;
        let done = Moved { position: Position::End, ..Moved::stays(&claim, ItemState::Done) };
        let (claim, _) = claim.commit(&journal, &done).await.unwrap();
        let again = at(&claim, 1);
        let (_, refused) = claim.commit(&journal, &again).await.unwrap_err();
        assert!(matches!(refused, Refused::Move(_)), "{refused}");
        assert_eq!(taken_again(&journal, item).await.position, Position::End);
    }

    #[tokio::test]
    async fn an_attempt_stays_unclear_until_it_ended_clearly_or_somebody_looked() {
        let (_folder, journal, claim) = taken().await;
        let end = |unclear| AttemptEnd {
            id: 1,
            ended: clock::now(),
            outcome: wetbank_journal::Outcome::Failed,
            size: None,
            code: None,
            message: None,
            remedy: None,
            also_named: None,
            unclear,
        };
        let waits = |claim: &Claim| Moved::stays(claim, ItemState::Working);
        let moved = Moved { end: Some(end(true)), ..waits(&claim) };
        let (claim, _) = claim.commit(&journal, &moved).await.unwrap();
        assert!(claim.unclear);
        let moved = waits(&claim);
        let (claim, _) = claim.commit(&journal, &moved).await.unwrap();
        assert!(claim.unclear, "what does not speak of the attempt says nothing of it");
        let moved = Moved { settled: Some(1), ..waits(&claim) };
        let (claim, _) = claim.commit(&journal, &moved).await.unwrap();
        assert!(!claim.unclear);
    }

    #[tokio::test]
    async fn a_claim_can_be_sent_elsewhere_and_read_there() {
        let (_folder, _journal, claim) = taken().await;
        let sent = serde_json::to_string(&claim).unwrap();
        assert_eq!(serde_json::from_str::<Claim>(&sent).unwrap(), claim);
    }
}
