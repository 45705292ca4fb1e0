//! Twins: two folders in two places, *near* and *far*, that are kept alike.
//!
//! A plan is made here, from what each side has and from what both had after the last pass; it is carried out
//! elsewhere. What keeps files safe is decided here, too:
//!
//! - A file is deleted only if both sides had it, one side lost it, and the other still has it as it was; or, where the
//!   far side is to be exactly as the near one, if the near side does not have it.
//! - On a first meeting, or if what is known of the last pass cannot be relied on ([`Terms::is_first`]), nothing is
//!   deleted and nothing replaced. What a person was asked then is met for the first time until it is answered
//!   ([`Was::Asked`]).
//! - Each line says what each side had ([`Line::had`]): whoever carries it out looks again at the last moment, and does
//!   nothing to another file.

mod beside;
mod brake;
mod choices;
mod decide;
mod line;
mod met;
mod renames;
mod side;
mod terms;
mod told;
#[allow(clippy::module_inception, reason = "it is what all of this is about")]
mod twin;
mod walk;
mod words;

pub use brake::{Brake, Counts, Stop};
pub use choices::{Answer, Choices};
pub use line::{Action, Known, Lies, Line, Question, Seen, State, Sum, Was, Why};
pub use renames::{Renames, renamed};
pub use side::{Pair, Side};
pub use terms::{Customs, Sameness, Scope, Settling, Terms, Way};
pub use told::{Done, FOLDER_REMOVED, Notice, Report};
pub use twin::{ASKED, KEPT, TOLD, Twin, TwinStarts, branch_of, rule_name, twin_name};
pub use walk::{Folder, Next, Walk};

#[cfg(test)]
mod tests;
