//! Files packed into one and taken out again, compressed and expanded.
//!
//! Everything streams: memory grows neither with a file nor, beyond its name, with the number of
//! files. What is taken out goes into an empty folder of ours first, under limits, and no name
//! leads out of it.

mod compress;
mod error;
mod guard;
mod limits;
mod pack;
mod sparse;
mod unpack;

pub use compress::{Compression, compress, expand};
pub use error::ArchiveError;
pub use limits::{Limits, Meter};
pub use pack::{Format, Member, Packing, pack};
pub use unpack::{Taking, Unpacked, unpack};
