//! Packets: a length, a type, and fields (section 3).

use bytes::{Buf, BufMut, Bytes, BytesMut};

/// The longest packet taken from a peer. Replies to our largest reads stay below it.
pub(crate) const LONGEST: usize = 512 << 10;

/// Packet types (section 3).
pub(crate) mod kind {
    pub const INIT: u8 = 1;
    pub const VERSION: u8 = 2;
    pub const OPEN: u8 = 3;
    pub const CLOSE: u8 = 4;
    pub const READ: u8 = 5;
    pub const WRITE: u8 = 6;
    pub const LSTAT: u8 = 7;
    pub const FSTAT: u8 = 8;
    pub const SETSTAT: u8 = 9;
    pub const FSETSTAT: u8 = 10;
    pub const OPENDIR: u8 = 11;
    pub const READDIR: u8 = 12;
    pub const REMOVE: u8 = 13;
    pub const MKDIR: u8 = 14;
    pub const RMDIR: u8 = 15;
    pub const REALPATH: u8 = 16;
    pub const STAT: u8 = 17;
    pub const RENAME: u8 = 18;
    pub const STATUS: u8 = 101;
    pub const HANDLE: u8 = 102;
    pub const DATA: u8 = 103;
    pub const NAME: u8 = 104;
    pub const ATTRS: u8 = 105;
    pub const EXTENDED: u8 = 200;
    pub const EXTENDED_REPLY: u8 = 201;
}

/// The answer of a request that brings nothing else (section 7).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StatusCode {
    /// It was done.
    Ok,
    /// There is no more.
    Eof,
    /// No such file.
    NoSuchFile,
    /// Not allowed.
    PermissionDenied,
    /// Any other failure.
    Failure,
    /// The request made no sense to the server.
    BadMessage,
    /// The server's own connection is missing.
    NoConnection,
    /// The server's own connection broke.
    ConnectionLost,
    /// The server cannot do this.
    Unsupported,
    /// A folder above it is missing. Of later versions, as all that follow; many servers send them all the same.
    NoSuchPath,
    /// The name is taken.
    AlreadyExists,
    /// The disk can only be read.
    WriteProtected,
    /// The disk is full.
    NoSpace,
    /// The account's share of the disk is used up.
    QuotaExceeded,
    /// Somebody has locked it.
    LockConflict,
    /// Something lies in the directory.
    DirectoryNotEmpty,
    /// It is no directory.
    NotADirectory,
    /// The server takes no such name.
    InvalidName,
    /// It is a directory.
    IsADirectory,
    /// A code this version does not know.
    Other(u32),
}

impl StatusCode {
    pub(crate) fn from_wire(code: u32) -> Self {
        match code {
            0 => Self::Ok,
            1 => Self::Eof,
            2 => Self::NoSuchFile,
            3 => Self::PermissionDenied,
            4 => Self::Failure,
            5 => Self::BadMessage,
            6 => Self::NoConnection,
            7 => Self::ConnectionLost,
            8 => Self::Unsupported,
            10 => Self::NoSuchPath,
            11 => Self::AlreadyExists,
            12 => Self::WriteProtected,
            14 => Self::NoSpace,
            15 => Self::QuotaExceeded,
            17 => Self::LockConflict,
            18 => Self::DirectoryNotEmpty,
            19 => Self::NotADirectory,
            20 => Self::InvalidName,
            24 => Self::IsADirectory,
            other => Self::Other(other),
        }
    }

    pub(crate) fn to_wire(self) -> u32 {
        match self {
            Self::Ok => 0,
            Self::Eof => 1,
            Self::NoSuchFile => 2,
            Self::PermissionDenied => 3,
            Self::Failure => 4,
            Self::BadMessage => 5,
            Self::NoConnection => 6,
            Self::ConnectionLost => 7,
            Self::Unsupported => 8,
            Self::NoSuchPath => 10,
            Self::AlreadyExists => 11,
            Self::WriteProtected => 12,
            Self::NoSpace => 14,
            Self::QuotaExceeded => 15,
            Self::LockConflict => 17,
            Self::DirectoryNotEmpty => 18,
            Self::NotADirectory => 19,
            Self::InvalidName => 20,
            Self::IsADirectory => 24,
            Self::Other(other) => other,
        }
    }
}

/// A packet whose lengths or counts do not fit its bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("malformed packet: {0}")]
pub struct Malformed(pub(crate) &'static str);

/// Takes whole packets out of a growing buffer.
#[derive(Debug, Default)]
pub(crate) struct Packets(BytesMut);

impl Packets {
    pub fn extend(&mut self, bytes: &[u8]) {
        self.0.extend_from_slice(bytes);
    }

    /// The next whole packet, without its length.
    pub fn next(&mut self) -> Result<Option<Bytes>, Malformed> {
        let Some(length) = self.0.first_chunk::<4>() else { return Ok(None) };
        let length = u32::from_be_bytes(*length) as usize;
        if length == 0 || length > LONGEST {
            return Err(Malformed("its length is not possible"));
        }
        if self.0.len() < 4 + length {
            self.0.reserve(4 + length - self.0.len());
            return Ok(None);
        }
        self.0.advance(4);
        Ok(Some(self.0.split_to(length).freeze()))
    }
}

/// Reading fields; every one is checked against what is left.
pub(crate) trait Fields {
    fn u8_field(&mut self) -> Result<u8, Malformed>;
    fn u32_field(&mut self) -> Result<u32, Malformed>;
    fn u64_field(&mut self) -> Result<u64, Malformed>;
    fn string_field(&mut self) -> Result<Bytes, Malformed>;
}

impl Fields for Bytes {
    fn u8_field(&mut self) -> Result<u8, Malformed> {
        self.try_get_u8().map_err(|_| Malformed("a byte is missing"))
    }

    fn u32_field(&mut self) -> Result<u32, Malformed> {
        self.try_get_u32().map_err(|_| Malformed("a number is cut off"))
    }

    fn u64_field(&mut self) -> Result<u64, Malformed> {
        self.try_get_u64().map_err(|_| Malformed("a number is cut off"))
    }

    fn string_field(&mut self) -> Result<Bytes, Malformed> {
        let length = self.u32_field()? as usize;
        if length > self.len() {
            return Err(Malformed("a string is longer than its packet"));
        }
        Ok(self.split_to(length))
    }
}

/// Builds one packet, length first.
#[derive(Debug)]
pub(crate) struct Packet(BytesMut);

impl Packet {
    pub fn new(kind: u8) -> Self {
        let mut bytes = BytesMut::with_capacity(64);
        bytes.put_u32(0);
        bytes.put_u8(kind);
        Self(bytes)
    }

    /// A request or reply, which all begin with a number.
    pub fn numbered(kind: u8, id: u32) -> Self {
        Self::new(kind).u32(id)
    }

    pub fn u32(mut self, value: u32) -> Self {
        self.0.put_u32(value);
        self
    }

    pub fn u64(mut self, value: u64) -> Self {
        self.0.put_u64(value);
        self
    }

    pub fn string(mut self, value: &[u8]) -> Self {
        self.0.reserve(4 + value.len());
        // Packets are far shorter than 4 GiB.
        self.0.put_u32(value.len() as u32);
        self.0.put_slice(value);
        self
    }

    pub fn raw(mut self, value: &[u8]) -> Self {
        self.0.put_slice(value);
        self
    }

    pub fn finish(mut self) -> Bytes {
        let length = (self.0.len() - 4) as u32;
        self.0[..4].copy_from_slice(&length.to_be_bytes());
        self.0.freeze()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packets_come_out_whole_however_the_bytes_come_in() {
        let one = Packet::numbered(kind::OPEN, 7).string(b"a\xff\nb").finish();
        let mut packets = Packets::default();
        for byte in one.iter() {
            assert_eq!(packets.next().unwrap(), None);
            packets.extend(&[*byte]);
        }
        let mut packet = packets.next().unwrap().unwrap();
        assert_eq!(packet.u8_field(), Ok(kind::OPEN));
        assert_eq!(packet.u32_field(), Ok(7));
        assert_eq!(packet.string_field().unwrap().as_ref(), b"a\xff\nb");
    }

    #[test]
    fn a_length_that_is_not_there_is_refused_before_memory_is_taken() {
        let mut packets = Packets::default();
        packets.extend(&[0xff, 0xff, 0xff, 0xff, 1]);
        assert!(packets.next().is_err());
        let mut string = Bytes::from_static(&[0xff, 0xff, 0xff, 0xff, 1]);
        assert!(string.string_field().is_err());
    }
}
