use std::io;

use wetbank_core::{ByteSize, InvalidPath};

/// Why an archive cannot be made or read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ArchiveError {
    /// It is none, or it is damaged.
    #[error("it is no archive that can be read, or it is damaged: {0}")]
    Damaged(String),
    /// It is encrypted and no passphrase was given.
    #[error("\"{0}\" in it is encrypted and no passphrase was given")]
    Locked(String),
    /// The passphrase does not fit.
    #[error("the passphrase does not open \"{0}\" in it")]
    WrongPassphrase(String),
    /// A name that leads elsewhere, or is none.
    #[error("it holds a file with the name \"{name}\", which cannot be used")]
    Name {
        /// The name as the archive has it.
        name: String,
        /// Why.
        source: InvalidPath,
    },
    /// Two files of one name.
    #[error("it holds two files with the name \"{0}\"")]
    Twice(String),
    /// A file and a folder of one name.
    #[error("it holds \"{0}\" both as a file and as a folder")]
    FileAndFolder(String),
    /// A name whose two places in the archive differ.
    #[error("a file in it is called \"{0}\" in one place and otherwise in another; such an archive was tampered with")]
    TwoNames(String),
    /// A link or a device.
    #[error("\"{0}\" in it is a link or a device, not a file")]
    NotAFile(String),
    /// More files than allowed.
    #[error("it holds more than {0} files")]
    TooMany(usize),
    /// More bytes than allowed.
    #[error("it holds more than {0}")]
    TooLarge(ByteSize),
    /// It grows beyond all measure when expanded.
    #[error("it expands to more than {0} times its size, which honest files do not")]
    Bomb(u64),
    /// Reading or writing failed.
    #[error(transparent)]
    Io(#[from] io::Error),
}

impl From<zip::result::ZipError> for ArchiveError {
    fn from(error: zip::result::ZipError) -> Self {
        match error {
            zip::result::ZipError::Io(error) => Self::Io(error),
            other => Self::Damaged(other.to_string()),
        }
    }
}

impl ArchiveError {
    /// Whether another attempt may end otherwise: the archive itself has no fault.
    pub fn is_retryable(&self) -> bool {
        matches!(self, Self::Io(error) if !matches!(error.kind(), io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::UnexpectedEof))
    }
}
