//! Taking the attachments out of a letter (RFC 5322, RFC 2045 to 2047, RFC 2183, RFC 2231).
//!
//! A letter is read once, line by line, however large it is; only headers are ever held.

use std::{
    collections::HashSet,
    io::{self, BufRead, Read, Write},
};

use base64::{Engine, engine::general_purpose::STANDARD};
use jiff::Timestamp;
use mail_parser::{Address, ContentType, MessageParser, MimeHeaders};
use wetbank_core::TEMPORARY_PREFIX;

use crate::ErrandError;

/// Bytes of one part's headers at most.
const LONGEST_HEADERS: usize = 256 << 10;
/// Bytes of a line that are looked at together; a longer one is none of text.
const LINE: u64 = 64 << 10;
/// Parts within parts at most.
const DEEPEST: usize = 20;
/// Attachments at most.
const MOST: usize = 2_000;

/// What the head of a letter tells.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LetterFacts {
    /// The address it comes from.
    pub from: String,
    /// The addresses it goes to, with commas between.
    pub to: String,
    /// Its subject.
    pub subject: String,
    /// When it was written, if it tells.
    pub date: Option<Timestamp>,
    /// Its identifier.
    pub id: String,
}

/// An attachment that was taken out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attachment {
    /// Its name, one part of a path; no two of a letter are the same.
    pub name: String,
    /// Its size in bytes.
    pub size: u64,
}

/// What came of a letter.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TakenOut {
    /// What its head tells.
    pub facts: LetterFacts,
    /// The attachments that were wanted, in their order.
    pub attachments: Vec<Attachment>,
    /// How many others it has.
    pub others: usize,
}

/// Reads a letter and writes each attachment that is wanted to what `make` answers for its number.
/// At most `most` bytes are written in all.
///
/// # Errors
///
/// `Wrong` if it is no letter or an attachment is written wrongly, `TooMuch` past the limits. What was
/// written by then is worth nothing.
pub fn take_out<W: Write>(
    input: impl BufRead,
    most: u64,
    wants: impl Fn(&str) -> bool,
    mut make: impl FnMut(usize) -> io::Result<W>,
) -> Result<TakenOut, ErrandError> {
    let mut reader = Lines { input, line: Vec::new() };
    let mut taken = TakenOut::default();
    let mut names = HashSet::new();
    let mut boundaries: Vec<(Vec<u8>, bool)> = Vec::new();
    let mut state: State<W> = State::Head(Vec::new());
    let mut left = most;
    let mut is_first = true;
    while reader.next()? {
        if let Some(met) = boundary(&reader.line, &boundaries) {
            finish(&mut state, &mut taken, &mut left)?;
            boundaries.truncate(met.level + 1);
            if met.is_last {
                boundaries.pop();
                state = State::Skip;
            } else {
                state = State::Head(Vec::new());
            }
            continue;
        }
        match &mut state {
            State::Skip => {}
            State::Body(body) => body.take(&reader.line, &mut left)?,
            State::Head(head) if !is_end_of_line(&reader.line) => {
                head.extend_from_slice(&reader.line);
                if head.len() > LONGEST_HEADERS {
                    return Err(ErrandError::TooMuch("the head of the letter or of a part has no end".to_owned()));
                }
            }
            State::Head(head) => {
                let head = std::mem::take(head);
                let is_within_text = boundaries.last().is_some_and(|(_, is_text)| *is_text);
                let part = Part::read(&head, is_first, is_within_text)?;
                if std::mem::take(&mut is_first) {
                    taken.facts = facts(&head);
                }
                state = match part {
                    Part::Several(boundary, is_text) if boundaries.len() < DEEPEST => {
                        boundaries.push((boundary, is_text));
                        State::Skip
                    }
                    Part::Several(..) => {
                        return Err(ErrandError::TooMuch("its parts lie too deep in each other".to_owned()));
                    }
                    Part::Text => State::Skip,
                    Part::Attached { name, .. } if !wants(&name) => {
                        taken.others += 1;
                        State::Skip
                    }
                    Part::Attached { name, written } => {
                        if taken.attachments.len() >= MOST {
                            return Err(ErrandError::TooMuch(format!("it has more than {MOST} attachments")));
                        }
                        let name = unique(&mut names, name);
                        let output = make(taken.attachments.len())?;
                        taken.attachments.push(Attachment { name: name.clone(), size: 0 });
                        State::Body(Body { output, written, carry: Vec::new(), size: 0, name, uu: Uu::Before })
                    }
                };
            }
        }
    }
    if is_first {
        return Err(ErrandError::Wrong("this is no letter".to_owned()));
    }
    // The last line of a letter that was cut off is missing; what it belonged to is not whole.
    if let (State::Body(body), false) = (&state, boundaries.is_empty()) {
        return Err(ErrandError::Wrong(format!("the letter ends in the middle of \"{}\"", body.name)));
    }
    finish(&mut state, &mut taken, &mut left)?;
    Ok(taken)
}

/// Where in a letter we are.
enum State<W> {
    Head(Vec<u8>),
    Body(Body<W>),
    Skip,
}

fn finish<W: Write>(state: &mut State<W>, taken: &mut TakenOut, left: &mut u64) -> Result<(), ErrandError> {
    if let State::Body(body) = std::mem::replace(state, State::Skip) {
        let size = body.finish(left)?;
        if let Some(last) = taken.attachments.last_mut() {
            last.size = size;
        }
    }
    Ok(())
}

/// Lines with their ends; a very long one in pieces.
struct Lines<R> {
    input: R,
    line: Vec<u8>,
}

impl<R: BufRead> Lines<R> {
    fn next(&mut self) -> io::Result<bool> {
        self.line.clear();
        (&mut self.input).take(LINE).read_until(b'\n', &mut self.line)?;
        Ok(!self.line.is_empty())
    }
}

fn is_end_of_line(line: &[u8]) -> bool {
    line == b"\n" || line == b"\r\n"
}

struct Met {
    level: usize,
    is_last: bool,
}

/// The boundary that a line is, of the innermost part first (RFC 2046, section 5.1.1).
fn boundary(line: &[u8], boundaries: &[(Vec<u8>, bool)]) -> Option<Met> {
    let rest = line.strip_prefix(b"--")?;
    let (level, after) = boundaries
        .iter()
        .enumerate()
        .rev()
        .find_map(|(level, (boundary, _))| Some((level, rest.strip_prefix(boundary.as_slice())?)))?;
    let trimmed = after.trim_ascii_end();
    match trimmed {
        b"" => Some(Met { level, is_last: false }),
        b"--" => Some(Met { level, is_last: true }),
        _ => None,
    }
}

/// How an attachment is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Written {
    Base64,
    Quoted,
    Plain,
    /// As Unix once wrote files into letters (POSIX, `uuencode`).
    Uu,
}

enum Part {
    /// It has parts itself, with this between them; whether they all are one text.
    Several(Vec<u8>, bool),
    /// It is what is read in the letter.
    Text,
    Attached {
        name: String,
        written: Written,
    },
}

impl Part {
    fn read(head: &[u8], is_first: bool, is_within_text: bool) -> Result<Self, ErrandError> {
        // A part may have no headers at all, then it is text.
        let mut whole = head.to_vec();
        whole.extend_from_slice(b"\r\n");
        let Some(parsed) = MessageParser::default().parse_headers(&whole) else {
            return if is_first { Err(ErrandError::Wrong("this is no letter".to_owned())) } else { Ok(Self::Text) };
        };
        let kind = parsed.content_type();
        let is = |main: &str| kind.is_some_and(|kind| kind.c_type.eq_ignore_ascii_case(main));
        if is("multipart") {
            let boundary = kind.and_then(|kind| kind.attribute("boundary")).unwrap_or_default();
            if boundary.is_empty() || boundary.len() > 200 {
                return Err(ErrandError::Wrong("its parts cannot be told apart".to_owned()));
            }
            let is_text = kind.and_then(|kind| kind.subtype()).is_some_and(|subtype| {
                subtype.eq_ignore_ascii_case("related") || subtype.eq_ignore_ascii_case("alternative")
            });
            return Ok(Self::Several(boundary.as_bytes().to_vec(), is_text));
        }
        let placed = parsed.content_disposition();
        let named = placed
            .and_then(|placed| named(placed, "filename", head))
            .or_else(|| kind.and_then(|kind| named(kind, "name", head)));
        let is_attached = placed.is_some_and(|placed| placed.is_attachment());
        // What has a name is a file, also when it is to be shown within the text: some programs send all their files
        // so. Only what the text itself is made of (RFC 2387) is none, as a picture in it.
        let is_of_text = is_within_text && parsed.content_id().is_some();
        if !is_attached && (named.is_none() || is_of_text) && !is("message") {
            return Ok(Self::Text);
        }
        let written = match parsed.content_transfer_encoding().map(str::to_ascii_lowercase).as_deref() {
            Some("base64") => Written::Base64,
            Some("quoted-printable") => Written::Quoted,
            Some("x-uuencode" | "x-uue" | "uuencode") => Written::Uu,
            None | Some("7bit" | "8bit" | "binary" | "") => Written::Plain,
            Some(other) => {
                let other: String = other.escape_debug().take(40).collect();
                let named = named.unwrap_or_default();
                return Err(ErrandError::Wrong(format!("\"{named}\" in it is written as {other}, which is not known")));
            }
        };
        let subtype = kind.and_then(|kind| kind.subtype()).unwrap_or("bin").to_ascii_lowercase();
        let ending = match subtype.as_str() {
            "rfc822" => "eml",
            "plain" => "txt",
            other if other.len() <= 5 && other.bytes().all(|b| b.is_ascii_alphanumeric()) => other,
            _ => "bin",
        };
        let name = named.map(|name| plain_name(&name)).filter(|name| !name.is_empty());
        Ok(Self::Attached { name: name.unwrap_or_else(|| format!("attachment.{ending}")), written })
    }
}

/// The name that a header tells. Written in full (`filename*=`, RFC 6266, section 4.3) it counts before the plain one,
/// which is for old programs.
fn named(told: &ContentType<'_>, attribute: &str, head: &[u8]) -> Option<String> {
    let names: Vec<&str> =
        told.attributes()?.iter().filter(|one| one.name == attribute).map(|one| one.value.as_ref()).collect();
    let head = head.to_ascii_lowercase();
    let at = |mark: &str| {
        let mark = format!("{attribute}{mark}");
        head.windows(mark.len()).position(|bytes| bytes == mark.as_bytes())
    };
    let full_is_last = matches!((at("*"), at("=")), (Some(full), Some(plain)) if full > plain);
    let name = if full_is_last { names.last() } else { names.first() };
    name.map(|name| (*name).to_owned())
}

/// Bytes of an attachment's name at most.
const LONGEST_NAME: usize = 200;

/// One part of a path that is no way out of anywhere, and none of our own unfinished files.
fn plain_name(name: &str) -> String {
    let last = name.rsplit(['/', '\\']).next().unwrap_or_default();
    let clean: String = last.chars().map(|c| if c.is_control() { '_' } else { c }).collect();
    let clean = clean.trim();
    let clean = if clean.starts_with(TEMPORARY_PREFIX) { &clean[1..] } else { clean };
    if clean == "." || clean == ".." { String::new() } else { shortened(clean) }
}

/// A name of a length that file systems take, with its ending.
fn shortened(name: &str) -> String {
    let (stem, ending) = match name.rfind('.') {
        Some(dot) if dot > 0 && name.len() - dot <= 20 => name.split_at(dot),
        _ => (name, ""),
    };
    let mut stem = stem.to_owned();
    while stem.len() + ending.len() > LONGEST_NAME {
        stem.pop();
    }
    stem + ending
}

/// A name that no other attachment has.
fn unique(names: &mut HashSet<String>, name: String) -> String {
    if names.insert(name.clone()) {
        return name;
    }
    let (stem, ending) = match name.rfind('.') {
        Some(dot) if dot > 0 => name.split_at(dot),
        _ => (name.as_str(), ""),
    };
    let free = (2..).map(|number| format!("{stem} ({number}){ending}")).find(|name| names.insert(name.clone()));
    free.unwrap_or(name)
}

fn facts(head: &[u8]) -> LetterFacts {
    let Some(parsed) = MessageParser::default().parse_headers(head) else { return LetterFacts::default() };
    let addresses = |list: Option<&Address<'_>>| {
        let all: Vec<String> = list
            .into_iter()
            .flat_map(|list| list.iter())
            .filter_map(|one| Some(one.address.as_ref()?.to_string()))
            .collect();
        all.join(", ")
    };
    let clean =
        |text: &str| text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect::<String>().trim().to_owned();
    LetterFacts {
        from: clean(
            &parsed
                .from()
                .and_then(|from| from.first())
                .and_then(|one| one.address.as_deref())
                .unwrap_or("")
                .to_lowercase(),
        ),
        to: clean(&addresses(parsed.to())),
        subject: clean(parsed.subject().unwrap_or_default()),
        date: parsed.date().and_then(|date| Timestamp::from_second(date.to_timestamp()).ok()),
        id: clean(parsed.message_id().unwrap_or_default()),
    }
}

/// An attachment that is being written.
struct Body<W> {
    output: W,
    written: Written,
    /// What cannot be told yet: digits that are no four, or the end of a line that may belong to a
    /// boundary.
    carry: Vec<u8>,
    size: u64,
    name: String,
    uu: Uu,
}

/// Where in what `uuencode` writes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Uu {
    Before,
    Within,
    After,
}

impl<W: Write> Body<W> {
    fn take(&mut self, line: &[u8], left: &mut u64) -> Result<(), ErrandError> {
        match self.written {
            Written::Base64 => {
                self.carry.extend(line.iter().filter(|byte| !byte.is_ascii_whitespace()));
                let whole = self.carry.len() / 4 * 4;
                let digits: Vec<u8> = self.carry.drain(..whole).collect();
                let bytes = self.decoded(&digits)?;
                self.put(&bytes, left)
            }
            Written::Plain => {
                let before = std::mem::take(&mut self.carry);
                self.put(&before, left)?;
                let end = if line.ends_with(b"\r\n") { 2 } else { usize::from(line.ends_with(b"\n")) };
                let (text, end) = line.split_at(line.len() - end);
                self.carry.extend_from_slice(end);
                self.put(text, left)
            }
            Written::Uu => {
                let text = line.strip_suffix(b"\n").unwrap_or(line);
                let bytes = self.un_uu(text.strip_suffix(b"\r").unwrap_or(text))?;
                self.put(&bytes, left)
            }
            Written::Quoted => {
                let before = std::mem::take(&mut self.carry);
                self.put(&before, left)?;
                let (text, goes_on) = self.unquoted(line.trim_ascii_end())?;
                if !goes_on && line.ends_with(b"\n") {
                    self.carry.extend_from_slice(if line.ends_with(b"\r\n") { b"\r\n" } else { b"\n" });
                }
                self.put(&text, left)
            }
        }
    }

    /// The bytes of a line of `uuencode`: its length, and four characters for three bytes.
    fn un_uu(&mut self, line: &[u8]) -> Result<Vec<u8>, ErrandError> {
        match self.uu {
            Uu::Before => {
                if line.starts_with(b"begin ") {
                    self.uu = Uu::Within;
                }
                return Ok(Vec::new());
            }
            Uu::Within if line == b"end" => {
                self.uu = Uu::After;
                return Ok(Vec::new());
            }
            Uu::Within => {}
            Uu::After => return Ok(Vec::new()),
        }
        let Some((length, digits)) = line.split_first() else { return Ok(Vec::new()) };
        let value =
            |digit: &u8| if (0x20..=0x60).contains(digit) { Ok((digit - 0x20) & 0x3f) } else { Err(self.wrong()) };
        let length = usize::from(value(length)?);
        let mut bytes = Vec::with_capacity(length + 2);
        for four in digits.chunks(4) {
            let mut values = [0; 4];
            for (at, digit) in four.iter().enumerate() {
                values[at] = value(digit)?;
            }
            let [a, b, c, d] = values;
            bytes.extend([a << 2 | b >> 4, b << 4 | c >> 2, c << 6 | d]);
        }
        if bytes.len() < length {
            return Err(self.wrong());
        }
        bytes.truncate(length);
        Ok(bytes)
    }

    /// The bytes of a line, and whether it goes on in the next (RFC 2045, section 6.7).
    fn unquoted(&self, line: &[u8]) -> Result<(Vec<u8>, bool), ErrandError> {
        let mut out = Vec::with_capacity(line.len());
        let mut at = 0;
        while at < line.len() {
            if line[at] != b'=' {
                out.push(line[at]);
                at += 1;
                continue;
            }
            if at + 1 == line.len() {
                return Ok((out, true));
            }
            let digits = line.get(at + 1..at + 3).and_then(|two| std::str::from_utf8(two).ok());
            let byte = digits.and_then(|two| u8::from_str_radix(two, 16).ok());
            out.push(byte.ok_or_else(|| self.wrong())?);
            at += 3;
        }
        Ok((out, false))
    }

    fn decoded(&self, digits: &[u8]) -> Result<Vec<u8>, ErrandError> {
        STANDARD.decode(digits).map_err(|_| self.wrong())
    }

    fn wrong(&self) -> ErrandError {
        ErrandError::Wrong(format!("the attachment \"{}\" is damaged", self.name))
    }

    fn put(&mut self, bytes: &[u8], left: &mut u64) -> Result<(), ErrandError> {
        let size = bytes.len() as u64;
        *left = left
            .checked_sub(size)
            .ok_or_else(|| ErrandError::TooMuch("its attachments are larger than the rule allows".to_owned()))?;
        self.size += size;
        Ok(self.output.write_all(bytes)?)
    }

    fn finish(mut self, left: &mut u64) -> Result<u64, ErrandError> {
        if self.written == Written::Base64 && !self.carry.is_empty() {
            let mut digits = std::mem::take(&mut self.carry);
            // Some programs leave the signs out that fill the last four.
            digits.resize(digits.len().div_ceil(4) * 4, b'=');
            let bytes = self.decoded(&digits)?;
            self.put(&bytes, left)?;
        }
        if self.written == Written::Uu && self.uu != Uu::After {
            return Err(self.wrong());
        }
        self.output.flush()?;
        Ok(self.size)
    }
}

#[cfg(test)]
mod tests;
