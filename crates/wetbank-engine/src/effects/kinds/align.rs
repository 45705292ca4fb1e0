//! A pass of a twin, made and waited for.

use wetbank_core::{Cause, step};

use super::{AtStep, Attempt, Does, Effect, FailureKind, StepDone};
use crate::{EngineError, effects::passes::changes};

/// The code of a hold in which a person is asked about a twin.
const QUESTION: &str = "twin-question";

/// Whether a person was asked, and said that it goes on: else the item would not be here again.
async fn was_asked(at: &AtStep<'_>) -> Effect<bool> {
    let record = &at.effects.record;
    let attempts = record.insist(|| record.journal.attempts(at.work.item)).await.ok_or(FailureKind::Stopping)?;
    Ok(attempts.iter().any(|attempt| attempt.code.as_deref() == Some(QUESTION)))
}

impl Does for step::Align {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        if let Some(asked) = &at.hand.asked
            && !was_asked(at).await?
        {
            at.start(at.began(at.effects.record.journal.next_attempt(), None, None), attempt).await?;
            let (why, remedy) = (asked.why.clone(), asked.remedy.clone());
            return Err(FailureKind::Lasting { code: QUESTION.to_owned(), why, remedy });
        }
        let choices = at.hand.asked.as_deref().map(|asked| asked.choices.clone()).unwrap_or_default();
        let pass = at.effects.passes.ask(&self.twin, Cause::Chain, choices);
        let passing = tokio::select! {
            passing = pass => passing,
            () = at.stop.cancelled() => return Err(FailureKind::Stopping),
        };
        match passing {
            Ok(passing) => match passing.stop {
                None => at.noted(changes(&passing.counts), false, attempt).await,
                // Its own question was asked anew.
                Some(stop) if at.hand.asked.is_some() => {
                    at.noted(format!("stopped again: {stop}"), false, attempt).await
                }
                Some(stop) => Err(FailureKind::Lasting {
                    code: "brake".to_owned(),
                    why: format!("the twin \"{}\" was not begun: {stop}", self.twin),
                    remedy: format!(
                        "Look at what it would do (wetbank twin compare {}), and answer what is held for the twin; then \
                         release this, or dismiss it.",
                        self.twin
                    ),
                }),
            },
            Err(EngineError::Place(error)) => Err(FailureKind::Place(Box::new(error))),
            Err(error @ (EngineError::Journal(_) | EngineError::Broken(_))) => Err(FailureKind::Passing {
                code: "pass".to_owned(),
                why: error.to_string(),
                remedy: "It is tried again.".to_owned(),
            }),
            Err(error) => Err(FailureKind::Lasting {
                code: "pass".to_owned(),
                why: error.to_string(),
                remedy: "Put right what it names; then release.".to_owned(),
            }),
        }
    }
}
