//! What a step can do besides moving files: letters written and taken apart, web calls, programs,
//! tables.
//!
//! Nothing here knows a rule, a run or a place; everything streams, and has its bounds given.

mod call;
mod error;
mod letter;
mod program;
mod table;
mod write;

pub use call::{Answer, Calling, Content, call};
pub use error::ErrandError;
pub use letter::{Attachment, LetterFacts, TakenOut, take_out};
pub use program::{Allowed, Printed, Programs, Running, run};
pub use table::{Extracting, Loaded, Loading, Source, extract, load, new_sqlite, reach};
pub use write::{Enclosed, Letter, write_letter};
