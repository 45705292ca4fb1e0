//! Steps: the things that can be done to a file.

use std::{borrow::Cow, time::Duration};

use globset::GlobMatcher;

use crate::{ByteSize, ChainEvent, Name, PlaceName, QuietHours, SecretName, Template};

/// Where a file goes.
#[derive(Debug, Clone)]
pub struct Target {
    /// The place.
    pub place: PlaceName,
    /// The folder there.
    pub folder: Template,
    /// The name there.
    pub name: Template,
    /// What to do when the name is taken.
    pub exists: IfExists,
    /// When nothing may come there.
    pub quiet: Option<QuietHours>,
    /// The partner whose form this is.
    pub partner: Option<Name>,
    /// Whether a name that is not possible there is changed into one that is.
    pub fit: bool,
    /// Whether its SHA-256 is recorded, besides the BLAKE3 by which it is checked.
    pub sha256: bool,
}

/// What to do when a name is taken at the target.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IfExists {
    /// Hold the file and ask a person.
    Refuse,
    /// Put the new file in its place.
    Replace,
    /// Choose a free name: `name (2).csv`.
    KeepBoth,
    /// Skip when the content is the same, else hold.
    SkipSame,
}

/// How much may come out of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Most {
    /// Bytes at most.
    pub bytes: ByteSize,
    /// The book says so; then the file may also grow beyond all measure.
    pub is_said: bool,
}

/// One thing done to the file in hand. Each step's result is the next one's file.
#[derive(Debug, Clone)]
pub enum Step {
    /// OpenPGP encryption, and signing if a signing key is named.
    Encrypt {
        /// Names of keys.
        to: Vec<String>,
        /// A passphrase that opens it too, or instead.
        passphrase: Option<SecretName>,
        /// The key that signs.
        sign: Option<String>,
        /// ASCII armour instead of binary.
        armour: bool,
        /// The result's name.
        name: Template,
    },
    /// OpenPGP decryption, and verifying if signers are named.
    Decrypt {
        /// How much may come out.
        most: Most,
        /// A passphrase to try besides our keys.
        passphrase: Option<SecretName>,
        /// Names of keys, one of which must have signed.
        signed_by: Vec<String>,
        /// The result's name.
        name: Template,
    },
    /// Sign the file; it and its detached signature both go on.
    Sign {
        /// The key that signs.
        by: String,
        /// ASCII armour instead of binary.
        armour: bool,
        /// The signature's name.
        name: Template,
    },
    /// Check the file against a detached signature that lies beside it.
    Verify {
        /// Names of keys, one of which must have signed.
        by: Vec<String>,
        /// The signature's name.
        name: Template,
    },
    /// Make a small file of it.
    Compress {
        /// How.
        with: Compression,
        /// The result's name.
        name: Template,
    },
    /// Make the large file of a small one again; which it is, the file tells.
    Expand {
        /// How much may come out.
        most: Most,
        /// The result's name.
        name: Template,
    },
    /// Pack the files of the run into one, which goes on instead of them.
    Pack {
        /// The form.
        form: PackForm,
        /// What opens it.
        passphrase: Option<SecretName>,
        /// Whether folders below the one they came from are kept in it.
        folders: bool,
        /// The result's name.
        name: Template,
    },
    /// Take the files of an archive out; each goes on instead of it.
    Unpack {
        /// What opens it.
        passphrase: Option<SecretName>,
        /// Files at most.
        files: usize,
        /// How much may come out.
        most: Most,
    },
    /// Write the checksums of the run's files into a list, which goes on instead of them.
    Manifest {
        /// The list's name.
        name: Template,
    },
    /// Compare the file with a list of checksums that lies beside it.
    CheckManifest {
        /// The list's name.
        name: Template,
    },
    /// Put a copy into a folder of ours.
    Copy(Target),
    /// Get a copy from somebody else's place into a folder of ours.
    Fetch(Target),
    /// Hand a copy to a partner's place.
    Deliver(Target),
    /// Put the file elsewhere and remove it here.
    Move(Target),
    /// Give the original another name in its folder.
    Rename {
        /// The new name.
        name: Template,
        /// What to do when it is taken.
        exists: IfExists,
    },
    /// Remove the original.
    Delete,
    /// Make a folder; it may be there already.
    MakeFolder {
        /// The place.
        place: PlaceName,
        /// The folder.
        folder: Template,
    },
    /// Send a mail about the file, or about all files of the run.
    Mail(Box<Mail>),
    /// Call a web address.
    Call(Box<Call>),
    /// Run a program that the machine's owner allows.
    Program(Box<Program>),
    /// Load a file of comma-separated values into a table.
    Load(Box<Load>),
    /// Write a table, or what a query finds, into such a file, which goes on.
    Extract(Box<Extract>),
    /// Write a line into the file's record.
    Note {
        /// The line.
        text: Template,
    },
    /// Let another branch go on with the file.
    Continue {
        /// The index of that branch; it comes later.
        branch: usize,
    },
    /// Wait for a person.
    Hold {
        /// What the person is told.
        why: String,
    },
}

/// A mail.
#[derive(Debug, Clone)]
pub struct Mail {
    /// The mailbox that sends it.
    pub by: PlaceName,
    /// To whom.
    pub to: Vec<Template>,
    /// Its subject.
    pub subject: Template,
    /// Its text; `lines` stands for a line a file.
    pub text: Template,
    /// The line for each file.
    pub line: Template,
    /// Patterns of names; files that match are attached.
    pub attach: Vec<GlobMatcher>,
    /// Bytes of all that is attached, at most.
    pub most: ByteSize,
    /// One mail about all files of the run.
    pub together: bool,
}

/// A call of a web address.
#[derive(Debug, Clone)]
pub struct Call {
    /// The address.
    pub url: Template,
    /// The method, in capitals.
    pub method: String,
    /// Headers that are no secret.
    pub headers: Vec<(String, Template)>,
    /// A bearer token.
    pub token: Option<SecretName>,
    /// What is sent.
    pub body: CallBody,
    /// How long it may take.
    pub limit: Duration,
}

/// What a call sends.
#[derive(Debug, Clone)]
pub enum CallBody {
    /// Nothing.
    Empty,
    /// An object of texts, as JSON.
    Json(Vec<(String, Template)>),
    /// A text.
    Text(Template),
    /// The file in hand.
    File,
}

/// A program.
#[derive(Debug, Clone)]
pub struct Program {
    /// Its name in the list of those that are allowed.
    pub run: Name,
    /// What it is told.
    pub args: Vec<Template>,
    /// The name of the file that is made of what it prints; it is only kept on record if there is none.
    pub name: Option<Template>,
    /// How long it may take.
    pub limit: Duration,
    /// Bytes that it may print.
    pub most: ByteSize,
    /// Whether it may be run again after a stop in the middle of it.
    pub again: bool,
}

/// How numbers are written in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Numbers {
    /// What stands before the fraction.
    pub decimal: char,
    /// What may stand between the thousands.
    pub thousands: Option<char>,
}

impl Default for Numbers {
    fn default() -> Self {
        Self { decimal: '.', thousands: None }
    }
}

/// Which column of a file counts if two have one header.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Twice {
    /// The file is refused.
    #[default]
    Refuse,
    /// The first.
    First,
    /// The last.
    Last,
}

/// A file that goes into a table.
#[derive(Debug, Clone)]
pub struct Load {
    /// The database.
    pub into: Name,
    /// The table.
    pub table: String,
    /// Columns, each with the header of the file that it is filled from; all headers of the file's
    /// own names if empty.
    pub columns: Vec<(String, String)>,
    /// What stands between two values.
    pub separator: u8,
    /// How its text is written, as the web calls it (WHATWG Encoding Standard).
    pub encoding: String,
    /// How numbers are written.
    pub numbers: Numbers,
    /// Which column counts if two have one header.
    pub twice: Twice,
    /// Whether columns of the table that the file does not have stay empty; else such a file is refused.
    pub missing_stay_empty: bool,
    /// What becomes of rows that do not fit.
    pub bad_rows: BadRows,
    /// Whether what the table holds is removed first.
    pub replace: bool,
}

/// What becomes of rows that do not fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BadRows {
    /// Nothing is loaded.
    Refuse,
    /// They are left out, and named.
    LeaveOut,
}

/// A file that comes out of a database.
#[derive(Debug, Clone)]
pub struct Extract {
    /// The database.
    pub from: Name,
    /// What is asked.
    pub asked: Asked,
    /// The values.
    pub values: Vec<(String, Template)>,
    /// What stands between two values.
    pub separator: u8,
    /// The file's name.
    pub name: Template,
}

/// What a database is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// All rows of a table; a dot parts its schema from its name.
    Table(String),
    /// What a query finds; `:name` stands for a value.
    Query(String),
}

impl Asked {
    /// The same as a query.
    #[must_use]
    pub fn query(&self) -> Cow<'_, str> {
        match self {
            Self::Query(query) => Cow::Borrowed(query),
            Self::Table(table) => {
                let parts: Vec<String> =
                    table.split('.').map(|part| format!("\"{}\"", part.replace('"', "\"\""))).collect();
                Cow::Owned(format!("SELECT * FROM {}", parts.join(".")))
            }
        }
    }
}

/// How a file is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Compression {
    /// gzip (RFC 1952).
    Gzip,
    /// Zstandard (RFC 8878).
    Zstd,
}

/// The form of an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
pub enum PackForm {
    /// Zip, with AES-256 if it has a passphrase.
    #[serde(rename = "zip")]
    Zip,
    /// A tape archive compressed with gzip.
    #[serde(rename = "tar.gz")]
    TarGz,
}

impl Step {
    /// Whether it needs all files of the run together: each waits there for the others.
    pub fn joins(&self) -> bool {
        match self {
            Self::Pack { .. } | Self::Manifest { .. } => true,
            Self::Mail(mail) => mail.together,
            _ => false,
        }
    }

    /// Whether it does something with a file: without one it cannot be done.
    pub fn needs_file(&self) -> bool {
        match self {
            Self::MakeFolder { .. }
            | Self::Note { .. }
            | Self::Continue { .. }
            | Self::Hold { .. }
            | Self::Extract(_)
            | Self::Program(_) => false,
            Self::Mail(mail) => mail.together || !mail.attach.is_empty(),
            Self::Call(call) => matches!(call.body, CallBody::File),
            _ => true,
        }
    }

    /// Whether there is a file after it also if there was none before.
    pub fn makes_file(&self) -> bool {
        match self {
            Self::Extract(_) | Self::Pack { .. } | Self::Manifest { .. } => true,
            Self::Program(program) => program.name.is_some(),
            _ => false,
        }
    }

    /// Every template in it.
    pub fn templates(&self) -> Vec<&Template> {
        match self {
            Self::Encrypt { name, .. }
            | Self::Decrypt { name, .. }
            | Self::Sign { name, .. }
            | Self::Verify { name, .. }
            | Self::Compress { name, .. }
            | Self::Expand { name, .. }
            | Self::Pack { name, .. }
            | Self::Manifest { name }
            | Self::CheckManifest { name }
            | Self::Rename { name, .. } => vec![name],
            Self::Copy(target) | Self::Fetch(target) | Self::Deliver(target) | Self::Move(target) => {
                vec![&target.folder, &target.name]
            }
            Self::MakeFolder { folder, .. } => vec![folder],
            Self::Note { text } => vec![text],
            Self::Mail(mail) => mail.to.iter().chain([&mail.subject, &mail.text, &mail.line]).collect(),
            Self::Call(call) => {
                let body: Vec<&Template> = match &call.body {
                    CallBody::Json(fields) => fields.iter().map(|(_, value)| value).collect(),
                    CallBody::Text(text) => vec![text],
                    CallBody::Empty | CallBody::File => Vec::new(),
                };
                call.headers.iter().map(|(_, value)| value).chain([&call.url]).chain(body).collect()
            }
            Self::Program(program) => program.args.iter().chain(&program.name).collect(),
            Self::Extract(extract) => extract.values.iter().map(|(_, value)| value).chain([&extract.name]).collect(),
            Self::Unpack { .. } | Self::Delete | Self::Continue { .. } | Self::Hold { .. } | Self::Load(_) => {
                Vec::new()
            }
        }
    }

    /// The word for this kind of step.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Encrypt { .. } => "encrypt",
            Self::Decrypt { .. } => "decrypt",
            Self::Sign { .. } => "sign",
            Self::Verify { .. } => "verify",
            Self::Compress { .. } => "compress",
            Self::Expand { .. } => "expand",
            Self::Pack { .. } => "pack",
            Self::Unpack { .. } => "unpack",
            Self::Manifest { .. } => "manifest",
            Self::CheckManifest { .. } => "check-manifest",
            Self::Copy(_) => "copy",
            Self::Fetch(_) => "fetch",
            Self::Deliver(_) => "deliver",
            Self::Move(_) => "move",
            Self::Rename { .. } => "rename",
            Self::Delete => "delete",
            Self::MakeFolder { .. } => "make-folder",
            Self::Mail(_) => "mail",
            Self::Call(_) => "call",
            Self::Program(_) => "program",
            Self::Load(_) => "load",
            Self::Extract(_) => "extract",
            Self::Note { .. } => "note",
            Self::Continue { .. } => "continue",
            Self::Hold { .. } => "hold",
        }
    }

    /// What it means for other rules that it is done.
    pub fn event(&self) -> Option<ChainEvent> {
        match self {
            Self::Copy(_) => Some(ChainEvent::Copied),
            Self::Fetch(_) => Some(ChainEvent::Fetched),
            Self::Deliver(_) => Some(ChainEvent::Delivered),
            Self::Move(_) => Some(ChainEvent::Moved),
            _ => None,
        }
    }

    /// The step's target, if it has one.
    pub fn target(&self) -> Option<&Target> {
        match self {
            Self::Copy(target) | Self::Fetch(target) | Self::Deliver(target) | Self::Move(target) => Some(target),
            _ => None,
        }
    }

    /// The place it writes to.
    pub fn place(&self) -> Option<&PlaceName> {
        match self {
            Self::MakeFolder { place, .. } => Some(place),
            Self::Mail(mail) => Some(&mail.by),
            step => step.target().map(|target| &target.place),
        }
    }
}
