//! Settled files on their way to the journal.

use tokio::sync::mpsc;
use wetbank_journal::Sighting;

/// Settled files that may wait for their transaction.
const QUEUE: usize = 4096;

/// Where settled files are handed over.
#[derive(Debug, Clone)]
pub(crate) struct Offers(mpsc::Sender<Sighting>);

impl Offers {
    pub fn new() -> (Self, mpsc::Receiver<Sighting>) {
        let (sender, receiver) = mpsc::channel(QUEUE);
        (Self(sender), receiver)
    }

    /// Hands a settled file over. A file lost here by a stop is seen again at the next start.
    pub async fn offer(&self, sighting: Sighting) {
        let _ = self.0.send(sighting).await;
    }
}
