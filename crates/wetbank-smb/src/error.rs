use std::{fmt, io, time::Duration};

/// Why a request failed.
#[derive(Debug, Clone, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The server said no.
    #[error("{0}")]
    Status(Status),
    /// The server is not what it must be: it lets us in without knowing us, or secures less than
    /// is demanded.
    #[error("{0}")]
    Unfit(&'static str),
    /// It cannot encrypt, and that is demanded.
    #[error("the server cannot encrypt")]
    NoEncryption,
    /// The server was silent for too long.
    #[error("the server did not answer for {} s", .0.as_secs())]
    TimedOut(Duration),
    /// The connection is gone.
    #[error("the connection broke: {0}")]
    Lost(String),
    /// The server broke the protocol.
    #[error("the server broke the protocol: {0}")]
    Protocol(#[from] Malformed),
}

impl Error {
    /// The server's answer, if it said no.
    pub fn status(&self) -> Option<Status> {
        match self {
            Self::Status(status) => Some(*status),
            _ => None,
        }
    }
}

impl From<io::Error> for Error {
    fn from(error: io::Error) -> Self {
        Self::Lost(error.to_string())
    }
}

/// What a peer sent makes no sense.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Malformed(pub &'static str);

/// How a server answers (MS-ERREF, section 2.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Status(pub u32);

#[allow(missing_docs, reason = "the protocol's own names")]
impl Status {
    pub const SUCCESS: Self = Self(0);
    pub const PENDING: Self = Self(0x0000_0103);
    pub const BUFFER_OVERFLOW: Self = Self(0x8000_0005);
    pub const NO_MORE_FILES: Self = Self(0x8000_0006);
    pub const NO_SUCH_FILE: Self = Self(0xC000_000F);
    pub const END_OF_FILE: Self = Self(0xC000_0011);
    pub const MORE_PROCESSING_REQUIRED: Self = Self(0xC000_0016);
    pub const ACCESS_DENIED: Self = Self(0xC000_0022);
    pub const OBJECT_NAME_INVALID: Self = Self(0xC000_0033);
    pub const OBJECT_NAME_NOT_FOUND: Self = Self(0xC000_0034);
    pub const OBJECT_NAME_COLLISION: Self = Self(0xC000_0035);
    pub const OBJECT_PATH_NOT_FOUND: Self = Self(0xC000_003A);
    pub const OBJECT_PATH_SYNTAX_BAD: Self = Self(0xC000_003B);
    pub const SHARING_VIOLATION: Self = Self(0xC000_0043);
    pub const QUOTA_EXCEEDED: Self = Self(0xC000_0044);
    pub const FILE_LOCK_CONFLICT: Self = Self(0xC000_0054);
    pub const DELETE_PENDING: Self = Self(0xC000_0056);
    pub const NO_SUCH_USER: Self = Self(0xC000_0064);
    pub const WRONG_PASSWORD: Self = Self(0xC000_006A);
    pub const LOGON_FAILURE: Self = Self(0xC000_006D);
    pub const ACCOUNT_RESTRICTION: Self = Self(0xC000_006E);
    pub const INVALID_LOGON_HOURS: Self = Self(0xC000_006F);
    pub const INVALID_WORKSTATION: Self = Self(0xC000_0070);
    pub const PASSWORD_EXPIRED: Self = Self(0xC000_0071);
    pub const ACCOUNT_DISABLED: Self = Self(0xC000_0072);
    pub const DISK_FULL: Self = Self(0xC000_007F);
    pub const INSUFFICIENT_RESOURCES: Self = Self(0xC000_009A);
    pub const FILE_IS_A_DIRECTORY: Self = Self(0xC000_00BA);
    pub const NOT_SUPPORTED: Self = Self(0xC000_00BB);
    pub const NETWORK_NAME_DELETED: Self = Self(0xC000_00C9);
    pub const BAD_NETWORK_NAME: Self = Self(0xC000_00CC);
    pub const REQUEST_NOT_ACCEPTED: Self = Self(0xC000_00D0);
    pub const DIRECTORY_NOT_EMPTY: Self = Self(0xC000_0101);
    pub const NOT_A_DIRECTORY: Self = Self(0xC000_0103);
    pub const NAME_TOO_LONG: Self = Self(0xC000_0106);
    pub const CANNOT_DELETE: Self = Self(0xC000_0121);
    pub const LOGON_TYPE_NOT_GRANTED: Self = Self(0xC000_015B);
    pub const ACCOUNT_EXPIRED: Self = Self(0xC000_0193);
    pub const USER_SESSION_DELETED: Self = Self(0xC000_0203);
    pub const INSUFF_SERVER_RESOURCES: Self = Self(0xC000_0205);
    pub const PASSWORD_MUST_CHANGE: Self = Self(0xC000_0224);
    pub const ACCOUNT_LOCKED_OUT: Self = Self(0xC000_0234);
    pub const NETWORK_SESSION_EXPIRED: Self = Self(0xC000_035C);
}

impl Status {
    /// Whether it says no. A warning and an interim answer do not.
    pub(crate) fn is_error(self) -> bool {
        self.0 >> 30 == 3
    }

    /// Whether the sign-in is no longer good, so that the connection is of no more use.
    pub(crate) fn ends_session(self) -> bool {
        matches!(self, Self::NETWORK_NAME_DELETED | Self::USER_SESSION_DELETED | Self::NETWORK_SESSION_EXPIRED)
    }

    fn words(self) -> Option<&'static str> {
        Some(match self {
            Self::NO_SUCH_FILE | Self::OBJECT_NAME_NOT_FOUND => "no such file",
            Self::OBJECT_PATH_NOT_FOUND => "no such folder",
            Self::ACCESS_DENIED => "access denied",
            Self::OBJECT_NAME_INVALID | Self::OBJECT_PATH_SYNTAX_BAD => "the server takes no such name",
            Self::NAME_TOO_LONG => "the name is too long",
            Self::OBJECT_NAME_COLLISION => "the name is taken",
            Self::DIRECTORY_NOT_EMPTY => "something lies in the folder",
            Self::SHARING_VIOLATION => "another program has the file open",
            Self::FILE_LOCK_CONFLICT => "another program has locked the file",
            Self::DELETE_PENDING => "the file is being deleted",
            Self::CANNOT_DELETE => "the file cannot be deleted now",
            Self::QUOTA_EXCEEDED => "the quota is used up",
            Self::DISK_FULL => "the disk is full",
            Self::NO_SUCH_USER | Self::WRONG_PASSWORD | Self::LOGON_FAILURE => "user name or password is wrong",
            Self::ACCOUNT_RESTRICTION | Self::INVALID_LOGON_HOURS | Self::INVALID_WORKSTATION => {
                "the account may not sign in now or from here"
            }
            Self::PASSWORD_EXPIRED | Self::PASSWORD_MUST_CHANGE => "the password has expired",
            Self::ACCOUNT_DISABLED => "the account is disabled",
            Self::ACCOUNT_EXPIRED => "the account has expired",
            Self::ACCOUNT_LOCKED_OUT => "the account is locked after too many tries",
            Self::LOGON_TYPE_NOT_GRANTED => "the account may not sign in over the network",
            Self::FILE_IS_A_DIRECTORY => "it is a folder, no file",
            Self::NOT_A_DIRECTORY => "it is a file, no folder",
            Self::NOT_SUPPORTED => "the server cannot do this",
            Self::BAD_NETWORK_NAME => "the server has no share of this name",
            Self::NETWORK_NAME_DELETED => "the share was taken away",
            Self::USER_SESSION_DELETED | Self::NETWORK_SESSION_EXPIRED => "the server ended the sign-in",
            Self::REQUEST_NOT_ACCEPTED => "the server takes no more sign-ins now",
            Self::INSUFFICIENT_RESOURCES | Self::INSUFF_SERVER_RESOURCES => "the server is overloaded",
            _ => return None,
        })
    }
}

impl fmt::Display for Status {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.words() {
            Some(words) => f.write_str(words),
            None => write!(f, "the server answered with status 0x{:08X}", self.0),
        }
    }
}
