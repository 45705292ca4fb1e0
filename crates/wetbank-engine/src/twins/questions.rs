//! What a person is asked about a twin: one held item, that stands for all that waits there.

use wetbank_core::{
    Cause, RelPath,
    twin::{ASKED, Choices, Counts, Side, Stop, Twin},
};
use wetbank_journal::{PlannedItem, PlannedRun};

use super::keeper::Keeper;
use crate::{
    EngineError, clock,
    effects::{Hand, InQuestion},
};

/// What is asked after a look at both sides.
pub(super) fn question(twin: &Twin, stop: Option<Stop>, counts: &Counts) -> Option<InQuestion> {
    let name = &twin.name;
    match stop {
        Some(stop) => {
            let meant = match stop {
                Stop::TooMuch { .. } => {
                    "if it is meant, release this; if it would be more by then, you are asked again"
                }
                Stop::Other { .. } => {
                    "if it is meant, release this: both sides then meet for the first time, and nothing is deleted or replaced"
                }
                Stop::Empty { .. } => "if it is meant, release this",
            };
            Some(InQuestion {
                why: format!("the pass was stopped before its first action: {stop}"),
                remedy: format!(
                    "Look at what it would do: wetbank twin compare {name}, or the twin's page. Put back what is missing, and \
                     the next pass goes on by itself; {meant}. What a side loses is kept there for {} days.",
                    twin.keep_days
                ),
                choices: Choices { allowed: Some(stop), ..Choices::default() },
            })
        }
        None if counts.asked > 0 => Some(InQuestion {
            why: match counts.asked {
                1 => "one file or folder waits for an answer".to_owned(),
                asked => format!("{asked} files and folders wait for an answer"),
            },
            remedy: format!(
                "Answer on the twin's page, or see them with wetbank twin compare {name} and answer with wetbank twin settle \
                 {name}; then release this, or leave it: it goes once nothing is asked any more."
            ),
            choices: Choices::default(),
        }),
        None => None,
    }
}

impl Keeper {
    /// Sees to it that just this is asked: what was asked before and is not any more is dismissed.
    pub(super) async fn ask(&self, twin: &Twin, question: Option<InQuestion>) -> Result<(), EngineError> {
        let (journal, rule) = (&self.record.journal, twin.rule_name());
        let mut is_asked = false;
        for (item, why) in journal.holds_of_branch(&rule, ASKED).await? {
            if !is_asked && question.as_ref().is_some_and(|question| question.why == why) {
                is_asked = true;
                continue;
            }
            let Some(work) = journal.work(item).await? else { continue };
            match self.runner.dismiss(&work, "dismissed: a later pass found it otherwise".to_owned()).await {
                // Somebody answered it just now.
                Ok(()) | Err(EngineError::Declined(_)) => {}
                Err(error) => return Err(error),
            }
        }
        let Some(question) = question.filter(|_| !is_asked) else { return Ok(()) };
        // A pass just before this one may have asked the same, and its item is about to be held.
        for item in journal.not_asked(&rule, ASKED).await? {
            let Some(work) = journal.work(item).await? else { continue };
            if Hand::of(&work)?.and_then(|hand| hand.asked).is_some_and(|asked| asked.why == question.why) {
                return Ok(());
            }
        }
        let side = match question.choices.allowed {
            Some(Stop::TooMuch { on: side, .. } | Stop::Empty { side, .. } | Stop::Other { side }) => side,
            None => Side::Near,
        };
        let hand = Hand { asked: Some(Box::new(question)), ..Hand::empty(RelPath::root()) };
        let item = PlannedItem {
            file: twin.folders.of(side).clone(),
            fingerprint: String::new(),
            size: 0,
            branch: ASKED,
            hand: hand.text().unwrap_or_default(),
        };
        let version = self.rule_version(twin).await?;
        let works =
            journal.take_planned((&rule, version, Cause::Hand), PlannedRun::New, vec![item], clock::now()).await?;
        self.queue.claims.add(works);
        Ok(())
    }

    /// The version of the rule that its passes are.
    pub(super) async fn rule_version(&self, twin: &Twin) -> Result<i64, EngineError> {
        let (journal, rule) = (&self.record.journal, twin.rule_name());
        Ok(journal.keep_text(rule.as_str(), &twin.rule_text(), "twin", clock::now()).await?)
    }
}
