//! What steps that reach beyond files have in common.

use wetbank_errands::ErrandError;

use super::{
    outcome::{FailureKind, at},
    step::AtStep,
};

impl From<ErrandError> for FailureKind {
    fn from(error: ErrandError) -> Self {
        let why = error.to_string();
        let lasting = |code: &str, remedy: &str| Self::Lasting {
            code: code.to_owned(),
            why: why.clone(),
            remedy: remedy.to_owned(),
        };
        match error {
            ErrandError::Stopped => Self::Stopping,
            ErrandError::Io(_) => Self::Passing {
                code: "work-folder".to_owned(),
                why: format!("cannot write the work folder: {why}"),
                remedy: "Free space on the disk that holds Wetbank's data folder.".to_owned(),
            },
            ErrandError::Away(_) => Self::Passing {
                code: "away".to_owned(),
                why: why.clone(),
                remedy: "It is tried again; check address and network if it goes on.".to_owned(),
            },
            ErrandError::SignIn(_) => {
                lasting("sign-in-refused", "Set the secret that the step names again, then release.")
            }
            ErrandError::TooMuch(_) => lasting("too-much", "Allow more in the step if that is meant, then release."),
            ErrandError::Wrong(_) => lasting("unfit", "Correct the file or the step, then release; or dismiss it."),
            _ => lasting("refused", "Correct the step, or what it reaches; then release."),
        }
    }
}

impl AtStep<'_> {
    /// What tells this step of this item from every other, the same at every attempt.
    pub(super) fn key(&self) -> String {
        format!("wetbank-{}-{}-{}-{}", self.effects.work.instance, self.work.item, self.branch, at(self.position))
    }
}
