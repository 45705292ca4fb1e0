use std::fmt;

use wetbank_core::{PlaceName, RelPath, SecretName};

/// What kind of failure, as far as a caller can act on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum PlaceErrorKind {
    /// The book has no such place any more.
    NoPlace,
    /// There is no such file or folder.
    NotFound,
    /// The sign-in was refused.
    Refused,
    /// Nobody agreed yet: somebody must sign in first.
    NotSignedIn,
    /// What a person once agreed to is over: somebody must sign in again.
    SignInEnded,
    /// The server's host key is unknown or not the pinned one.
    HostKey,
    /// The server's certificate is not trusted.
    Certificate,
    /// The server asks for another way to sign in or to be secured than the book has.
    Security,
    /// Signed in, but not allowed to do this.
    Denied,
    /// The name is taken.
    Exists,
    /// The disk or quota is full.
    NoSpace,
    /// In use by somebody, or too many at once.
    Busy,
    /// The place cannot be reached.
    Unreachable,
    /// The connection broke in the middle.
    Interrupted,
    /// The place cannot have such a name.
    BadName,
    /// The place cannot do this.
    Unsupported,
    /// Anything else.
    Other,
}

/// A failed call: which, on which path of which place, and why.
#[derive(Debug, Clone)]
pub struct PlaceError {
    /// What kind of failure.
    pub kind: PlaceErrorKind,
    /// The place.
    pub place: PlaceName,
    /// What was being done, as in `write`.
    pub call: &'static str,
    /// To what; the root when it was the place itself.
    pub path: RelPath,
    /// The place's own words, free of credentials.
    pub detail: String,
    /// The name of the secret that was used, where a sign-in was refused.
    pub secret: Option<SecretName>,
}

impl std::error::Error for PlaceError {}

/// A failure told without the place's name.
struct Nameless<'a>(&'a PlaceError);

impl fmt::Display for PlaceError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "place \"{}\": {}", self.place, Nameless(self))
    }
}

impl fmt::Display for Nameless<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self(error) = self;
        write!(f, "cannot {} ", error.call)?;
        if error.path.is_root() {
            f.write_str("it")?
        } else {
            write!(f, "\"{}\"", error.path)?
        }
        write!(f, ": {}", error.kind.words())?;
        if !error.detail.is_empty() {
            write!(f, " ({})", error.detail)?;
        }
        Ok(())
    }
}

impl PlaceErrorKind {
    /// A stable word for programs.
    pub fn code(self) -> &'static str {
        match self {
            Self::NoPlace => "no-place",
            Self::NotFound => "not-found",
            Self::Refused => "sign-in-refused",
            Self::NotSignedIn => "not-signed-in",
            Self::SignInEnded => "sign-in-ended",
            Self::HostKey => "host-key",
            Self::Certificate => "certificate",
            Self::Security => "security",
            Self::Denied => "denied",
            Self::Exists => "exists",
            Self::NoSpace => "no-space",
            Self::Busy => "busy",
            Self::Unreachable => "unreachable",
            Self::Interrupted => "interrupted",
            Self::BadName => "bad-name",
            Self::Unsupported => "unsupported",
            Self::Other => "other",
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::NoPlace => "there is no such place in the book",
            Self::NotFound => "it is not there",
            Self::Refused => "the sign-in was refused",
            Self::NotSignedIn | Self::SignInEnded => "nobody is signed in to it",
            Self::HostKey => "the server's host key is not confirmed",
            Self::Certificate => "the server's certificate is not trusted",
            Self::Security => "the server asks for more, or other, security",
            Self::Denied => "not allowed",
            Self::Exists => "the name is taken",
            Self::NoSpace => "no space left",
            Self::Busy => "in use or too busy",
            Self::Unreachable => "it cannot be reached",
            Self::Interrupted => "the connection broke",
            Self::BadName => "the name is not possible there",
            Self::Unsupported => "the place cannot do that",
            Self::Other => "it failed",
        }
    }

    /// Whether it is about the place as a whole, not about a file: everything for the place waits until it is mended.
    pub fn is_of_place(self) -> bool {
        matches!(
            self,
            Self::Unreachable
                | Self::Refused
                | Self::NotSignedIn
                | Self::SignInEnded
                | Self::HostKey
                | Self::Certificate
                | Self::Security
        )
    }

    /// Whether trying again later may help without anybody doing something.
    pub fn is_retryable(self) -> bool {
        matches!(self, Self::NoSpace | Self::Busy | Self::Unreachable | Self::Interrupted | Self::Other)
    }
}

impl PlaceError {
    /// Why, in a few words, for whoever names the place and the path.
    pub fn reason(&self) -> String {
        match self.kind {
            // The system's own words would only say it again.
            PlaceErrorKind::NotFound if !self.path.is_root() => self.kind.words().to_owned(),
            _ if self.detail.is_empty() => self.kind.words().to_owned(),
            _ => format!("{} ({})", self.kind.words(), self.detail),
        }
    }

    /// The same, naming the root if it is the root that is missing or closed: it is signed in by then.
    pub(crate) fn in_root(self, root: &str) -> Self {
        let is_of_root = matches!(self.kind, PlaceErrorKind::NotFound | PlaceErrorKind::Denied)
            && self.path.is_root()
            && !root.is_empty()
            && !self.detail.contains(root);
        if !is_of_root {
            return self;
        }
        let said = if self.detail.is_empty() { String::new() } else { format!("; {}", self.detail) };
        Self { detail: format!("its root {root}{said}"), ..self }
    }

    /// The same, of a sign-in with this secret.
    pub(crate) fn with_secret(self, secret: Option<&SecretName>) -> Self {
        Self { secret: secret.cloned(), ..self }
    }

    /// The failure of a place that has no name yet.
    pub fn nameless(&self) -> String {
        Nameless(self).to_string()
    }

    /// What a person can do about it.
    pub fn remedy(&self) -> String {
        let place = &self.place;
        match self.kind {
            PlaceErrorKind::NoPlace => format!("Put the place \"{place}\" back into the book and release, or dismiss."),
            PlaceErrorKind::NotFound => "Check that the file or folder still exists and is spelt right.".to_owned(),
            PlaceErrorKind::Refused => {
                let secret = self.secret.as_ref().map_or("SECRET", SecretName::as_str);
                format!(
                    "Check the user name; set the secret again with: wetbank secret set {secret}, then test: wetbank place test {place}"
                )
            }
            PlaceErrorKind::NotSignedIn | PlaceErrorKind::SignInEnded => {
                let again = if self.kind == PlaceErrorKind::NotSignedIn { "" } else { " again" };
                format!(
                    "Sign in{again} on the place's page, or with: wetbank place sign-in {place}; what waits for it then goes on"
                )
            }
            PlaceErrorKind::HostKey => format!(
                "Ask the partner for the fingerprint of the server's host key; if it is the one shown, confirm it with: wetbank place test {place} --confirm"
            ),
            PlaceErrorKind::Certificate => format!(
                "Ask the partner for the fingerprint of the server's certificate; if it is the one shown, confirm it with: wetbank place test {place} --confirm"
            ),
            PlaceErrorKind::Security => format!(
                "Change the entry of the place \"{place}\" in the book as the server asks, then test: wetbank place test {place}"
            ),
            PlaceErrorKind::Denied if self.call == "rename to" => {
                "Give the service's account the right to rename, or ask the partner for it; where nobody may rename, say staged = false for the place (an SFTP or FTP server), and each file is written under its own name at once."
                    .to_owned()
            }
            PlaceErrorKind::Denied => {
                "Give the service's account the right to do this, or ask the partner for it.".to_owned()
            }
            PlaceErrorKind::Exists => {
                "Remove or rename the file there, or let the rule replace it or keep both (exists = …).".to_owned()
            }
            PlaceErrorKind::NoSpace => "Free space there; the file goes on from where it stopped.".to_owned(),
            PlaceErrorKind::Busy => "Wait, or lower the number of connections of this place.".to_owned(),
            PlaceErrorKind::Unreachable => {
                format!("Check address, network and that the server runs; test with: wetbank place test {place}")
            }
            PlaceErrorKind::Interrupted => "It is tried again from where it stopped.".to_owned(),
            PlaceErrorKind::BadName => "Give the file another name with a template (as = …).".to_owned(),
            PlaceErrorKind::Unsupported | PlaceErrorKind::Other => {
                format!("Test the place with: wetbank place test {place}")
            }
        }
    }

    /// Whether trying again later may help.
    pub fn is_retryable(&self) -> bool {
        self.kind.is_retryable()
    }
}
