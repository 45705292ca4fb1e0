use std::time::Duration;

use wetbank_journal::JournalError;

/// Why somebody is not let in, or a change to who may come is not made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PeopleError {
    /// Name and password do not belong together; which of them is wrong is nobody's business.
    #[error("name or password is wrong")]
    Wrong,
    /// The password is right; the second factor's code is needed.
    #[error("the code of your second factor is needed, too")]
    CodeNeeded,
    /// The code is wrong, or was used.
    #[error("this code is wrong or was used already; wait for the next one")]
    WrongCode,
    /// There were too many attempts.
    #[error("too many attempts; try again in {} seconds", .0.as_secs().max(1))]
    Wait(Duration),
    /// Too many sign in at once.
    #[error("too many sign in at this moment; try again in a few seconds")]
    Busy,
    /// A link that opens once was used, or its time is over.
    #[error("this link was used already, or its time is over; ask for a new one")]
    NoLink,
    /// A password that is easy to guess.
    #[error("the password {0}")]
    Weak(&'static str),
    /// Nobody and nothing has this name.
    #[error("there is no {kind} \"{name}\"")]
    Unknown {
        /// What was looked for.
        kind: &'static str,
        /// Its name.
        name: String,
    },
    /// No passkey can be made or used where the browser is.
    #[error("passkeys need a host name and TLS, and this is {0}; open the console by its name, over https")]
    NoPasskeys(String),
    /// What a passkey answered is not what was asked for.
    #[error("this passkey does not open: {0}")]
    Passkey(String),
    /// No provider vouches for anybody here.
    #[error("no provider vouches for anybody here; an owner names one")]
    NoProvider,
    /// What is said of the provider cannot be so.
    #[error("{0}")]
    NoSuchProvider(String),
    /// The provider cannot be asked, or what it answered does not hold.
    #[error("the provider cannot be asked, or its answer does not hold: {0}")]
    Provider(String),
    /// The provider knows somebody who has no name here.
    #[error("the provider vouches for somebody who has no name here; ask an owner for a link, and open it first")]
    Nobody,
    /// The provider's name for somebody is another user's.
    #[error("the provider's name for you belongs to another user here")]
    Others,
    /// The name is taken.
    #[error("there is a token \"{0}\" already; choose another name or remove it first")]
    Taken(String),
    /// Nobody could let anybody in any more.
    #[error("\"{0}\" is the last owner; make somebody else an owner first")]
    LastOwner(String),
    /// A second factor that is there already.
    #[error("there is a second factor already; remove it first")]
    HasCodes,
    /// No name, or none that can be one.
    #[error(transparent)]
    Name(#[from] wetbank_core::InvalidName),
    /// What is sealed cannot be opened.
    #[error("the second factor cannot be read: {0}")]
    Sealed(String),
    /// The journal failed.
    #[error(transparent)]
    Journal(#[from] JournalError),
}
