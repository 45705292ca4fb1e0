//! What is known of a file.

use std::{collections::BTreeMap, fmt, sync::Arc};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::{FilePath, PlaceName, RelPath};

/// What tells one state of a file from another without reading it.
///
/// Two files with equal fingerprints at one path are taken to be the same file; a replaced or
/// rewritten file differs in at least one part.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Fingerprint {
    /// Size in bytes.
    pub size: u64,
    /// Modified time in nanoseconds since 1970 (servers that count seconds give whole ones).
    pub modified: i64,
    /// Inode number, where the place has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inode: Option<u64>,
    /// Version tag of the server, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
}

impl fmt::Display for Fingerprint {
    /// The form kept in the journal: `size.modified[.inode][#tag]`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.size, self.modified)?;
        if let Some(inode) = self.inode {
            write!(f, ".{inode}")?;
        }
        if let Some(tag) = &self.tag {
            write!(f, "#{tag}")?;
        }
        Ok(())
    }
}

impl Fingerprint {
    /// The modified time as a point in time.
    pub fn modified_at(&self) -> Timestamp {
        Timestamp::from_nanosecond(self.modified.into()).unwrap_or(Timestamp::UNIX_EPOCH)
    }
}

/// A file as conditions and templates see it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileFacts {
    /// The place it lies in.
    pub place: PlaceName,
    /// Its path there.
    pub path: RelPath,
    /// Size in bytes.
    pub size: u64,
    /// When it was last modified.
    pub modified: Timestamp,
    /// What is known of its run.
    #[serde(default)]
    pub about: About,
}

/// What is known of a run, by words such as `run.cause`.
pub type About = Arc<BTreeMap<String, String>>;

impl FileFacts {
    /// The facts of a file with a fingerprint.
    pub fn new(file: &FilePath, fingerprint: &Fingerprint) -> Self {
        Self {
            place: file.place.clone(),
            path: file.path.clone(),
            size: fingerprint.size,
            modified: fingerprint.modified_at(),
            about: About::default(),
        }
    }

    /// The same with what is known of its run.
    #[must_use]
    pub fn with(self, about: About) -> Self {
        Self { about, ..self }
    }

    /// The file name in text form.
    pub fn name(&self) -> String {
        self.path.name_text()
    }

    /// The name without its last extension: `assay-0412.csv` of `assay-0412.csv.pgp`.
    pub fn stem(&self) -> String {
        let name = self.name();
        match name.rfind('.') {
            Some(dot) if dot > 0 => name[..dot].to_owned(),
            _ => name,
        }
    }

    /// The last extension without its dot, or nothing.
    pub fn extension(&self) -> String {
        let name = self.name();
        match name.rfind('.') {
            Some(dot) if dot > 0 => name[dot + 1..].to_owned(),
            _ => String::new(),
        }
    }
}
