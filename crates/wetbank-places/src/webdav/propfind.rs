//! Reading a PROPFIND answer (RFC 4918, section 14.16) as it comes, entry by entry.

use jiff::fmt::rfc2822;
use percent_encoding::percent_decode_str;
use quick_xml::{NsReader, events::Event, name::ResolveResult};
use tokio::io::AsyncBufRead;
use wetbank_core::{Fingerprint, RelPath};

use crate::{Entry, EntryKind, fingerprint_of, place::owner_shown};

/// The facts that we ask of every entry, in a listing and among changes.
macro_rules! facts {
    () => {
        "<prop><resourcetype/><getcontentlength/><getlastmodified/><owner/></prop>"
    };
}

/// What we ask of every entry.
pub(super) const ASKED: &str =
    concat!("<?xml version=\"1.0\" encoding=\"utf-8\"?><propfind xmlns=\"DAV:\">", facts!(), "</propfind>");

/// What we ask of a folder's changes (RFC 6578, section 3.2) since a token, or from the beginning.
pub(super) fn changes_asked(since: Option<&str>, deep: bool) -> String {
    let since = since.map(quick_xml::escape::escape).unwrap_or_default();
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><sync-collection xmlns=\"DAV:\"><sync-token>{since}</sync-token>\
         <sync-level>{}</sync-level>{}</sync-collection>",
        if deep { "infinite" } else { "1" },
        facts!()
    )
}

/// Bytes of one text at most: no honest path or date is longer.
const LONGEST_TEXT: usize = 64 << 10;

/// An entry as the server tells it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Told {
    /// Its address, still percent-encoded.
    pub href: String,
    /// What it is.
    pub kind: EntryKind,
    /// Its state.
    pub fingerprint: Fingerprint,
    /// Who owns it (RFC 3744, section 5.1).
    pub owner: Option<String>,
    /// What the server says of the whole of it, as 404 when it is gone.
    pub status: Option<u16>,
}

impl Told {
    /// The entry at a path.
    pub fn at(self, path: RelPath) -> Entry {
        Entry { path, kind: self.kind, fingerprint: self.fingerprint, owner: self.owner }
    }
}

/// What a server said that is no answer.
#[derive(Debug, thiserror::Error)]
pub(super) enum Unreadable {
    #[error("its listing is no XML that can be read: {0}")]
    Xml(#[from] quick_xml::Error),
    #[error("its listing breaks off")]
    BreaksOff,
    #[error("its listing holds a text of over 64 KiB")]
    TooLong,
    #[error("the connection broke: {0}")]
    Broken(String),
}

/// Reads `response` elements one after the other.
pub(super) struct Responses<R> {
    reader: NsReader<R>,
    /// From where changes are to be asked the next time, once it was told.
    pub token: Option<String>,
    buffer: Vec<u8>,
    is_ended: bool,
}

#[derive(Default)]
struct Partial {
    href: String,
    is_folder: bool,
    size: u64,
    modified: i64,
    owner: Option<String>,
    in_owner: bool,
    in_propstat: bool,
    status: Option<u16>,
}

impl<R: AsyncBufRead + Unpin> Responses<R> {
    pub fn new(input: R) -> Self {
        let mut reader = NsReader::from_reader(input);
        reader.config_mut().expand_empty_elements = true;
        Self { reader, token: None, buffer: Vec::new(), is_ended: false }
    }

    /// The next entry, or nothing at the end.
    pub async fn next(&mut self) -> Result<Option<Told>, Unreadable> {
        if self.is_ended {
            return Ok(None);
        }
        let mut partial: Option<Partial> = None;
        let mut text = String::new();
        loop {
            self.buffer.clear();
            let (namespace, event) = match self.reader.read_resolved_event_into_async(&mut self.buffer).await {
                Ok(read) => read,
                Err(quick_xml::Error::Io(error)) => return Err(Unreadable::Broken(error.to_string())),
                // Something was begun and not ended.
                Err(quick_xml::Error::Syntax(_)) => return Err(Unreadable::BreaksOff),
                Err(error) => return Err(error.into()),
            };
            let is_dav = matches!(namespace, ResolveResult::Bound(ns) if ns.as_ref() == "DAV:");
            match event {
                Event::Start(start) => {
                    text.clear();
                    match (is_dav, start.local_name().as_ref()) {
                        (true, "response") => partial = Some(Partial::default()),
                        (true, "collection") => {
                            if let Some(partial) = &mut partial {
                                partial.is_folder = true;
                            }
                        }
                        (true, "propstat") => {
                            if let Some(partial) = &mut partial {
                                partial.in_propstat = true;
                            }
                        }
                        (true, "owner") => {
                            if let Some(partial) = &mut partial {
                                partial.in_owner = true;
                            }
                        }
                        _ => {}
                    }
                }
                Event::Text(part) => text.push_str(part.as_ref()),
                Event::CData(part) => text.push_str(part.as_ref()),
                Event::GeneralRef(reference) => {
                    if let Ok(Some(character)) = reference.resolve_char_ref() {
                        text.push(character);
                    } else {
                        text.push_str(quick_xml::escape::resolve_predefined_entity(reference.as_ref()).unwrap_or(""));
                    }
                }
                Event::End(end) if is_dav => {
                    let name = end.local_name();
                    let Some(entry) = &mut partial else {
                        if name.as_ref() == "sync-token" {
                            self.token = Some(text.trim().to_owned()).filter(|token| !token.is_empty());
                        }
                        if name.as_ref() == "multistatus" {
                            self.is_ended = true;
                            return Ok(None);
                        }
                        continue;
                    };
                    match name.as_ref() {
                        "propstat" => entry.in_propstat = false,
                        "status" if !entry.in_propstat => {
                            entry.status = text.split_ascii_whitespace().nth(1).and_then(|code| code.parse().ok());
                        }
                        "owner" => {
                            entry.in_owner = false;
                            entry.owner = entry.owner.take().or_else(|| owner_shown(text.trim().as_bytes()));
                        }
                        // An owner is told as an address, whose last part is the name.
                        "href" if entry.in_owner => {
                            let name = text.trim().trim_end_matches('/').rsplit('/').next().unwrap_or_default();
                            let name: Vec<u8> = percent_decode_str(name).collect();
                            entry.owner = owner_shown(&name);
                            text.clear();
                        }
                        "href" if entry.href.is_empty() => entry.href = text.trim().to_owned(),
                        "getcontentlength" => entry.size = text.trim().parse().unwrap_or(0),
                        "getlastmodified" => entry.modified = modified(text.trim()),
                        "response" => {
                            let kind = if entry.is_folder { EntryKind::Folder } else { EntryKind::File };
                            let fingerprint = fingerprint_of(entry.size, entry.modified, None);
                            let (href, owner, status) =
                                (std::mem::take(&mut entry.href), entry.owner.take(), entry.status);
                            return Ok(Some(Told { href, kind, fingerprint, owner, status }));
                        }
                        _ => {}
                    }
                }
                Event::Eof => return Err(Unreadable::BreaksOff),
                _ => {}
            }
            if text.len() > LONGEST_TEXT {
                return Err(Unreadable::TooLong);
            }
        }
    }
}

/// An HTTP date (RFC 9110, section 5.6.7) in nanoseconds; 0 if it cannot be read.
fn modified(text: &str) -> i64 {
    let time = rfc2822::DateTimeParser::new().parse_timestamp(text);
    time.map_or(0, |time| time.as_second().saturating_mul(1_000_000_000))
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn read(text: &str) -> Result<Vec<Told>, Unreadable> {
        let mut responses = Responses::new(text.as_bytes());
        let mut all = Vec::new();
        while let Some(told) = responses.next().await? {
            all.push(told);
        }
        Ok(all)
    }

    const ANSWER: &str = "<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\" xmlns:x=\"urn:other\">\
<D:response><D:href>/dav/a%20b/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop></D:propstat></D:response>\
<D:response><D:href>/dav/q&amp;a&#46;csv</D:href><D:propstat><D:prop><x:getcontentlength>7</x:getcontentlength><D:resourcetype/>\
<D:getcontentlength>204800</D:getcontentlength><D:getlastmodified>Sat, 14 Mar 2026 06:00:00 GMT</D:getlastmodified></D:prop></D:propstat></D:response>\
</D:multistatus>";

    #[tokio::test]
    async fn entries_are_read_whatever_the_prefix_and_the_entities() {
        let all = read(ANSWER).await.unwrap();
        assert_eq!((all[0].href.as_str(), all[0].kind), ("/dav/a%20b/", EntryKind::Folder));
        assert_eq!((all[1].href.as_str(), all[1].kind), ("/dav/q&a.csv", EntryKind::File));
        assert_eq!(all[1].fingerprint, fingerprint_of(204_800, 1_773_468_000_000_000_000, None));
    }

    #[tokio::test]
    async fn a_listing_that_breaks_off_is_no_shorter_listing() {
        let cut = &ANSWER[..ANSWER.len() - 20];
        assert!(matches!(read(cut).await, Err(Unreadable::BreaksOff | Unreadable::Xml(_))));
    }

    #[tokio::test]
    async fn a_text_without_end_is_given_up() {
        let endless = ANSWER.replace("/dav/a%20b/", &"x".repeat(100_000));
        assert!(matches!(read(&endless).await, Err(Unreadable::TooLong)));
    }
}
