//! The journal, for those who wait until it takes what they have to say.

use std::time::Duration;

use tokio_util::sync::CancellationToken;
use wetbank_journal::{Journal, JournalError};

use crate::clock;

/// After a refusal, the first pause and the longest.
const FIRST: Duration = Duration::from_millis(500);
const LONGEST: Duration = Duration::from_secs(5);

/// The journal, and how long anybody waits for it: until the service stops. Clones share it.
#[derive(Debug, Clone)]
pub(crate) struct Record {
    pub journal: Journal,
    cancel: CancellationToken,
}

impl Record {
    /// `cancel` is cancelled when the service stops.
    pub fn new(journal: Journal, cancel: CancellationToken) -> Self {
        Self { journal, cancel }
    }

    /// Asks or writes as often as the journal refuses; nothing if the service stops meanwhile. What it refused
    /// has not happened, so nobody goes on before.
    pub async fn insist<T, F>(&self, mut call: impl FnMut() -> F) -> Option<T>
    where
        F: Future<Output = Result<T, JournalError>> + Send,
    {
        loop {
            if let Ok(done) = call().await {
                return Some(done);
            }
            if !self.pauses().await {
                return None;
            }
        }
    }

    /// Waits before something is tried again that the journal refused: the longer it refuses, the longer, so that
    /// many who wait do not keep it busy. Answers whether to try again: not if the service stops.
    pub async fn pauses(&self) -> bool {
        let since = self.journal.trouble().map(|trouble| clock::since(trouble.since)).unwrap_or_default();
        let pause = since.div_f32(4.0).clamp(FIRST, LONGEST);
        tokio::select! {
            () = tokio::time::sleep(pause) => true,
            () = self.cancel.cancelled() => false,
        }
    }
}
