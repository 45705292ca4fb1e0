//! Messages: their common header, what we ask and what is answered ([MS-SMB2], section 2.2).

use bytes::Bytes;

use crate::{
    Malformed, Status,
    protect::{AES_128, AES_256, SEALED_HEADER, SIGN_CMAC, SIGN_GMAC},
    wire::{Fields, Writer, slice, utf16},
};

/// The length of the header (section 2.2.1).
pub(crate) const HEADER: usize = 64;
/// Room in front of a request for what wraps it: its length, and the header of encryption.
pub(crate) const ROOM: usize = 4 + SEALED_HEADER;
/// What one credit pays for.
pub(crate) const PER_CREDIT: usize = 64 << 10;
const MARK: &[u8; 4] = b"\xfeSMB";
/// Credits that every request asks for; the server grants what it likes.
const WANTED_CREDITS: u16 = 128;
/// Signing is demanded from the server (section 2.2.3).
const MUST_SIGN: u8 = 2;

/// What is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u16)]
pub(crate) enum Command {
    Negotiate = 0,
    SessionSetup = 1,
    TreeConnect = 3,
    Create = 5,
    Close = 6,
    Flush = 7,
    Read = 8,
    Write = 9,
    Ioctl = 11,
    QueryDirectory = 14,
    QueryInfo = 16,
    SetInfo = 17,
}

/// The generations of the protocol that differ for us. 3.0.2 is like 3.0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Dialect {
    Smb21,
    Smb30,
    Smb311,
}

/// A request without its header: the command, its body, and the credits that it costs.
#[derive(Debug)]
pub(crate) struct Request {
    pub command: Command,
    /// [`ROOM`] and room for the header stand in front.
    pub message: Vec<u8>,
    pub cost: u16,
}

impl Request {
    fn new(command: Command, body: impl FnOnce(Writer) -> Writer) -> Self {
        Self { command, message: body(Writer::default().zeros(ROOM + HEADER)).0, cost: 1 }
    }

    fn costing(mut self, bytes: usize) -> Self {
        self.cost = bytes.div_ceil(PER_CREDIT).max(1) as u16;
        self
    }

    /// Fills in the header.
    pub fn finish(mut self, id: u64, tree: u32, session: u64, is_signed: bool, has_credits: bool) -> Vec<u8> {
        let header = Writer::default()
            .raw(MARK)
            .u16(64)
            .u16(if has_credits { self.cost } else { 0 })
            .u32(0)
            .u16(self.command as u16)
            .u16(WANTED_CREDITS)
            .u32(if is_signed { 8 } else { 0 })
            .u32(0)
            .u64(id)
            .u32(0xfeff)
            .u32(tree)
            .u64(session)
            .zeros(16);
        self.message[ROOM..ROOM + HEADER].copy_from_slice(&header.0);
        self.message
    }
}

/// An answer, whose offsets count from its header.
#[derive(Debug, Clone)]
pub(crate) struct Answer {
    pub message: Bytes,
    pub status: Status,
    pub command: u16,
    pub credits: u16,
    pub id: u64,
    pub tree: u32,
    pub session: u64,
}

impl Answer {
    /// Reads the header.
    pub fn read(message: Bytes) -> Result<Self, Malformed> {
        if message.bytes_at(0, 4)? != MARK || message.u16_at(4)? != 64 {
            return Err(Malformed("no message of SMB 2 or 3"));
        }
        let flags = message.u32_at(16)?;
        if flags & 1 == 0 {
            return Err(Malformed("a request where an answer was due"));
        }
        if message.u32_at(20)? != 0 {
            return Err(Malformed("answers in a chain that was not asked for"));
        }
        Ok(Self {
            status: Status(message.u32_at(8)?),
            command: message.u16_at(12)?,
            credits: message.u16_at(14)?,
            id: message.u64_at(24)?,
            tree: message.u32_at(36)?,
            session: message.u64_at(40)?,
            message,
        })
    }

    /// A part whose offset and length stand in the body.
    fn part(&self, offset_at: usize, length_at: usize) -> Result<Bytes, Malformed> {
        let (at, length) = (self.message.u16_at(offset_at)?, self.message.u16_at(length_at)?);
        slice(&self.message, at.into(), length.into())
    }
}

/// The opening (section 2.2.3).
pub(crate) fn negotiate(client: &[u8; 16], salt: &[u8; 32]) -> Request {
    let contexts: [(u16, Vec<u8>); 3] = [
        // SHA-512 over what is said before the keys stand.
        (1, Writer::default().u16(1).u16(32).u16(1).raw(salt).0),
        (2, Writer::default().u16(2).u16(AES_128).u16(AES_256).0),
        (8, Writer::default().u16(2).u16(SIGN_GMAC).u16(SIGN_CMAC).0),
    ];
    let dialects = [0x0210, 0x0300, 0x0302, 0x0311];
    let at = (HEADER + 36 + 2 * dialects.len()).next_multiple_of(8) as u32;
    Request::new(Command::Negotiate, |body| {
        let body = body
            .u16(36)
            .u16(dialects.len() as u16)
            .u16(MUST_SIGN.into())
            .u16(0)
            .u32(0x44)
            .raw(client)
            .u32(at)
            .u16(contexts.len() as u16)
            .u16(0);
        let body = dialects.into_iter().fold(body, Writer::u16);
        contexts
            .iter()
            .fold(body, |body, (kind, data)| body.padded().u16(*kind).u16(data.len() as u16).u32(0).raw(data))
    })
}

/// What the server chose (section 2.2.4).
#[derive(Debug, Clone, Copy)]
pub(crate) struct Negotiated {
    pub dialect: Dialect,
    pub signing: u16,
    pub cipher: Option<u16>,
    /// Requests may cost more than one credit.
    pub has_credits: bool,
    pub longest_read: u32,
    pub longest_write: u32,
    /// Tenths of microseconds since 1601.
    pub time: u64,
}

impl Negotiated {
    pub fn read(answer: &Answer) -> Result<Self, Malformed> {
        let message = &answer.message;
        let dialect = match message.u16_at(HEADER + 4)? {
            0x0210 => Dialect::Smb21,
            0x0300 | 0x0302 => Dialect::Smb30,
            0x0311 => Dialect::Smb311,
            _ => return Err(Malformed("it chose a version that was not offered")),
        };
        let (mut signing, mut cipher, mut hash) = (SIGN_CMAC, None, None);
        if dialect == Dialect::Smb311 {
            let mut at = message.u32_at(HEADER + 60)? as usize;
            for _ in 0..message.u16_at(HEADER + 6)?.min(64) {
                let (kind, length) = (message.u16_at(at)?, message.u16_at(at + 2)?);
                let data = message.bytes_at(at + 8, length.into())?;
                match kind {
                    1 => hash = Some(data.u16_at(4)?),
                    2 => cipher = Some(data.u16_at(2)?).filter(|cipher| [AES_128, AES_256].contains(cipher)),
                    8 => signing = data.u16_at(2)?,
                    _ => {}
                }
                at = (at + 8 + usize::from(length)).next_multiple_of(8);
            }
            if hash != Some(1) || ![SIGN_CMAC, SIGN_GMAC].contains(&signing) {
                return Err(Malformed("it chose a protection that was not offered"));
            }
        }
        Ok(Self {
            dialect,
            signing,
            cipher,
            has_credits: message.u32_at(HEADER + 24)? & 4 != 0,
            longest_read: message.u32_at(HEADER + 32)?,
            longest_write: message.u32_at(HEADER + 36)?,
            time: message.u64_at(HEADER + 40)?,
        })
    }
}

/// A step of signing in (section 2.2.5).
pub(crate) fn session_setup(token: &[u8]) -> Request {
    Request::new(Command::SessionSetup, |body| {
        let body = body.u16(25).u8(0).u8(MUST_SIGN).u32(0).u32(0).u16(88).u16(token.len() as u16).u64(0);
        body.raw(token)
    })
}

/// The server's step (section 2.2.6): its token, and whether it lets us in as nobody in
/// particular, and whether it demands encryption.
pub(crate) struct SetUp {
    pub token: Bytes,
    pub is_guest: bool,
    pub must_encrypt: bool,
}

impl SetUp {
    pub fn read(answer: &Answer) -> Result<Self, Malformed> {
        let flags = answer.message.u16_at(HEADER + 2)?;
        let token = answer.part(HEADER + 4, HEADER + 6)?;
        Ok(Self { token, is_guest: flags & 3 != 0, must_encrypt: flags & 4 != 0 })
    }
}

/// Opens a share (section 2.2.9).
pub(crate) fn tree_connect(share: &str) -> Request {
    let path = utf16(share);
    Request::new(Command::TreeConnect, |body| body.u16(9).u16(0).u16(72).u16(path.len() as u16).raw(&path))
}

/// Whether the share demands encryption, and whether it holds files (section 2.2.10).
pub(crate) fn tree_connected(answer: &Answer) -> Result<(bool, bool), Malformed> {
    Ok((answer.message.u32_at(HEADER + 4)? & 0x8000 != 0, answer.message.u8_at(HEADER + 2)? == 1))
}

/// The number of an open file.
pub(crate) type FileId = [u8; 16];

/// How a file is opened (section 2.2.13).
#[derive(Debug, Clone, Copy)]
pub(crate) struct Opening {
    pub access: u32,
    pub disposition: u32,
    pub options: u32,
}

/// Opens or makes a file or folder. Everybody else may still read, write and delete it.
pub(crate) fn create(path: &str, opening: Opening) -> Request {
    let path = utf16(path);
    Request::new(Command::Create, |body| {
        let contexts_at = (120 + path.len()).next_multiple_of(8).max(128) as u32;
        let body = body
            .u16(57)
            .u16(0)
            .u32(2)
            .zeros(16)
            .u32(opening.access)
            .u32(0)
            .u32(7)
            .u32(opening.disposition)
            .u32(opening.options)
            .u16(120)
            .u16(path.len() as u16)
            .u32(contexts_at)
            .u32(24)
            .raw(&path);
        let missing = ROOM + contexts_at as usize - body.0.len();
        // The file's number on the disk (section 2.2.13.2.9).
        body.zeros(missing).u32(0).u16(16).u16(4).u16(0).u16(0).u32(0).raw(b"QFid").zeros(4)
    })
}

/// What was opened (section 2.2.14).
#[derive(Debug, Clone, Copy)]
pub(crate) struct Created {
    pub id: FileId,
    pub written: u64,
    pub size: u64,
    pub attributes: u32,
    pub number: Option<u64>,
}

impl Created {
    pub fn read(answer: &Answer) -> Result<Self, Malformed> {
        let message = &answer.message;
        let (mut at, end) = (message.u32_at(HEADER + 80)? as usize, message.u32_at(HEADER + 84)? as usize);
        let end = at.saturating_add(end);
        let mut number = None;
        while at != 0 && at < end {
            let (next, name, length) = (message.u32_at(at)?, message.u16_at(at + 4)?, message.u16_at(at + 6)?);
            let (data, data_length) = (message.u16_at(at + 10)?, message.u32_at(at + 12)?);
            if message.bytes_at(at + usize::from(name), length.into())? == b"QFid" && data_length >= 8 {
                number = Some(message.u64_at(at + usize::from(data))?).filter(|number| *number != 0);
            }
            if next == 0 {
                break;
            }
            at += next as usize;
        }
        Ok(Self {
            id: message.array_at(HEADER + 64)?,
            written: message.u64_at(HEADER + 24)?,
            size: message.u64_at(HEADER + 48)?,
            attributes: message.u32_at(HEADER + 56)?,
            number,
        })
    }
}

/// Closes a file (section 2.2.15).
pub(crate) fn close(id: &FileId) -> Request {
    Request::new(Command::Close, |body| body.u16(24).u16(0).u32(0).raw(id))
}

/// Waits until a file is on disk (section 2.2.17).
pub(crate) fn flush(id: &FileId) -> Request {
    Request::new(Command::Flush, |body| body.u16(24).u16(0).u32(0).raw(id))
}

/// Reads (section 2.2.19).
pub(crate) fn read(id: &FileId, offset: u64, length: u32) -> Request {
    let body = |body: Writer| {
        let body = body.u16(49).u8(80).u8(0).u32(length).u64(offset).raw(id).u32(0).u32(0).u32(0).u32(0);
        body.u8(0)
    };
    Request::new(Command::Read, body).costing(length as usize)
}

/// What was read (section 2.2.20).
pub(crate) fn data(answer: &Answer) -> Result<Bytes, Malformed> {
    let (at, length) = (answer.message.u8_at(HEADER + 2)?, answer.message.u32_at(HEADER + 4)?);
    slice(&answer.message, at.into(), length as usize)
}

/// Writes (section 2.2.21).
pub(crate) fn write(id: &FileId, offset: u64, data: &[u8]) -> Request {
    let body = |body: Writer| {
        let body = body.u16(49).u16(112).u32(data.len() as u32).u64(offset).raw(id).u32(0).u32(0).u32(0).u32(0);
        body.raw(data)
    };
    Request::new(Command::Write, body).costing(data.len())
}

/// How much was written (section 2.2.22).
pub(crate) fn written(answer: &Answer) -> Result<u32, Malformed> {
    answer.message.u32_at(HEADER + 4)
}

/// Asks for the next entries of a folder, with their numbers on the disk (section 2.2.33).
pub(crate) fn query_directory(id: &FileId, length: u32) -> Request {
    let body = |body: Writer| body.u16(33).u8(38).u8(0).u32(0).raw(id).u16(96).u16(2).u32(length).raw(&utf16("*"));
    Request::new(Command::QueryDirectory, body).costing(length as usize)
}

/// The entries ([MS-FSCC], section 2.4.22): name, its time, size, attributes and number each.
pub(crate) fn entries(answer: &Answer) -> Result<Vec<(Bytes, Created)>, Malformed> {
    let buffer = info(answer)?;
    let (mut at, mut entries) = (0_usize, Vec::new());
    loop {
        let name = slice(&buffer, at + 80, buffer.u32_at(at + 60)? as usize)?;
        let found = Created {
            id: [0; 16],
            written: buffer.u64_at(at + 24)?,
            size: buffer.u64_at(at + 40)?,
            attributes: buffer.u32_at(at + 56)?,
            number: Some(buffer.u64_at(at + 72)?).filter(|number| *number != 0),
        };
        entries.push((name, found));
        match buffer.u32_at(at)? as usize {
            0 => return Ok(entries),
            // Each entry is longer than this: a list always ends.
            next if next < 80 => return Err(Malformed("entries that overlap")),
            next => at += next,
        }
    }
}

/// Asks for the part of a file's security descriptor that tells its owner (section 2.2.37).
pub(crate) fn query_owner(id: &FileId) -> Request {
    let body = |body: Writer| body.u16(41).u8(3).u8(0).u32(4096).u16(0).u16(0).u32(0).u32(1).u32(0).raw(id).u8(0);
    Request::new(Command::QueryInfo, body)
}

/// Asks for all that is known of an open file (section 2.2.37; [MS-FSCC], section 2.4.2).
pub(crate) fn query_all(id: &FileId) -> Request {
    let body = |body: Writer| body.u16(41).u8(1).u8(18).u32(4096).u16(0).u16(0).u32(0).u32(0).u32(0).raw(id).u8(0);
    Request::new(Command::QueryInfo, body)
}

/// The path by which the server itself knows an open file, in UTF-16.
pub(crate) fn own_path(answer: &Answer) -> Result<Bytes, Malformed> {
    let buffer = info(answer)?;
    slice(&buffer, 100, buffer.u32_at(96)? as usize)
}

/// The information (sections 2.2.34 and 2.2.38).
pub(crate) fn info(answer: &Answer) -> Result<Bytes, Malformed> {
    let (at, length) = (answer.message.u16_at(HEADER + 2)?, answer.message.u32_at(HEADER + 4)?);
    slice(&answer.message, at.into(), length as usize)
}

/// Writes to a pipe and reads what comes back (section 2.2.31; [MS-FSCC], section 2.3.51).
pub(crate) fn transceive(id: &FileId, data: &[u8]) -> Request {
    Request::new(Command::Ioctl, |body| {
        let body = body.u16(57).u16(0).u32(0x0011_C017).raw(id).u32(120).u32(data.len() as u32).u32(0);
        body.u32(0).u32(0).u32(PER_CREDIT as u32).u32(1).u32(0).raw(data)
    })
}

/// What came back (section 2.2.32).
pub(crate) fn transceived(answer: &Answer) -> Result<Bytes, Malformed> {
    let (at, length) = (answer.message.u32_at(HEADER + 32)?, answer.message.u32_at(HEADER + 36)?);
    slice(&answer.message, at as usize, length as usize)
}

fn set_info(id: &FileId, class: u8, info: &[u8]) -> Request {
    let length = info.len() as u32;
    Request::new(Command::SetInfo, |body| {
        body.u16(33).u8(1).u8(class).u32(length).u16(96).u16(0).u32(0).raw(id).raw(info)
    })
}

/// Gives a file another path on its share ([MS-FSCC], section 2.4.42.2).
pub(crate) fn rename(id: &FileId, to: &str, replace: bool) -> Request {
    let path = utf16(to);
    let info = Writer::default().u8(replace.into()).zeros(7).u64(0).u32(path.len() as u32).raw(&path).padded();
    set_info(id, 10, &info.0)
}

/// Says when a file was last written, in tenths of microseconds since 1601; its other times stay ([MS-FSCC], section
/// 2.4.7).
pub(crate) fn set_written(id: &FileId, at: u64) -> Request {
    let info = Writer::default().u64(0).u64(0).u64(at).u64(0).u32(0).u32(0);
    set_info(id, 4, &info.0)
}

/// Marks a file to vanish when it is closed ([MS-FSCC], section 2.4.11).
pub(crate) fn vanish(id: &FileId) -> Request {
    set_info(id, 13, &[1])
}

/// Cuts a file to a length ([MS-FSCC], section 2.4.14).
pub(crate) fn set_length(id: &FileId, length: u64) -> Request {
    set_info(id, 20, &length.to_le_bytes())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A message that begins like an honest answer, whatever comes then.
    fn answer(rest: &[u8]) -> Bytes {
        let mut message = Writer::default().raw(MARK).u16(64).zeros(10).u32(1).zeros(44).0;
        message.extend_from_slice(rest);
        Bytes::from(message)
    }

    proptest! {
        #[test]
        fn nothing_that_a_server_says_breaks_us(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            let _ = Answer::read(Bytes::from(bytes.clone()));
            let answer = Answer::read(answer(&bytes)).expect("its header is fine");
            let _ = Negotiated::read(&answer);
            let _ = SetUp::read(&answer);
            let _ = tree_connected(&answer);
            let _ = Created::read(&answer);
            let _ = data(&answer);
            let _ = written(&answer);
            let _ = entries(&answer);
            let _ = info(&answer);
            let _ = transceived(&answer);
        }

        #[test]
        fn a_list_of_entries_always_ends(next in any::<u32>(), length in any::<u32>(), count in 1..8_u32) {
            let entry = |next: u32| Writer::default().u32(next).zeros(56).u32(length).zeros(16).raw(b"a\0").zeros(6).0;
            let list: Vec<u8> = (0..count).flat_map(|_| entry(next)).collect();
            let body = Writer::default().u16(9).u16(72).u32(list.len() as u32).raw(&list).0;
            if let Ok(entries) = entries(&Answer::read(answer(&body)).expect("its header is fine")) {
                prop_assert!(entries.len() <= count as usize);
            }
        }
    }

    #[test]
    fn a_request_in_place_of_an_answer_and_a_chain_are_refused() {
        for (at, byte) in [(16, 0), (20, 1), (0, 0xfd), (4, 65)] {
            let mut message = answer(&[0; 16]).to_vec();
            message[at] = byte;
            assert!(Answer::read(Bytes::from(message)).is_err(), "byte {at}");
        }
    }

    #[test]
    fn a_version_or_protection_that_was_not_offered_is_refused() {
        let chosen = |dialect: u16, contexts: &[u8], count: u16| {
            let body = Writer::default().u16(65).u16(1).u16(dialect).u16(count).zeros(52).u32(128).raw(contexts).0;
            Negotiated::read(&Answer::read(answer(&body)).expect("its header is fine"))
        };
        let hash = Writer::default().u16(1).u16(6).u32(0).u16(1).u16(0).u16(1).zeros(2).0;
        assert!(chosen(0x0311, &hash, 1).is_ok_and(|chosen| chosen.cipher.is_none()));
        assert!(chosen(0x0202, &[], 0).is_err(), "a version without signatures worth the name");
        assert!(chosen(0x0311, &[], 0).is_err(), "nothing protects what was said before the keys");
        let cipher = Writer::default().u16(2).u16(4).u32(0).u16(1).u16(1).zeros(4).0;
        let both = [hash, cipher].concat();
        assert!(chosen(0x0311, &both, 2).is_ok_and(|chosen| chosen.cipher.is_none()), "an older cipher is none");
    }
}
