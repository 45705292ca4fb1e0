//! Who owns a file: the account's number, and its name as the server's directory tells it
//! ([MS-LSAT], over the remote procedure calls of [MS-RPCE]).

use std::fmt;

use crate::{
    Malformed,
    wire::{Fields, Writer, text},
};

/// Accounts asked for with one call: their names fit into one fragment.
pub(crate) const AT_ONCE: usize = 16;
/// The longest fragment that we take and send; every server takes as much.
const FRAGMENT: u16 = 4280;
/// The header of a call or an answer (C706, section 12.6.4.9).
const CALL_HEADER: usize = 24;
/// Access to look names up, and nothing else ([MS-LSAD], section 2.2.1.1.2).
const LOOK_NAMES_UP: u32 = 0x0000_0800;
/// The kinds of accounts that are gone, broken or unknown ([MS-LSAT], section 2.2.13).
const NO_ACCOUNTS: [u16; 3] = [6, 7, 8];
/// No account has a number with more parts ([MS-DTYP], section 2.4.2).
const MOST_PARTS: u8 = 15;

/// The number of an account, the same on all machines of a domain ([MS-DTYP], section 2.4.2).
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct AccountId {
    authority: [u8; 6],
    parts: Vec<u32>,
}

impl fmt::Debug for AccountId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let authority = self.authority.iter().fold(0_u64, |number, byte| number << 8 | u64::from(*byte));
        write!(f, "S-1-{authority}")?;
        self.parts.iter().try_for_each(|part| write!(f, "-{part}"))
    }
}

impl AccountId {
    fn read(bytes: &[u8]) -> Result<Self, Malformed> {
        let count = bytes.u8_at(1)?;
        if bytes.u8_at(0)? != 1 || count > MOST_PARTS {
            return Err(Malformed("no account's number"));
        }
        let parts = (0..usize::from(count)).map(|part| bytes.u32_at(8 + 4 * part)).collect::<Result<_, _>>()?;
        Ok(Self { authority: bytes.array_at(2)?, parts })
    }

    fn write(&self, to: Writer) -> Writer {
        let to = to.u32(self.parts.len() as u32).u8(1).u8(self.parts.len() as u8).raw(&self.authority);
        self.parts.iter().fold(to, |to, part| to.u32(*part))
    }
}

/// The owner that stands in a file's security descriptor, if one does ([MS-DTYP], section 2.4.6).
pub(crate) fn owner(descriptor: &[u8]) -> Result<Option<AccountId>, Malformed> {
    match descriptor.u32_at(4)? as usize {
        0 => Ok(None),
        at => AccountId::read(descriptor.get(at..).unwrap_or_default()).map(Some),
    }
}

/// A fragment that is first and last (C706, section 12.6.3).
fn fragment(kind: u8, body: &[u8]) -> Vec<u8> {
    let length = (16 + body.len()) as u16;
    Writer::default().u8(5).u8(0).u8(kind).u8(3).u32(0x10).u16(length).u16(0).u32(1).raw(body).0
}

/// Opens the directory's procedures on a pipe: \[MS-LSAT\], in the plain encoding.
pub(crate) fn bind() -> Vec<u8> {
    const DIRECTORY: [u8; 16] = *b"\x78\x57\x34\x12\x34\x12\xcd\xab\xef\x00\x01\x23\x45\x67\x89\xab";
    const PLAIN: [u8; 16] = *b"\x04\x5d\x88\x8a\xeb\x1c\xc9\x11\x9f\xe8\x08\x00\x2b\x10\x48\x60";
    let body = Writer::default().u16(FRAGMENT).u16(FRAGMENT).u32(0).u32(1).u16(0).u16(1);
    fragment(11, &body.raw(&DIRECTORY).u32(0).raw(&PLAIN).u32(2).0)
}

/// Whether the procedures are open.
pub(crate) fn is_bound(answer: &[u8]) -> Result<bool, Malformed> {
    // Behind the name of the pipe, which is padded.
    let results = (26 + usize::from(answer.u16_at(24)?)).next_multiple_of(4);
    Ok(answer.u8_at(2)? == 12 && answer.u16_at(results + 4)? == 0)
}

fn call(number: u16, parameters: Writer) -> Vec<u8> {
    let head = Writer::default().u32(parameters.0.len() as u32).u16(0).u16(number);
    fragment(0, &head.raw(&parameters.0).0)
}

/// What a call brought.
fn returned(answer: &[u8]) -> Result<&[u8], Malformed> {
    if answer.u8_at(2)? != 2 || answer.u8_at(3)? & 3 != 3 {
        return Err(Malformed("a call that failed, or whose answer comes in parts"));
    }
    answer.get(CALL_HEADER..answer.u16_at(8)?.into()).ok_or(Malformed("a message is too short"))
}

/// An open directory.
pub(crate) type Directory = [u8; 20];

/// Opens the directory ([MS-LSAD], section 3.1.4.4.1).
pub(crate) fn open() -> Vec<u8> {
    call(44, Writer::default().u32(0).u32(24).zeros(20).u32(LOOK_NAMES_UP))
}

/// The open directory.
pub(crate) fn opened(answer: &[u8]) -> Result<Directory, Malformed> {
    let returned = returned(answer)?;
    match returned.u32_at(20)? {
        0 => returned.array_at(0),
        _ => Err(Malformed("the directory is not open to us")),
    }
}

/// Asks for the names of accounts ([MS-LSAT], section 3.1.4.11).
pub(crate) fn look_up(directory: &Directory, accounts: &[AccountId]) -> Vec<u8> {
    let count = accounts.len() as u32;
    // Each thing that stands further on has a number, whatever it is but zero.
    let parameters = Writer::default().raw(directory).u32(count).u32(1).u32(count);
    let parameters = (0..count).fold(parameters, |to, number| to.u32(2 + number));
    let parameters = accounts.iter().fold(parameters, |to, account| account.write(to));
    call(15, parameters.u32(0).u32(0).u16(1).u16(0).u32(0))
}

/// The names, one for each account that was asked for and has one.
pub(crate) fn names(answer: &[u8], count: usize) -> Result<Vec<Option<String>>, Malformed> {
    let mut values = Values { bytes: returned(answer)?, at: 0 };
    values.skip_domains()?;
    let told = values.u32()? as usize;
    if told != count || values.u32()? == 0 || values.u32()? as usize != count {
        return Err(Malformed("not as many names as were asked for"));
    }
    let mut heads = Vec::with_capacity(count);
    for _ in 0..count {
        let (kind, _length, has_name) = (values.u32()? as u16, values.u32()?, values.u32()? != 0);
        values.u32()?;
        heads.push((kind, has_name));
    }
    let mut names = Vec::with_capacity(count);
    for (kind, has_name) in heads {
        let name = if has_name { values.text()? } else { None };
        names.push(name.filter(|name| !NO_ACCOUNTS.contains(&kind) && !name.is_empty()));
    }
    Ok(names)
}

/// Values one behind the other, as the plain encoding has them (C706, chapter 14).
struct Values<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl Values<'_> {
    fn u32(&mut self) -> Result<u32, Malformed> {
        self.at = self.at.next_multiple_of(4);
        let value = self.bytes.u32_at(self.at)?;
        self.at += 4;
        Ok(value)
    }

    fn skip(&mut self, length: usize) -> Result<&[u8], Malformed> {
        let skipped = self.bytes.bytes_at(self.at, length)?;
        self.at += length;
        Ok(skipped)
    }

    fn text(&mut self) -> Result<Option<String>, Malformed> {
        let (_most, _offset, count) = (self.u32()?, self.u32()?, self.u32()? as usize);
        Ok(text(self.skip(count.saturating_mul(2))?))
    }

    /// The domains that the names belong to: the name of each, and its number.
    fn skip_domains(&mut self) -> Result<(), Malformed> {
        if self.u32()? == 0 {
            return Ok(());
        }
        let (count, are_there, _most) = (self.u32()? as usize, self.u32()? != 0, self.u32()?);
        if !are_there {
            return Ok(());
        }
        self.u32()?;
        if count > AT_ONCE {
            return Err(Malformed("more domains than names"));
        }
        let mut heads = Vec::with_capacity(count);
        for _ in 0..count {
            self.u32()?;
            heads.push((self.u32()? != 0, self.u32()? != 0));
        }
        for (has_name, has_number) in heads {
            if has_name {
                self.text()?;
            }
            if has_number {
                let parts = self.u32()? as usize;
                self.skip(parts.saturating_mul(4).saturating_add(8))?;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::wire::utf16;

    fn account(parts: &[u32]) -> AccountId {
        AccountId { authority: [0, 0, 0, 0, 0, 5], parts: parts.to_vec() }
    }

    fn answered(body: Writer) -> Vec<u8> {
        fragment(2, &Writer::default().zeros(8).raw(&body.0).0)
    }

    fn name(to: Writer, name: &str) -> Writer {
        let count = name.encode_utf16().count() as u32;
        let to = to.u32(count).u32(0).u32(count).raw(&utf16(name));
        let missing = to.0.len().next_multiple_of(4) - to.0.len();
        to.zeros(missing)
    }

    #[test]
    fn an_owner_is_read_from_a_descriptor() {
        let number = Writer::default().u8(1).u8(5).raw(&[0, 0, 0, 0, 0, 5]).u32(21).u32(1).u32(2).u32(3).u32(1103).0;
        let descriptor = Writer::default().u8(1).u8(0).u16(0x8000).u32(20).zeros(12).raw(&number).0;
        let owner = owner(&descriptor).unwrap().unwrap();
        assert_eq!(format!("{owner:?}"), "S-1-5-21-1-2-3-1103");
        assert_eq!(owner, account(&[21, 1, 2, 3, 1103]));
        assert_eq!(super::owner(&[0; 20]).unwrap(), None, "nobody owns it");
        assert!(super::owner(&descriptor[..descriptor.len() - 1]).is_err());
        assert!(AccountId::read(&[1, 16, 0, 0, 0, 0, 0, 5]).is_err(), "too many parts");
    }

    #[test]
    fn names_stand_behind_the_domains_they_belong_to() {
        let body = Writer::default().u32(1).u32(1).u32(2).u32(32).u32(1).u16(12).u16(14).u32(3).u32(4);
        let body = account(&[21, 1, 2, 3]).write(name(body, "MERROW"));
        let body = body.u32(3).u32(5).u32(3);
        let body = body.u16(1).u16(0).u16(12).u16(12).u32(6).u32(0);
        let body = body.u16(8).u16(0).u16(20).u16(20).u32(7).u32(0xffff_ffff);
        let body = body.u16(1).u16(0).u16(0).u16(0).u32(0).u32(0);
        let body = name(name(body, "harlan"), "S-1-5-21-9");
        let answer = answered(body.u32(1).u32(0x107));
        let told = names(&answer, 3).unwrap();
        assert_eq!(told, [Some("harlan".to_owned()), None, None], "an unknown account's number is no name");
        assert!(names(&answer, 2).is_err());
        assert!(names(&answer[..60], 3).is_err());
    }

    #[test]
    fn an_answer_in_parts_a_fault_and_a_refusal_are_none() {
        let whole = answered(Writer::default().zeros(24));
        assert!(opened(&whole).is_ok());
        let refused = answered(Writer::default().zeros(20).u32(0xC000_0022));
        assert!(opened(&refused).is_err());
        for (at, byte) in [(2, 3), (3, 1)] {
            let mut other = whole.clone();
            other[at] = byte;
            assert!(opened(&other).is_err(), "byte {at}");
        }
    }

    proptest! {
        #[test]
        fn nothing_that_a_directory_says_breaks_us(bytes in proptest::collection::vec(any::<u8>(), 0..300), count in 0..20_usize) {
            let answer = answered(Writer::default().raw(&bytes));
            let _ = names(&answer, count);
            let _ = opened(&answer);
            let _ = is_bound(&bytes);
            let _ = owner(&bytes);
            let _ = names(&bytes, count);
        }
    }
}
