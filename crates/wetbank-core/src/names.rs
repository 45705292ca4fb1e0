//! Names of things in the book.

use std::{fmt, sync::Arc};

use serde::{Deserialize, Deserializer, Serialize, de::Error as _};

/// A name of a place, rule, secret or key: 1 to 64 of `a-z`, `0-9`, `-`, `_`, starting with a
/// letter or digit. Such a name is safe in an address, a file name and a command line.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(transparent)]
pub struct Name(Arc<str>);

/// Why a text is no [`Name`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no name: use 1 to 64 of a-z, 0-9, - and _, starting with a letter or digit")]
pub struct InvalidName(String);

/// The name of a place.
pub type PlaceName = Name;
/// The name of a rule.
pub type RuleName = Name;
/// The name of a secret.
pub type SecretName = Name;

impl Name {
    /// Checks and takes a name.
    pub fn new(text: &str) -> Result<Self, InvalidName> {
        let fine = !text.is_empty()
            && text.len() <= 64
            && !text.starts_with(['-', '_'])
            && text.bytes().all(|b| matches!(b, b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_'));
        if fine { Ok(Self(text.into())) } else { Err(InvalidName(text.to_owned())) }
    }

    /// The text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", &*self.0)
    }
}

impl std::borrow::Borrow<str> for Name {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl<'de> Deserialize<'de> for Name {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Name::new(&String::deserialize(deserializer)?).map_err(D::Error::custom)
    }
}
