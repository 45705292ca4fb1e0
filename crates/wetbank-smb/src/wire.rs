//! Little-endian fields, read with every bound checked.

use bytes::Bytes;

use crate::Malformed;

const SHORT: Malformed = Malformed("a message is too short");

/// A message that was read; offsets count from its header's first byte.
pub(crate) trait Fields {
    fn bytes_at(&self, at: usize, length: usize) -> Result<&[u8], Malformed>;

    fn u8_at(&self, at: usize) -> Result<u8, Malformed> {
        Ok(self.bytes_at(at, 1)?[0])
    }

    fn u16_at(&self, at: usize) -> Result<u16, Malformed> {
        Ok(u16::from_le_bytes(self.bytes_at(at, 2)?.try_into().expect("two bytes")))
    }

    fn u32_at(&self, at: usize) -> Result<u32, Malformed> {
        Ok(u32::from_le_bytes(self.bytes_at(at, 4)?.try_into().expect("four bytes")))
    }

    fn u64_at(&self, at: usize) -> Result<u64, Malformed> {
        Ok(u64::from_le_bytes(self.bytes_at(at, 8)?.try_into().expect("eight bytes")))
    }

    fn array_at<const N: usize>(&self, at: usize) -> Result<[u8; N], Malformed> {
        Ok(self.bytes_at(at, N)?.try_into().expect("as many bytes as asked"))
    }
}

impl Fields for [u8] {
    fn bytes_at(&self, at: usize, length: usize) -> Result<&[u8], Malformed> {
        let end = at.checked_add(length).ok_or(SHORT)?;
        self.get(at..end).ok_or(SHORT)
    }
}

/// A part of a message without copying it.
pub(crate) fn slice(message: &Bytes, at: usize, length: usize) -> Result<Bytes, Malformed> {
    message.bytes_at(at, length)?;
    Ok(message.slice(at..at + length))
}

/// A message being written.
#[derive(Debug, Default)]
pub(crate) struct Writer(pub Vec<u8>);

impl Writer {
    pub fn u8(mut self, value: u8) -> Self {
        self.0.push(value);
        self
    }

    pub fn u16(mut self, value: u16) -> Self {
        self.0.extend_from_slice(&value.to_le_bytes());
        self
    }

    pub fn u32(mut self, value: u32) -> Self {
        self.0.extend_from_slice(&value.to_le_bytes());
        self
    }

    pub fn u64(mut self, value: u64) -> Self {
        self.0.extend_from_slice(&value.to_le_bytes());
        self
    }

    pub fn raw(mut self, bytes: &[u8]) -> Self {
        self.0.extend_from_slice(bytes);
        self
    }

    pub fn zeros(mut self, count: usize) -> Self {
        self.0.resize(self.0.len() + count, 0);
        self
    }

    /// Fills up to a multiple of eight.
    pub fn padded(self) -> Self {
        let missing = self.0.len().next_multiple_of(8) - self.0.len();
        self.zeros(missing)
    }
}

/// Text as the protocol has it: UTF-16, little-endian.
pub(crate) fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// Text of the protocol; nothing for what is no Unicode.
pub(crate) fn text(bytes: &[u8]) -> Option<String> {
    let units: Vec<u16> =
        bytes.chunks(2).map(|two| two.try_into().map(u16::from_le_bytes).ok()).collect::<Option<_>>()?;
    String::from_utf16(&units).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_read_behind_the_end() {
        let bytes: &[u8] = &[1, 0, 0, 0, 5];
        assert_eq!(bytes.u32_at(0), Ok(1));
        assert_eq!(bytes.u32_at(2), Err(SHORT));
        assert_eq!(bytes.bytes_at(usize::MAX, 2), Err(SHORT));
        assert!(slice(&Bytes::from_static(b"abc"), 1, 3).is_err());
    }

    #[test]
    fn text_goes_both_ways_and_half_a_character_is_no_text() {
        assert_eq!(text(&utf16("Skúli 📄")).as_deref(), Some("Skúli 📄"));
        assert_eq!(text(&[0x3d, 0xd8]), None);
        assert_eq!(text(&[0x41]), None);
    }
}
