//! What partners do at our own server.
//!
//! A file that is handed in is on record, with the work that it begins, before it gets its name; then it gets its name;
//! then the partner is told that it arrived. A stop between these steps is made good at the next start.

use std::{net::IpAddr, sync::Arc};

use wetbank_core::{Account, AccountEvent, Fingerprint, RelPath};
use wetbank_journal::{ExchangeRecord, NewExchange};
use wetbank_places::{Collision, Entry, EntryKind, Place, PlaceErrorKind};

use super::Engine;
use crate::{EngineError, Visitor, clock, intake::Exchanged};

impl Engine {
    /// The account of this name, as the book has it now.
    pub fn account(&self, name: &str) -> Option<Arc<Account>> {
        self.core.arranged.now().accounts.iter().find(|account| account.name.as_str() == name).cloned()
    }

    /// The place in which an account's files lie.
    ///
    /// # Errors
    ///
    /// If it cannot be used.
    pub fn place_of(&self, account: &Account) -> Result<Arc<dyn Place>, EngineError> {
        self.place(account.root.place.as_str())
    }

    /// Hands a file in that lies whole under a temporary name beside its own. When this returns it lies under its name,
    /// and the work that rules do with it is on record.
    ///
    /// # Errors
    ///
    /// If it was not handed in: it lies under its temporary name still.
    pub async fn hand_in(
        &self,
        visitor: &Visitor,
        seen: &RelPath,
        staged: &RelPath,
        entry: &Entry,
        sum: Option<String>,
    ) -> Result<(), EngineError> {
        let place = self.place_of(&visitor.account)?;
        let file = visitor.account.file(seen);
        // Elsewhere only its own name tells the state that rules know it by.
        let taken_later = place.as_folder().is_none();
        let exchanged = Exchanged {
            visitor,
            event: AccountEvent::HandedIn,
            seen,
            file: file.clone(),
            fingerprint: &entry.fingerprint,
            sum,
            staged: Some(staged.clone()),
            taken_later,
        };
        let (id, works) = self.core.intake.exchanged(exchanged).await?;
        match place.rename(staged, &file.path, Collision::Replace).await {
            Ok(_) if !taken_later => {
                self.core.intake.begin(works);
                self.note_placed(id);
                Ok(())
            }
            Ok(state) => {
                let state = state.unwrap_or_else(|| entry.fingerprint.clone());
                self.take_placed(visitor, seen, id, &state).await
            }
            Err(error) => {
                // An answer that was lost on the way says nothing of what was done.
                if self.lies_there(place.as_ref(), &file.path, entry).await {
                    if taken_later {
                        let there = place.stat(&file.path).await?;
                        return self.take_placed(visitor, seen, id, &there.fingerprint).await;
                    }
                    self.core.intake.begin(works);
                    self.note_placed(id);
                    return Ok(());
                }
                self.core.journal.exchange_undone(id).await?;
                // What was on record of it finds nothing and says so.
                self.core.intake.begin(works);
                Err(error.into())
            }
        }
    }

    async fn lies_there(&self, place: &dyn Place, path: &RelPath, entry: &Entry) -> bool {
        let there = place.stat(path).await;
        there.is_ok_and(|there| match place.as_folder() {
            Some(_) => there.fingerprint == entry.fingerprint,
            None => {
                there.fingerprint.size == entry.fingerprint.size
                    && there.fingerprint.modified >= entry.fingerprint.modified
            }
        })
    }

    /// That it has its name need not be known at once: at the next start it is found out.
    fn note_placed(&self, id: i64) {
        let journal = self.core.journal.clone();
        self.core.tracker.spawn(async move {
            if let Err(error) = journal.exchange_placed(id).await {
                tracing::debug!(%error, "that a file has its name is found out at the next start");
            }
        });
    }

    async fn take_placed(
        &self,
        visitor: &Visitor,
        seen: &RelPath,
        id: i64,
        state: &Fingerprint,
    ) -> Result<(), EngineError> {
        let (sightings, together) = self.core.intake.wanted_of(visitor, seen, state);
        let taken =
            self.core.journal.exchange_taken((id, visitor.visit), state.to_string(), sightings, together.clone());
        let works = taken.await?;
        self.core.intake.gathers(&together, visitor.visit);
        self.core.intake.begin(works);
        Ok(())
    }

    /// Puts on record that a file was collected to its end.
    ///
    /// # Errors
    ///
    /// If it could not be put on record.
    pub async fn collected(
        &self,
        visitor: &Visitor,
        seen: &RelPath,
        state: &Fingerprint,
        sum: Option<String>,
    ) -> Result<(), EngineError> {
        self.exchanged(visitor, AccountEvent::Collected, seen, state, sum).await
    }

    /// Puts on record that a file that lay there already has another name now: rules take it as one that was handed in.
    ///
    /// # Errors
    ///
    /// If it could not be put on record.
    pub async fn renamed(&self, visitor: &Visitor, to: &RelPath, state: &Fingerprint) -> Result<(), EngineError> {
        self.exchanged(visitor, AccountEvent::HandedIn, to, state, None).await
    }

    /// Puts on record that an account removes a file. Answers the number, for [`Engine::not_removed`].
    ///
    /// # Errors
    ///
    /// If it could not be put on record.
    pub async fn removing(&self, visitor: &Visitor, seen: &RelPath, state: &Fingerprint) -> Result<i64, EngineError> {
        let account = &visitor.account;
        let new = NewExchange {
            visit: visitor.visit,
            account: account.name.clone(),
            partner: account.partner.clone(),
            what: "removed",
            seen: seen.clone(),
            file: account.file(seen),
            fingerprint: state.to_string(),
            size: state.size,
            sum: None,
            address: visitor.address.to_canonical().to_string(),
            at: clock::now(),
            staged: None,
        };
        Ok(self.core.journal.exchange(new, Vec::new(), Vec::new()).await?.0)
    }

    /// A file that was to be removed was not.
    ///
    /// # Errors
    ///
    /// If that could not be put on record.
    pub async fn not_removed(&self, id: i64) -> Result<(), EngineError> {
        Ok(self.core.journal.exchange_undone(id).await?)
    }

    async fn exchanged(
        &self,
        visitor: &Visitor,
        event: AccountEvent,
        seen: &RelPath,
        state: &Fingerprint,
        sum: Option<String>,
    ) -> Result<(), EngineError> {
        let file = visitor.account.file(seen);
        let of = Exchanged { visitor, event, seen, file, fingerprint: state, sum, staged: None, taken_later: false };
        let (_, works) = self.core.intake.exchanged(of).await?;
        self.core.intake.begin(works);
        Ok(())
    }

    /// Starts the rules that wait for an account to sign in, to be refused or to be locked.
    ///
    /// # Errors
    ///
    /// If a run cannot be put on record.
    pub async fn account_did(
        &self,
        event: AccountEvent,
        account: &Account,
        address: IpAddr,
        visit: i64,
    ) -> Result<(), EngineError> {
        self.core.intake.account_did(event, account, (address, visit)).await
    }

    /// Somebody went: what waited for the rest of the visit is one run now.
    ///
    /// # Errors
    ///
    /// If it could not be put on record that the visit ended.
    pub async fn visit_ended(&self, visit: i64) -> Result<(), EngineError> {
        self.core.intake.gatherings.ended(visit);
        Ok(self.core.journal.end_visit(visit, clock::now()).await?)
    }

    /// What was handed in just before the service ended gets its name.
    pub(super) async fn place_handed_in(&self) -> Result<(), EngineError> {
        self.core.journal.cut_visits(clock::now()).await?;
        for record in self.core.journal.exchanges_staged().await? {
            if let Err(error) = self.place_one(&record).await {
                tracing::warn!(file = %record.file, %error, "a file that was handed in could not get its name; at the next start it is tried again");
            }
        }
        Ok(())
    }

    async fn place_one(&self, record: &ExchangeRecord) -> Result<(), EngineError> {
        let Some(staged) = &record.staged else { return Ok(()) };
        let place = self.place(record.file.place.as_str())?;
        let state = match place.stat(staged).await {
            Ok(entry) if entry.kind == EntryKind::File => {
                let renamed = place.rename(staged, &record.file.path, Collision::Replace).await?;
                renamed.unwrap_or(entry.fingerprint)
            }
            Ok(_) => return Ok(()),
            Err(error) if error.kind == PlaceErrorKind::NotFound => match place.stat(&record.file.path).await {
                Ok(there) => there.fingerprint,
                Err(error) if error.kind == PlaceErrorKind::NotFound => {
                    // Somebody took it away since.
                    return Ok(self.core.journal.exchange_placed(record.id).await?);
                }
                Err(error) => return Err(error.into()),
            },
            Err(error) => return Err(error.into()),
        };
        if place.as_folder().is_some() {
            return Ok(self.core.journal.exchange_placed(record.id).await?);
        }
        let Some(account) = self.account(&record.account) else {
            return Ok(self.core.journal.exchange_placed(record.id).await?);
        };
        let address = record.address.parse().unwrap_or(IpAddr::from([0, 0, 0, 0]));
        let visitor = Visitor { visit: record.visit, account, address };
        self.take_placed(&visitor, &record.seen, record.id, &state).await
    }
}
