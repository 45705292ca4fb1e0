//! Asking for a pass from wherever it is wanted: the keeper makes it.

use tokio::sync::{mpsc, oneshot};
use wetbank_core::{
    Cause, Name,
    twin::{Choices, Counts, Pair, Stop},
};

use crate::EngineError;

/// What a pass came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Passing {
    /// Its number.
    pub pass: i64,
    /// The run that carried it out; none where nothing was to be done.
    pub run: Option<i64>,
    /// What was planned.
    pub counts: Counts,
    /// Files on each side when it was planned.
    pub files: Pair<u64>,
    /// So many items ended without anything done, because a file was not any more as it was planned for.
    pub left: u64,
    /// So many items wait for a person.
    pub held: u64,
    /// Why it was not begun.
    pub stop: Option<Stop>,
    /// Whether both sides met for the first time.
    pub is_first: bool,
}

/// A pass that somebody wants.
#[derive(Debug)]
pub(crate) struct Ask {
    pub twin: Name,
    pub cause: Cause,
    pub choices: Choices,
    pub reply: oneshot::Sender<Result<Passing, EngineError>>,
}

/// Where passes are asked for.
#[derive(Debug, Clone)]
pub(crate) struct Passes(mpsc::UnboundedSender<Ask>);

impl Passes {
    pub fn new() -> (Self, mpsc::UnboundedReceiver<Ask>) {
        let (sender, receiver) = mpsc::unbounded_channel();
        (Self(sender), receiver)
    }

    /// Has a pass made and waits for its end.
    pub async fn ask(&self, twin: &Name, cause: Cause, choices: Choices) -> Result<Passing, EngineError> {
        let (reply, answer) = oneshot::channel();
        let stops = || EngineError::Broken("the service stops".to_owned());
        self.0.send(Ask { twin: twin.clone(), cause, choices, reply }).map_err(|_| stops())?;
        answer.await.unwrap_or_else(|_| Err(stops()))
    }
}

/// What was planned, in few words.
pub fn changes(counts: &Counts) -> String {
    let sum = |pair: &Pair<u64>| pair.near + pair.far;
    let told = [
        (sum(&counts.made), "copied"),
        (sum(&counts.replaced), "replaced"),
        (sum(&counts.renamed), "renamed"),
        (sum(&counts.deleted), "deleted"),
        (counts.kept_both, "kept both of"),
        (counts.asked, "asked about"),
        (counts.busy, "still being written"),
    ];
    let told: Vec<String> =
        told.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{count} {what}")).collect();
    if told.is_empty() { "both sides are alike".to_owned() } else { told.join(", ") }
}
