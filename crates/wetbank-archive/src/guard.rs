//! Reads along with a tape archive, so that no header in it takes memory that no honest one needs: whoever reads
//! the archive reads names and extended headers (POSIX.1-2001, `pax`) whole.

use std::io::{self, Read};

/// Bytes of one block.
const BLOCK: usize = 512;
/// Bytes of an extended header at most.
const LONGEST: u64 = 64 << 10;

/// The byte of a header that tells that the list of a file's holes goes on in a block of its own.
const HOLES_GO_ON: usize = 482;
/// The same in such a block.
const HOLES_GO_ON_FURTHER: usize = 504;

/// Where in the archive the next byte stands.
enum At {
    /// In a header of which so many bytes are known.
    Header(usize),
    /// In a further list of a file's holes, of which so many bytes are known; so many bytes of content follow.
    Holes(usize, u64),
    /// In content, with its padding, of which so many bytes follow.
    Content(u64),
    /// In an extended header: what is gathered, and how many bytes follow, with their padding.
    Extended { told: Vec<u8>, size: usize, left: u64 },
    /// Behind the mark of the end, where anything may stand.
    End,
}

pub(crate) struct Guard<R> {
    inner: R,
    at: At,
    header: [u8; BLOCK],
    /// The size that an extended header tells of the next file.
    size: Option<u64>,
}

fn refused(words: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, words.to_owned())
}

impl<R: Read> Guard<R> {
    pub fn new(inner: R) -> Self {
        Self { inner, at: At::Header(0), header: [0; BLOCK], size: None }
    }

    fn follow(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            match &mut self.at {
                At::Header(known) => {
                    let more = bytes.len().min(BLOCK - *known);
                    self.header[*known..*known + more].copy_from_slice(&bytes[..more]);
                    *known += more;
                    bytes = &bytes[more..];
                    if *known == BLOCK {
                        self.at = self.after_header()?;
                    }
                }
                At::Holes(known, content) => {
                    let more = bytes.len().min(BLOCK - *known);
                    self.header[*known..*known + more].copy_from_slice(&bytes[..more]);
                    *known += more;
                    bytes = &bytes[more..];
                    if *known == BLOCK {
                        self.at = after_holes(self.header[HOLES_GO_ON_FURTHER] == 1, *content);
                    }
                }
                At::Content(left) => {
                    let more = usize::try_from(*left).unwrap_or(usize::MAX).min(bytes.len());
                    *left -= more as u64;
                    bytes = &bytes[more..];
                    if *left == 0 {
                        self.at = At::Header(0);
                    }
                }
                At::Extended { told, size, left } => {
                    let more = usize::try_from(*left).unwrap_or(usize::MAX).min(bytes.len());
                    let wanted = (*size - told.len()).min(more);
                    told.extend_from_slice(&bytes[..wanted]);
                    *left -= more as u64;
                    bytes = &bytes[more..];
                    if *left == 0 {
                        self.size = size_in(told).or(self.size);
                        self.at = At::Header(0);
                    }
                }
                At::End => return Ok(()),
            }
        }
        Ok(())
    }

    fn after_header(&mut self) -> io::Result<At> {
        if self.header.iter().all(|byte| *byte == 0) {
            return Ok(At::End);
        }
        let mut header = tar::Header::new_old();
        header.as_mut_bytes().copy_from_slice(&self.header);
        let kind = header.entry_type();
        let size = header.entry_size().map_err(|_| refused("a size in it cannot be read"))?;
        let padded = |size: u64| size.div_ceil(BLOCK as u64).checked_mul(BLOCK as u64);
        let padded = |size| padded(size).ok_or_else(|| refused("a size in it is larger than any file"));
        let is_extended = kind.is_pax_global_extensions()
            || kind.is_pax_local_extensions()
            || kind.is_gnu_longname()
            || kind.is_gnu_longlink();
        if !is_extended {
            let content = padded(self.size.take().unwrap_or(size))?;
            return Ok(after_holes(kind.is_gnu_sparse() && self.header[HOLES_GO_ON] == 1, content));
        }
        if size > LONGEST {
            return Err(refused("a name or a header in it is longer than 64 KiB"));
        }
        if size == 0 {
            return Ok(At::Header(0));
        }
        if kind.is_pax_local_extensions() {
            return Ok(At::Extended { told: Vec::new(), size: size as usize, left: padded(size)? });
        }
        Ok(At::Content(padded(size)?))
    }
}

/// What follows a list of holes, or a header: another list, content, or the next header.
fn after_holes(go_on: bool, content: u64) -> At {
    match (go_on, content) {
        (true, _) => At::Holes(0, content),
        (false, 0) => At::Header(0),
        (false, _) => At::Content(content),
    }
}

/// The size that a record of an extended header tells: `LENGTH size=BYTES`.
fn size_in(told: &[u8]) -> Option<u64> {
    let mut records = told.split(|byte| *byte == b'\n');
    records.find_map(|record| {
        let (_, rest) = std::str::from_utf8(record).ok()?.split_once(' ')?;
        rest.strip_prefix("size=")?.parse().ok()
    })
}

impl<R: Read> Read for Guard<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.follow(&buffer[..read])?;
        Ok(read)
    }
}
