//! Who is there: users and how they prove it, sessions, tokens, links that open once.
//!
//! Everything is on record in the journal; what is asked for with every request is kept in memory, too. What somebody
//! may do is looked up anew each time, so a role that was taken is gone at once. What gives a right counts once it is on
//! record; what takes one counts at once, also if the journal refuses it.

mod attempts;
mod caller;
mod codes;
mod error;
mod opening;
mod passkeys;
mod password;
mod people;
mod proof;
mod provider;
mod sessions;
mod standing;
mod tokens;

pub use attempts::Attempts;
pub use caller::{Caller, Means};
pub use codes::{Codes, Seed};
pub use error::PeopleError;
pub use opening::{Asking, Opened, Shown};
pub use passkeys::{Ceremony, Passkey, Site};
pub use password::Passwords;
pub use people::{People, User};
pub use proof::Secret;
pub use provider::{Came, Provider, Purpose, Sent};
pub use sessions::{Session, Whose};
pub use tokens::{ApiToken, NewToken};
