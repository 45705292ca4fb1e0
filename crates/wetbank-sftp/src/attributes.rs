//! File attributes (section 5).

use bytes::{BufMut, Bytes, BytesMut};

use crate::codec::{Fields, Malformed};

const SIZE: u32 = 1;
const OWNER: u32 = 2;
const PERMISSIONS: u32 = 4;
const TIMES: u32 = 8;
const EXTENDED: u32 = 0x8000_0000;

/// What a server tells of a file, as far as it does.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Attributes {
    /// Size in bytes.
    pub size: Option<u64>,
    /// POSIX mode, type bits included.
    pub permissions: Option<u32>,
    /// Accessed and modified, in seconds since 1970.
    pub times: Option<(u32, u32)>,
}

/// The type of a file, from the type bits of its mode.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileType {
    /// A regular file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Link,
    /// A pipe, socket or device, or unknown.
    Other,
}

impl Attributes {
    /// What kind of file it is.
    pub fn file_type(&self) -> FileType {
        match self.permissions.map(|mode| mode & 0o170_000) {
            Some(0o100_000) => FileType::File,
            Some(0o040_000) => FileType::Directory,
            Some(0o120_000) => FileType::Link,
            _ => FileType::Other,
        }
    }

    pub(crate) fn read(from: &mut Bytes) -> Result<Self, Malformed> {
        let flags = from.u32_field()?;
        let mut attributes = Self::default();
        if flags & SIZE != 0 {
            attributes.size = Some(from.u64_field()?);
        }
        if flags & OWNER != 0 {
            from.u64_field()?;
        }
        if flags & PERMISSIONS != 0 {
            attributes.permissions = Some(from.u32_field()?);
        }
        if flags & TIMES != 0 {
            attributes.times = Some((from.u32_field()?, from.u32_field()?));
        }
        if flags & EXTENDED != 0 {
            for _ in 0..from.u32_field()? {
                from.string_field()?;
                from.string_field()?;
            }
        }
        Ok(attributes)
    }

    pub(crate) fn to_bytes(self) -> BytesMut {
        let mut bytes = BytesMut::with_capacity(32);
        let flag = |there: bool, flag: u32| if there { flag } else { 0 };
        bytes.put_u32(
            flag(self.size.is_some(), SIZE)
                | flag(self.permissions.is_some(), PERMISSIONS)
                | flag(self.times.is_some(), TIMES),
        );
        if let Some(size) = self.size {
            bytes.put_u64(size);
        }
        if let Some(permissions) = self.permissions {
            bytes.put_u32(permissions);
        }
        if let Some((accessed, modified)) = self.times {
            bytes.put_u32(accessed);
            bytes.put_u32(modified);
        }
        bytes
    }
}
