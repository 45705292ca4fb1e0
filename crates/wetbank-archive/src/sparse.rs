//! Files with holes in tape archives, in the form of POSIX archives: `GNU.sparse` version 1.0. An extended header tells
//! the file's own name and size, and the content begins with a list of what is not a hole: numbers in lines, filled up to
//! a whole block. (The older form, type `S`, the tape archive's reader knows by itself.)

use std::io::{self, Read};

/// Bytes of one block.
const BLOCK: u64 = 512;
/// Pieces of one file at most; honest lists are far shorter.
const MOST: u64 = 1 << 20;
/// Digits of one number at most.
const DIGITS: usize = 20;

/// What an extended header tells of a file with holes.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Told {
    pub name: Vec<u8>,
    size: u64,
}

fn refused(words: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, words.to_owned())
}

impl Told {
    /// What the records of an extended header tell, if the file has holes.
    ///
    /// # Errors
    ///
    /// If it has, and they are told in another form.
    pub fn of<'a>(records: impl Iterator<Item = (&'a [u8], &'a [u8])>) -> io::Result<Option<Self>> {
        let (mut name, mut size, mut version, mut is_sparse) = (None, None, (None, None), false);
        for (key, value) in records {
            is_sparse |= key.starts_with(b"GNU.sparse.");
            match key {
                b"GNU.sparse.name" => name = Some(value.to_vec()),
                b"GNU.sparse.realsize" => size = number(value),
                b"GNU.sparse.major" => version.0 = number(value),
                b"GNU.sparse.minor" => version.1 = number(value),
                _ => {}
            }
        }
        match (is_sparse, version, name, size) {
            (false, ..) => Ok(None),
            (true, (Some(1), Some(0)), Some(name), Some(size)) => Ok(Some(Self { name, size })),
            _ => Err(refused("it tells the holes of a file in a form that cannot be read; pack it without them")),
        }
    }

    /// The whole file, with its holes as zeros, of what the archive has of it.
    pub fn whole<R: Read>(self, mut stored: R) -> io::Result<Whole<R>> {
        let mut read = 0;
        let count = line(&mut stored, &mut read)?;
        if count > MOST {
            return Err(refused("a file in it has more holes than any file"));
        }
        let (mut pieces, mut at) = (Vec::new(), 0);
        for _ in 0..count {
            let (from, length) = (line(&mut stored, &mut read)?, line(&mut stored, &mut read)?);
            let end = from.checked_add(length).filter(|end| from >= at && *end <= self.size);
            at = end.ok_or_else(|| refused("the pieces of a file in it lie over each other, or behind its end"))?;
            pieces.push((from, length));
        }
        io::copy(&mut (&mut stored).take(read.next_multiple_of(BLOCK) - read), &mut io::sink())?;
        // Read from the back.
        pieces.reverse();
        Ok(Whole { stored, pieces, at: 0, size: self.size })
    }
}

fn number(digits: &[u8]) -> Option<u64> {
    std::str::from_utf8(digits).ok()?.parse().ok()
}

/// The number in the next line.
fn line(from: &mut impl Read, read: &mut u64) -> io::Result<u64> {
    let (mut digits, mut byte) = (Vec::new(), [0]);
    loop {
        from.read_exact(&mut byte)?;
        *read += 1;
        match byte[0] {
            b'\n' => return number(&digits).ok_or_else(|| refused("the list of a file's pieces is damaged")),
            digit if digits.len() < DIGITS => digits.push(digit),
            _ => return Err(refused("the list of a file's pieces is damaged")),
        }
    }
}

/// A file with its holes, while it is read.
pub(crate) struct Whole<R> {
    stored: R,
    /// Where what is stored goes, and how many bytes of it; the next one last.
    pieces: Vec<(u64, u64)>,
    at: u64,
    size: u64,
}

impl<R: Read> Read for Whole<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.pieces.last().is_some_and(|(_, length)| *length == 0) {
            self.pieces.pop();
        }
        let fits = |bytes: u64| usize::try_from(bytes).unwrap_or(usize::MAX).min(buffer.len());
        let read = match self.pieces.last_mut() {
            Some((from, length)) if *from == self.at => {
                let most = fits(*length);
                let read = self.stored.read(&mut buffer[..most])?;
                if read == 0 && most > 0 {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                (*from, *length) = (*from + read as u64, *length - read as u64);
                read
            }
            next => {
                let end = next.map_or(self.size, |(from, _)| *from);
                let hole = fits(end - self.at);
                buffer[..hole].fill(0);
                hole
            }
        };
        self.at += read as u64;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(size: u64) -> Told {
        Told { name: b"survey.raw".to_vec(), size }
    }

    fn stored(list: &str, content: &[u8]) -> Vec<u8> {
        let mut stored = list.as_bytes().to_vec();
        stored.resize(stored.len().next_multiple_of(512), 0);
        stored.extend_from_slice(content);
        stored
    }

    fn whole(size: u64, list: &str, content: &[u8]) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        told(size).whole(&stored(list, content)[..])?.read_to_end(&mut bytes)?;
        Ok(bytes)
    }

    #[test]
    fn what_is_no_hole_comes_to_its_place() {
        assert_eq!(whole(8, "2\n1\n2\n5\n1\n", b"abc").unwrap(), b"\0ab\0\0c\0\0");
        assert_eq!(whole(3, "1\n3\n0\n", b"").unwrap(), b"\0\0\0");
        assert_eq!(whole(0, "0\n", b"").unwrap(), b"");
    }

    #[test]
    fn lists_that_lie_are_refused() {
        for (list, content) in [
            ("1\n5\n9\n", &b"abcdefghi"[..]),
            ("2\n4\n2\n5\n1\n", b"abc"),
            ("1\n18446744073709551615\n2\n", b"ab"),
            ("99999999\n", b""),
            ("999999999999999999999\n", b""),
            ("-1\n", b""),
            ("1\n", b""),
            ("1\n0\n4\n", b"abc"),
        ] {
            assert!(whole(8, list, content).is_err(), "{list:?}");
        }
    }

    #[test]
    fn only_the_form_that_can_be_read_is_taken() {
        let records = |all: &[(&'static str, &'static str)]| {
            Told::of(all.iter().map(|(key, value)| (key.as_bytes(), value.as_bytes())))
        };
        assert_eq!(records(&[("path", "survey.raw"), ("mtime", "1")]).unwrap(), None);
        let whole = [
            ("GNU.sparse.major", "1"),
            ("GNU.sparse.minor", "0"),
            ("GNU.sparse.name", "survey.raw"),
            ("GNU.sparse.realsize", "8"),
        ];
        assert_eq!(records(&whole).unwrap(), Some(told(8)));
        records(&whole[..3]).unwrap_err();
        records(&[("GNU.sparse.map", "0,4"), ("GNU.sparse.size", "8")]).unwrap_err();
    }
}
