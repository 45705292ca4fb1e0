//! Paths inside a place.

use std::{fmt, sync::Arc};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error as _};

use crate::PlaceName;

/// Names that start so are our own unfinished work; watchers and listings pass them over.
pub const TEMPORARY_PREFIX: &str = ".wetbank-";

/// A path below the root of a place. The root itself is the empty path.
///
/// It is made of bytes, as file systems and SFTP servers keep them, and can never leave the
/// root: no part is empty, `.` or `..`, none holds a NUL or a slash.
///
/// Its text form (used in the book, the API and the console) shows bytes that are no UTF-8 and
/// control characters as `\xNN`, and a backslash as `\\`, so every path has exactly one text.
///
/// ```
/// use wetbank_core::RelPath;
/// let path = RelPath::from_bytes(b"assays/caf\xe9\n.csv").unwrap();
/// assert_eq!(path.to_string(), r"assays/caf\xe9\x0a.csv");
/// assert_eq!(RelPath::parse(&path.to_string()).unwrap(), path);
/// assert!(RelPath::parse("../outside").is_err());
/// ```
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RelPath(Arc<[u8]>);

/// Why a text or a server's answer is no path of a place.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum InvalidPath {
    /// A `..` part.
    #[error("path {0:?} would leave the place's root")]
    Escapes(String),
    /// A NUL byte, or a slash inside a single name.
    #[error("path {0:?} holds a character that no file name can have")]
    BadCharacter(String),
    /// `\x` without two hexadecimal digits after it, or a lone backslash.
    #[error("path {0:?} has a backslash that is no escape; write \\\\ for a backslash")]
    BadEscape(String),
    /// More bytes than any file's path has.
    #[error("path {0:?}… has more than {LONGEST} bytes, which no file's path has")]
    TooLong(String),
    /// A single name that is empty.
    #[error("the name is empty")]
    Empty,
}

/// Bytes of a path at most: what systems allow, and far more than people write.
const LONGEST: usize = 4096;

/// A path of this many bytes is one.
fn check_length(bytes: &[u8], length: usize) -> Result<(), InvalidPath> {
    if length > LONGEST {
        return Err(InvalidPath::TooLong(escape(&bytes[..bytes.len().min(60)])));
    }
    Ok(())
}

impl RelPath {
    /// The root of a place.
    pub fn root() -> Self {
        Self(Arc::from([]))
    }

    /// Reads the text form. Leading, trailing and doubled slashes are forgiven.
    pub fn parse(text: &str) -> Result<Self, InvalidPath> {
        Self::from_bytes(&unescape(text)?)
    }

    /// Takes raw bytes, as a server or the kernel gave them.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, InvalidPath> {
        check_length(bytes, bytes.len())?;
        let mut clean = Vec::with_capacity(bytes.len());
        for part in bytes.split(|&b| b == b'/') {
            if part.is_empty() || part == b"." {
                continue;
            }
            if part == b".." {
                return Err(InvalidPath::Escapes(escape(bytes)));
            }
            if part.contains(&0) {
                return Err(InvalidPath::BadCharacter(escape(bytes)));
            }
            if !clean.is_empty() {
                clean.push(b'/');
            }
            clean.extend_from_slice(part);
        }
        Ok(Self(clean.into()))
    }

    /// This path with one more name below it; the name must be a single part.
    pub fn join_name(&self, name: &[u8]) -> Result<Self, InvalidPath> {
        match name {
            b"" | b"." => return Err(InvalidPath::Empty),
            b".." => return Err(InvalidPath::Escapes(escape(name))),
            _ if name.contains(&b'/') || name.contains(&0) => {
                return Err(InvalidPath::BadCharacter(escape(name)));
            }
            _ => {}
        }
        check_length(name, self.0.len() + 1 + name.len())?;
        let mut bytes = Vec::with_capacity(self.0.len() + 1 + name.len());
        if !self.is_root() {
            bytes.extend_from_slice(&self.0);
            bytes.push(b'/');
        }
        bytes.extend_from_slice(name);
        Ok(Self(bytes.into()))
    }

    /// This path followed by another.
    pub fn join(&self, below: &RelPath) -> Self {
        if self.is_root() {
            return below.clone();
        }
        if below.is_root() {
            return self.clone();
        }
        let mut bytes = self.0.to_vec();
        bytes.push(b'/');
        bytes.extend_from_slice(&below.0);
        Self(bytes.into())
    }

    /// The folder that holds it; the root holds itself.
    pub fn parent(&self) -> Self {
        match self.0.iter().rposition(|&b| b == b'/') {
            Some(at) => Self(self.0[..at].into()),
            None => Self::root(),
        }
    }

    /// The last part, as bytes.
    pub fn name(&self) -> &[u8] {
        let start = self.0.iter().rposition(|&b| b == b'/').map_or(0, |at| at + 1);
        &self.0[start..]
    }

    /// The last part in text form.
    pub fn name_text(&self) -> String {
        escape(self.name())
    }

    /// The raw bytes.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Whether this is the root.
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// The part of this path below `folder`, or `None` if it is not inside.
    pub fn below(&self, folder: &RelPath) -> Option<RelPath> {
        if folder.is_root() {
            return Some(self.clone());
        }
        let rest = self.0.strip_prefix(&*folder.0)?;
        match rest {
            [] => Some(Self::root()),
            [b'/', rest @ ..] => Some(Self(rest.into())),
            _ => None,
        }
    }

    /// Whether it is one of our own unfinished files, or lies in a folder of ours: nothing takes it.
    pub fn is_temporary(&self) -> bool {
        self.parts().any(|part| part.starts_with(TEMPORARY_PREFIX.as_bytes()))
    }

    /// The names from the top down.
    pub fn parts(&self) -> impl Iterator<Item = &[u8]> {
        self.0.split(|&b| b == b'/').filter(|part| !part.is_empty())
    }
}

fn escape(bytes: &[u8]) -> String {
    use std::fmt::Write;
    let mut text = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '\\' => text.push_str("\\\\"),
                c if (c as u32) < 0x20 || c as u32 == 0x7f => {
                    let _ = write!(text, "\\x{:02x}", c as u32);
                }
                c => text.push(c),
            }
        }
        for byte in chunk.invalid() {
            let _ = write!(text, "\\x{byte:02x}");
        }
    }
    text
}

fn unescape(text: &str) -> Result<Vec<u8>, InvalidPath> {
    let bad = || InvalidPath::BadEscape(text.to_owned());
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((&first, after)) = rest.split_first() {
        if first != b'\\' {
            bytes.push(first);
            rest = after;
            continue;
        }
        match after {
            [b'\\', after @ ..] => {
                bytes.push(b'\\');
                rest = after;
            }
            [b'x', high, low, after @ ..] => {
                let digit = |d: &u8| (*d as char).to_digit(16).ok_or_else(bad);
                bytes.push((digit(high)? * 16 + digit(low)?) as u8);
                rest = after;
            }
            _ => return Err(bad()),
        }
    }
    Ok(bytes)
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&escape(&self.0))
    }
}

impl fmt::Debug for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "RelPath({self})")
    }
}

impl Serialize for RelPath {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for RelPath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        RelPath::parse(&String::deserialize(deserializer)?).map_err(D::Error::custom)
    }
}

/// A file in a place, written `place:/path`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct FilePath {
    /// The place.
    pub place: PlaceName,
    /// The path below the place's root.
    pub path: RelPath,
}

impl FilePath {
    /// Reads `place:/path`; the slash may be missing.
    ///
    /// ```
    /// let path = wetbank_core::FilePath::parse("office:/assays/out").unwrap();
    /// assert_eq!(path.to_string(), "office:/assays/out");
    /// ```
    pub fn parse(text: &str) -> Result<Self, String> {
        let (place, path) =
            text.split_once(':').ok_or_else(|| format!("{text:?} names no place: write it as PLACE:/PATH"))?;
        let place = PlaceName::new(place).map_err(|e| e.to_string())?;
        let path = RelPath::parse(path).map_err(|e| e.to_string())?;
        Ok(Self { place, path })
    }
}

impl fmt::Display for FilePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:/{}", self.place, self.path)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_path_survives_its_text_form(bytes in proptest::collection::vec(1u8.., 0..40)) {
            if let Ok(path) = RelPath::from_bytes(&bytes) {
                prop_assert_eq!(RelPath::parse(&path.to_string()).unwrap(), path);
            }
        }

        #[test]
        fn no_text_leaves_the_root(text in "[./\\\\x0-9a]{0,20}") {
            if let Ok(path) = RelPath::parse(&text) {
                prop_assert!(path.parts().all(|part| part != b".." && part != b"." && !part.is_empty()));
            }
        }
    }

    #[test]
    fn below_is_by_whole_names() {
        let folder = RelPath::parse("in").unwrap();
        assert!(RelPath::parse("inbox/a").unwrap().below(&folder).is_none());
        assert_eq!(RelPath::parse("in/a").unwrap().below(&folder).unwrap().to_string(), "a");
    }

    #[test]
    fn a_single_name_may_hold_no_slash() {
        assert!(RelPath::root().join_name(b"a/b").is_err());
        assert!(RelPath::root().join_name(b"..").is_err());
        assert!(RelPath::root().join_name(b"a\0").is_err());
    }
}
