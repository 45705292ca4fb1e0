//! The book, and what it names: secrets, keys, databases.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{ChangeKind, LineChange};

/// A database that tables are loaded into and extracted from.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Database {
    pub name: String,
    pub title: String,
    pub kind: String,
    pub address: String,
    /// Rules that use it.
    pub rules: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DatabaseTest {
    pub fine: bool,
    /// What was found, or why not.
    pub said: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BookFile {
    pub name: String,
    pub text: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProposedBook {
    pub files: Vec<BookFile>,
    /// The whole book: what it does not have is removed.
    #[serde(default)]
    pub whole: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BookDiff {
    pub changes: Vec<BookChange>,
    /// The order in which rules are asked differs.
    pub reordered: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BookChange {
    pub kind: String,
    pub name: String,
    pub change: ChangeKind,
    pub old: Option<String>,
    pub new: Option<String>,
    /// Both texts as one, line by line.
    pub lines: Vec<ChangedLine>,
}

/// A section that is in force, or was.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Section {
    pub kind: String,
    pub name: String,
    /// Its text; nothing if it was removed.
    pub text: Option<String>,
    /// Its version, for `If-Match`; nothing if it was removed.
    pub version: Option<i64>,
    /// What it was, newest first.
    pub versions: Vec<SectionVersion>,
}

/// What a section was.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SectionVersion {
    pub version: i64,
    pub at: String,
    pub who: String,
    /// Why it was changed, if that was said.
    pub note: Option<String>,
    /// Its text; nothing where it was removed.
    pub text: Option<String>,
    /// How it differs from what was before, in words; nothing if only its comments or order do.
    pub differences: Vec<Difference>,
}

/// Something that differs, in words.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Difference {
    pub words: String,
    /// Files are less protected with it, or those who send or take them less surely known.
    pub unprotects: bool,
}

/// Another text of a section.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PutSection {
    pub text: String,
    /// Why.
    #[serde(default)]
    pub note: Option<String>,
}

/// Which text is to be in force again.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct UndoSection {
    /// The text of this version; the one before if it is left out.
    #[serde(default)]
    pub version: Option<i64>,
}

/// A line of a text that is changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangedLine {
    pub change: LineChange,
    pub text: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretName {
    pub name: String,
    /// When it was set; nothing for one that is needed and not set.
    pub changed: Option<String>,
    /// What of the book needs it.
    pub needed_by: Vec<SectionName>,
}

/// A section of the book.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SectionName {
    pub kind: String,
    pub name: String,
}

#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SetSecret {
    pub value: String,
}

impl std::fmt::Debug for SetSecret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SetSecret")
    }
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Key {
    pub name: String,
    pub fingerprint: String,
    pub users: Vec<String>,
    /// We hold its secret part.
    pub has_secret: bool,
    pub encrypts: bool,
    pub signs: bool,
    /// When it ends, if it ever does.
    pub expires: Option<String>,
    /// Why it cannot be encrypted to.
    pub unfit: Option<String>,
    pub changed: String,
}

#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ImportKey {
    /// One key, armoured; or what revokes the key of this name.
    #[serde(default)]
    pub text: String,
    /// The same as bytes in base64 (RFC 4648, section 4), for one without armour.
    #[serde(default)]
    pub base64: Option<String>,
    /// What opens its secret part.
    #[serde(default)]
    pub passphrase: Option<String>,
}

impl std::fmt::Debug for ImportKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("ImportKey")
    }
}
