//! How each kind of step is done, a file for each.

mod align;
mod call;
mod check_manifest;
mod compress;
mod convert_text;
mod copy;
mod decrypt;
mod delete;
mod deliver;
mod encrypt;
mod expand;
mod extract;
mod fetch;
mod go_on;
mod hold;
mod load;
mod mail;
mod make_folder;
mod manifest;
mod move_on;
mod note;
mod pack;
mod program;
mod rename;
mod sign;
mod unpack;
mod verify;

use wetbank_core::{Step, with_step_kinds};

use super::{
    outcome::{Attempt, Effect, FailureKind, Hand, StepDone},
    step::AtStep,
};

/// How a kind of step is done.
pub(super) trait Does {
    /// Does it to the item at hand. What the attempt was told to be on record is on record, whatever comes of it.
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone>;
}

macro_rules! dispatch {
    ($($kind:ident $word:literal;)*) => {
        impl Does for Step {
            async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
                match self { $(Self::$kind(step) => step.done_at(at, attempt).await,)* }
            }
        }
    };
}

with_step_kinds!(dispatch);
