//! Telling people of passes afterwards. Of which passes somebody is still to be told is on record from their beginning
//! on; what is told is what the journal says was done.

use std::time::Duration;

use wetbank_core::{
    Cause, Name, RelPath,
    twin::{Notice, Report, TOLD, Twin},
};
use wetbank_journal::{PlannedItem, Untold};

use super::keeper::Keeper;
use crate::{
    EngineError, clock,
    effects::{Hand, Told},
};

/// How often it is looked whether quiet hours are over, or a pass that was broken off is done.
const LOOKS: Duration = Duration::from_secs(10);
/// Items read at once.
const PAGE: i64 = 500;

/// Tells of what was done in quiet hours once they are over, until the service stops.
pub(super) async fn run(keeper: std::sync::Arc<Keeper>) {
    loop {
        if let Err(error) = keeper.give_all_notice().await {
            tracing::warn!(%error, "who is to be told of a twin's passes is not known; trying again");
        }
        tokio::select! {
            () = tokio::time::sleep(LOOKS) => {}
            () = keeper.cancel.cancelled() => return,
        }
    }
}

impl Keeper {
    async fn give_all_notice(&self) -> Result<(), EngineError> {
        for name in self.record.journal.twins_untold().await? {
            let twin = Name::new(&name).ok().and_then(|name| self.twin(&name).ok());
            // A pass tells of itself when it is over. Of a twin that is not in the book nobody is told.
            if let Some(twin) = twin
                && let Some(_turn) = self.turns.take_free(&twin.name)
            {
                self.give_notice(&twin).await?;
            }
        }
        Ok(())
    }

    /// Queues the mails that are due: no pass of the twin goes on.
    pub(super) async fn give_notice(&self, twin: &Twin) -> Result<(), EngineError> {
        let untold = self.record.journal.untold(&twin.name).await?;
        for passes in untold.chunk_by(|one, next| one.notice == next.notice) {
            let last = passes.last().expect("a chunk has one").pass;
            let Some(at) = twin.tell.iter().position(|notice| notice.key() == passes[0].notice) else {
                // Nobody is to be told that any more.
                self.queue_notice(twin, None, (&passes[0].notice, last)).await?;
                continue;
            };
            let notice = &twin.tell[at];
            if notice.quiet.as_ref().is_some_and(|quiet| quiet.end(clock::now()).is_some())
                || !self.are_over(passes).await?
            {
                continue;
            }
            let told = self.report(twin, notice, passes).await?.map(|told| (at, told));
            self.queue_notice(twin, told, (&passes[0].notice, last)).await?;
        }
        Ok(())
    }

    /// Whether nothing of them is to be done any more: what a stop broke off goes on by itself.
    async fn are_over(&self, passes: &[Untold]) -> Result<bool, EngineError> {
        for run in passes.iter().filter_map(|pass| pass.run) {
            if !self.record.journal.open_items_of(run, 0, 1).await?.is_empty() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    async fn report(&self, twin: &Twin, notice: &Notice, passes: &[Untold]) -> Result<Option<Told>, EngineError> {
        let mut report = Report::new(twin, notice);
        let mut acted = Vec::new();
        for (pass, run) in passes.iter().filter_map(|pass| Some((pass, pass.run?))) {
            acted.push(pass);
            let mut after = 0;
            while let (deeds, Some(last)) = self.record.journal.deeds(run, after, PAGE).await? {
                after = last;
                deeds.iter().for_each(|done| report.add(done));
            }
        }
        let (Some(first), Some(last)) = (acted.first(), acted.last()) else { return Ok(None) };
        let mail = report.mail(acted.len(), (first.began, last.ended.unwrap_or(last.began)));
        Ok(mail.map(|(subject, text)| Told { subject, text }))
    }

    /// Queues a mail, if there is one, and notes that all up to this pass is told.
    async fn queue_notice(
        &self,
        twin: &Twin,
        told: Option<(usize, Told)>,
        (notice, pass): (&str, i64),
    ) -> Result<(), EngineError> {
        let version = match told {
            Some(_) => self.rule_version(twin).await?,
            None => 0,
        };
        let item = told.map(|(at, told)| {
            let hand = Hand { told: Some(Box::new(told)), ..Hand::empty(RelPath::root()) };
            PlannedItem {
                file: twin.folders.near.clone(),
                fingerprint: String::new(),
                size: 0,
                branch: TOLD + at,
                hand: hand.text().unwrap_or_default(),
            }
        });
        let of = (&twin.rule_name(), version, Cause::Chain);
        let until = (&twin.name, notice.to_owned(), pass);
        self.queue.claims.add(self.record.journal.take_notice(of, item, until, clock::now()).await?);
        Ok(())
    }
}
