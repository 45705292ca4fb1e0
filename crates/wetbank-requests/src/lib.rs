//! Requests in flight on one connection: who waits for which answer, and why the connection ended.
//!
//! A protocol that numbers its requests has one task that sends and one that reads; in between stands this table. It
//! knows nothing of what is said.
//!
//! - Whoever asks registers a number before it sends, and waits with [`Table::wait`].
//! - Whoever reads hands each answer over with [`Table::answer`]. What nobody wants any more comes back, so that a file
//!   opened by it can be closed.
//! - Silence counts from the last sign of life, so that a slow line is no dead line; but no single request waits longer
//!   than [`PATIENCE`] times the allowed silence.
//! - When the connection ends, everybody who waits is told why, and nobody can register any more.

use std::{
    collections::HashMap,
    hash::Hash,
    sync::atomic::{AtomicU64, Ordering},
    time::Duration,
};

use parking_lot::Mutex;
use tokio::{sync::oneshot, time::Instant};
use tokio_util::sync::CancellationToken;

/// However lively the rest of the connection, no single request waits longer than this many times the allowed silence.
pub const PATIENCE: u32 = 10;

/// Why a connection ended, as its protocol tells it.
pub trait Reason: Clone + Send {
    /// It was closed by us.
    fn closed() -> Self;

    /// The other side was silent for so long.
    fn silent(time: Duration) -> Self;
}

/// The table of a connection; `Id` numbers requests, `Answer` is what comes back, `R` tells why it ended.
#[derive(Debug)]
pub struct Table<Id, Answer, R> {
    waiting: Mutex<Waiting<Id, Answer, R>>,
    began: Instant,
    /// Milliseconds after `began` at which the other side last said anything.
    heard: AtomicU64,
    gone: CancellationToken,
}

#[derive(Debug)]
struct Waiting<Id, Answer, R> {
    answers: HashMap<Id, oneshot::Sender<Answer>>,
    reason: Option<R>,
}

impl<Id: Eq + Hash, Answer, R: Reason> Default for Table<Id, Answer, R> {
    fn default() -> Self {
        let waiting = Mutex::new(Waiting { answers: HashMap::new(), reason: None });
        Self { waiting, began: Instant::now(), heard: AtomicU64::new(0), gone: CancellationToken::new() }
    }
}

impl<Id: Eq + Hash, Answer, R: Reason> Table<Id, Answer, R> {
    /// Whoever sends a request with this number gets its answer here.
    ///
    /// # Errors
    ///
    /// Why the connection ended, if it did.
    pub fn register(&self, id: Id) -> Result<oneshot::Receiver<Answer>, R> {
        let (answer, answered) = oneshot::channel();
        let mut waiting = self.waiting.lock();
        if let Some(reason) = &waiting.reason {
            return Err(reason.clone());
        }
        waiting.answers.insert(id, answer);
        Ok(answered)
    }

    /// Hands an answer to whoever waits for it. It comes back if it was asked for and nobody wants it any more.
    pub fn answer(&self, id: &Id, answer: Answer) -> Option<Answer> {
        let waiting = self.waiting.lock().answers.remove(id);
        waiting.and_then(|caller| caller.send(answer).err())
    }

    /// The other side said something.
    pub fn heard(&self) {
        self.heard.store(self.began.elapsed().as_millis() as u64, Ordering::Relaxed);
    }

    fn last_heard(&self) -> Instant {
        self.began + Duration::from_millis(self.heard.load(Ordering::Relaxed))
    }

    /// Ends the connection: everybody who waits is told. The first reason counts.
    pub fn end(&self, reason: R) {
        self.waiting.lock().reason.get_or_insert(reason);
        // Before anybody hears of it: who does must not find the connection open.
        self.gone.cancel();
        self.waiting.lock().answers.clear();
    }

    /// Why it ended.
    pub fn reason(&self) -> R {
        self.waiting.lock().reason.clone().unwrap_or_else(R::closed)
    }

    /// Whether it ended.
    pub fn is_closed(&self) -> bool {
        self.gone.is_cancelled()
    }

    /// Returns once it ended.
    pub async fn gone(&self) {
        self.gone.cancelled().await;
    }

    /// Returns when the other side was silent for too long since a time.
    pub async fn silent_since(&self, since: Instant, silence: Duration) {
        let last = since + silence * PATIENCE;
        loop {
            let deadline = (since.max(self.last_heard()) + silence).min(last);
            if deadline <= Instant::now() {
                return;
            }
            tokio::time::sleep_until(deadline).await;
        }
    }

    /// Ends the connection because of silence.
    pub fn give_up(&self, silence: Duration) -> R {
        let reason = R::silent(silence);
        self.end(reason.clone());
        reason
    }

    /// Waits for an answer. A caller that goes away is no harm: the answer is thrown away.
    ///
    /// # Errors
    ///
    /// Why the connection ended; it is ended if the other side was silent for too long.
    pub async fn wait(&self, answered: oneshot::Receiver<Answer>, silence: Duration) -> Result<Answer, R> {
        let sent = Instant::now();
        tokio::select! {
            answer = answered => answer.map_err(|_| self.reason()),
            () = self.silent_since(sent, silence) => Err(self.give_up(silence)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, Clone, PartialEq, Eq)]
    enum Why {
        Closed,
        Silent(Duration),
        Broke,
    }

    impl Reason for Why {
        fn closed() -> Self {
            Self::Closed
        }

        fn silent(time: Duration) -> Self {
            Self::Silent(time)
        }
    }

    type Requests = Table<u32, &'static str, Why>;

    const SILENCE: Duration = Duration::from_secs(30);

    #[tokio::test]
    async fn each_answer_goes_to_whoever_asked_and_an_unwanted_one_comes_back() {
        let table = Requests::default();
        let (one, two) = (table.register(1).unwrap(), table.register(2).unwrap());
        assert_eq!(table.answer(&2, "second"), None);
        assert_eq!(table.wait(two, SILENCE).await, Ok("second"));
        drop(one);
        assert_eq!(table.answer(&1, "first"), Some("first"), "whoever asked went away");
        assert_eq!(table.answer(&7, "never asked"), None, "what nobody asked for is nobody's to clean up");
    }

    #[tokio::test]
    async fn an_end_is_told_to_all_who_wait_and_its_first_reason_counts() {
        let table = Requests::default();
        let waiting = table.register(1).unwrap();
        table.end(Why::Broke);
        table.end(Why::Closed);
        assert!(table.is_closed());
        assert_eq!(table.wait(waiting, SILENCE).await, Err(Why::Broke));
        assert_eq!(table.register(2).unwrap_err(), Why::Broke);
        table.gone().await;
    }

    #[tokio::test(start_paused = true)]
    async fn silence_ends_it_but_not_while_others_are_answered() {
        let table = Requests::default();
        let waiting = table.register(1).unwrap();
        let began = Instant::now();
        let lively = async {
            for _ in 0..5 {
                tokio::time::sleep(Duration::from_secs(20)).await;
                table.heard();
            }
        };
        let (answer, ()) = tokio::join!(table.wait(waiting, SILENCE), lively);
        assert_eq!(answer, Err(Why::Silent(SILENCE)));
        assert_eq!(began.elapsed().as_secs(), 130, "30 s after the last sign of life");
    }

    #[tokio::test(start_paused = true)]
    async fn no_request_waits_for_ever_however_lively_the_rest_is() {
        let table = Requests::default();
        let waiting = table.register(1).unwrap();
        let began = Instant::now();
        tokio::select! {
            answer = table.wait(waiting, SILENCE) => assert_eq!(answer, Err(Why::Silent(SILENCE))),
            () = async { loop { tokio::time::sleep(Duration::from_secs(1)).await; table.heard(); } } => unreachable!(),
        }
        assert_eq!(began.elapsed(), SILENCE * PATIENCE);
    }
}
