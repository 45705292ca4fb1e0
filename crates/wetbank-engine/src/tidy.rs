//! Keeping the journal small, now and then and beside everything else.

use std::{collections::BTreeSet, sync::Arc, time::Duration};

use jiff::{SignedDuration, Timestamp};
use tokio_util::sync::CancellationToken;
use wetbank_core::Rule;
use wetbank_journal::Journal;

use crate::{arranged::Arranged, clock, keeping::Keeping};

/// After a start there is more important work.
const FIRST: Duration = Duration::from_secs(600);
const EVERY: Duration = Duration::from_secs(24 * 3600);
/// For so long it is known which files we wrote where no rule looks.
const KEPT: SignedDuration = SignedDuration::from_hours(90 * 24);

/// For so long it is known who did what, and what partners exchanged.
const AUDITED: Duration = Duration::from_secs(2 * 366 * 24 * 3600);

/// Tidies until the service stops.
pub(crate) async fn run(journal: Journal, arranged: Arc<Arranged>, cancel: CancellationToken) {
    let mut pause = FIRST;
    loop {
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = cancel.cancelled() => return,
        }
        pause = EVERY;
        let arrangement = arranged.now();
        let looked_at: BTreeSet<&str> = arrangement.rules.iter().flat_map(|live| looked_at(&live.rule)).collect();
        let looked_at: Vec<&str> = looked_at.into_iter().collect();
        let tidied = async {
            let forgotten = journal.forget_outputs(&looked_at, Timestamp::now() - KEPT).await?;
            let keeping = Keeping::of(&journal).await?;
            journal.forget_arrivals(clock::before(clock::now(), keeping.age()), keeping.most.into()).await?;
            journal.forget_acts(clock::before(clock::now(), AUDITED)).await?;
            journal.forget_exchanges(clock::before(clock::now(), AUDITED)).await?;
            journal.give_room_back().await?;
            Ok::<_, crate::EngineError>(forgotten)
        };
        match tidied.await {
            Ok(0) => {}
            Ok(forgotten) => tracing::info!(forgotten, "what we wrote long ago, where no rule looks, is forgotten"),
            Err(error) => tracing::warn!(%error, "the journal could not be tidied"),
        }
    }
}

/// The places where a rule looks for files.
fn looked_at(rule: &Rule) -> impl Iterator<Item = &str> {
    let arrival = rule.starts.arrival.as_ref().map(|arrival| arrival.files.place.as_str());
    arrival.into_iter().chain(rule.finds.iter().map(|find| find.files.place.as_str()))
}
