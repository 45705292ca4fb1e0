//! Stand-ins for the servers of partners, for the demo and for tests. They are real servers,
//! only small: they listen on this machine and keep their files in a folder or in memory.

mod bucket;
mod drive;
mod files;
mod ftp;
mod guests;
mod post;
mod sftp;

pub use bucket::{BucketStandin, BucketStandinOptions};
pub use drive::{DriveStandin, DriveStandinOptions, DriveUser};
pub use ftp::{FtpStandin, FtpStandinOptions};
pub use post::{PostStandin, PostStandinOptions};
pub use sftp::{SftpStandin, SftpStandinOptions};
