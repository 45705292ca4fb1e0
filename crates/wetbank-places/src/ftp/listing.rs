//! Lines of a listing: the machine's form (RFC 3659, section 7) and the forms for people.

use jiff::civil::DateTime;
use suppaftp::list::ListParser;
use wetbank_core::Fingerprint;

use crate::{EntryKind, fingerprint_of, place::owner_shown};

const DAY: i64 = 86_400_000_000_000;

/// An entry as the server tells it; the name in bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Told {
    pub name: Vec<u8>,
    pub kind: EntryKind,
    pub fingerprint: Fingerprint,
    pub owner: Option<String>,
}

/// The bytes of text that was decoded byte by byte.
pub(super) fn to_bytes(text: &str) -> Vec<u8> {
    text.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect()
}

/// Text in which every byte is one character.
pub(super) fn to_text(bytes: &[u8]) -> String {
    bytes.iter().copied().map(char::from).collect()
}

/// A line of MLSD or MLST: `fact=value;…; name`. Nothing for the folder itself and the one above.
pub(super) fn read_facts(line: &str) -> Option<Told> {
    let (facts, name) = line.split_once(' ')?;
    let (mut kind, mut size, mut modified, mut owner) = (EntryKind::File, 0, 0, None);
    for fact in facts.split(';') {
        let Some((key, value)) = fact.split_once('=') else { continue };
        match key.to_ascii_lowercase().as_str() {
            "type" => {
                kind = match value.to_ascii_lowercase().as_str() {
                    "file" => EntryKind::File,
                    "dir" => EntryKind::Folder,
                    "cdir" | "pdir" => return None,
                    other if other.contains("link") => EntryKind::Link,
                    _ => EntryKind::Other,
                }
            }
            "size" => size = value.parse().unwrap_or(0),
            "modify" => modified = time(value),
            "unix.ownername" => owner = shown(value),
            // A bare number says little, but more than nothing.
            "unix.owner" if owner.is_none() => owner = shown(value),
            _ => {}
        }
    }
    Some(Told { name: to_bytes(name), kind, fingerprint: fingerprint_of(size, modified, None), owner })
}

/// An owner's name as people can read it.
fn shown(name: &str) -> Option<String> {
    owner_shown(&to_bytes(name))
}

/// A time as in `20260314060000.123`, always UTC, in nanoseconds; whole seconds count.
fn time(value: &str) -> i64 {
    let digits = value.get(..14).unwrap_or_default();
    let time = DateTime::strptime("%Y%m%d%H%M%S", digits).ok();
    let time = time.and_then(|time| time.to_zoned(jiff::tz::TimeZone::UTC).ok());
    time.map_or(0, |time| time.timestamp().as_second().saturating_mul(1_000_000_000))
}

/// A line for people, as Unix and DOS servers write it. Times of files older than half a year
/// have no hour, so the day is all that counts: a file must not look changed because it aged.
pub(super) fn read_line(line: &str) -> Option<Told> {
    // A mark behind the rights tells that there are more of them than are shown.
    let marked = line.as_bytes().get(10).is_some_and(|byte| b"+.@".contains(byte)) && is_unix(line);
    let plain = if marked { format!("{}{}", &line[..10], &line[11..]) } else { line.to_owned() };
    let file = ListParser::parse_posix(&plain).or_else(|_| ListParser::parse_dos(&plain)).ok()?;
    let kind = match line.as_bytes().first() {
        _ if file.is_directory() => EntryKind::Folder,
        _ if file.is_symlink() => EntryKind::Link,
        Some(b'p' | b's' | b'b' | b'c') => EntryKind::Other,
        _ => EntryKind::File,
    };
    let name = name_in(&plain, kind).filter(|name| name.trim() == file.name().trim()).unwrap_or(file.name());
    // A link's line goes on with where it leads.
    let name = if kind == EntryKind::Link { name.split(" -> ").next().unwrap_or_default() } else { name };
    if matches!(name, "." | "..") {
        return None;
    }
    let since = file.modified().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    let modified = i64::try_from(since.as_nanos()).unwrap_or(0) / DAY * DAY;
    // A Unix line begins with rights, a count and the owner.
    let owner = line.split_ascii_whitespace().nth(2).filter(|_| is_unix(line)).and_then(shown);
    Some(Told { name: to_bytes(name), kind, fingerprint: fingerprint_of(file.size() as u64, modified, None), owner })
}

fn is_unix(line: &str) -> bool {
    line.as_bytes().first().is_some_and(|byte| b"-dlpsbc".contains(byte))
}

/// The name at the end of a line, with the blanks it begins and ends with: behind eight columns (rights, count,
/// owner, group, size, month, day, hour or year) or three (date, hour, size) and one blank.
fn name_in(line: &str, kind: EntryKind) -> Option<&str> {
    let mut rest = line;
    for _ in 0..if is_unix(line) { 8 } else { 3 } {
        rest = rest.trim_start_matches(' ');
        rest = &rest[rest.find(' ')?..];
    }
    // The mark of a folder is filled up with blanks to the width of a size.
    if kind == EntryKind::Folder && !is_unix(line) { Some(rest.trim_start()) } else { rest.strip_prefix(' ') }
}

/// Whether a line that cannot be read may be about a file.
pub(super) fn is_of_interest(line: &str) -> bool {
    let line = line.trim();
    let is_sum = line.split_once(' ').is_some_and(|(word, _)| word.eq_ignore_ascii_case("total"));
    // Devices, sockets and pipes are never taken.
    let rights = line.as_bytes().get(1..10).unwrap_or_default();
    let is_other = line.starts_with(['p', 's', 'b', 'c'])
        && rights.len() == 9
        && rights.iter().all(|byte| b"rwxsStT-".contains(byte));
    !line.is_empty() && !is_sum && !is_other && !line.ends_with(" .") && !line.ends_with(" ..")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn facts_are_read_in_any_order_and_case() {
        let told = read_facts("Size=204800;Modify=20260314060000.5;Type=file;UNIX.mode=0644; gauge 07; a.csv").unwrap();
        assert_eq!(told.name, b"gauge 07; a.csv");
        assert_eq!(told.fingerprint, fingerprint_of(204_800, 1_773_468_000_000_000_000, None));
        let folder = read_facts("type=dir;modify=20260314060000; 2026").unwrap();
        assert_eq!((folder.kind, folder.name.as_slice()), (EntryKind::Folder, &b"2026"[..]));
        assert!(read_facts("type=cdir; .").is_none() && read_facts("type=pdir; ..").is_none());
        assert_eq!(read_facts("type=OS.unix=symlink; link").unwrap().kind, EntryKind::Link);
        assert_eq!(read_facts("type=OS.unix=fifo; pipe").unwrap().kind, EntryKind::Other);
        assert!(read_facts("nonsense").is_none());
    }

    #[test]
    fn lines_for_people_are_read_in_several_dialects() {
        for (line, name, kind, size) in [
            (
                "-rw-r--r--   1 merrow   office     204800 Mar 14 06:00 assay-0412.csv",
                "assay-0412.csv",
                EntryKind::File,
                204_800,
            ),
            (
                "-rw-r--r--   1 1000     1000            7 Mar 14  2024 two words.csv",
                "two words.csv",
                EntryKind::File,
                7,
            ),
            ("-rw-r--r--+  1 merrow   office          7 Jan  2 11:30  leading.csv", " leading.csv", EntryKind::File, 7),
            ("-rw-r--r--   1 merrow   office          7 Jan  2 11:30 a -> b.csv", "a -> b.csv", EntryKind::File, 7),
            ("-rw-r--r--   1 merrow   office          7 Jan  2 11:30 trailing ", "trailing ", EntryKind::File, 7),
            ("drwxr-xr-x   2 merrow   office       4096 Jan  2 11:30 sent", "sent", EntryKind::Folder, 4096),
            ("lrwxrwxrwx   1 merrow   office          6 Jan  2 11:30 latest -> a.csv", "latest", EntryKind::Link, 6),
            ("03-14-26  06:00AM               204800 assay.csv", "assay.csv", EntryKind::File, 204_800),
            ("03-14-26  06:00PM       <DIR>          archive", "archive", EntryKind::Folder, 0),
        ] {
            let told = read_line(line).unwrap_or_else(|| panic!("{line}"));
            assert_eq!((told.name.as_slice(), told.kind), (name.as_bytes(), kind), "{line}");
            if kind == EntryKind::File {
                assert_eq!(told.fingerprint.size, size, "{line}");
            }
        }
        assert!(read_line("total 12").is_none() && !is_of_interest("total 12"));
        assert!(is_of_interest("survey.csv;1  12/14  2-MAR-2026 11:30"));
    }

    #[test]
    fn a_file_looks_the_same_whether_its_hour_is_told_or_not() {
        let year = jiff::Zoned::now().year();
        let with_hour = read_line("-rw-r--r-- 1 m o 7 Jan  2 11:30 a.csv").unwrap();
        assert_eq!(with_hour.fingerprint.modified % DAY, 0);
        let without = read_line(&format!("-rw-r--r-- 1 m o 7 Jan  2  {year} a.csv")).unwrap();
        assert_eq!(without.fingerprint, with_hour.fingerprint);
    }

    #[test]
    fn names_keep_every_byte() {
        assert_eq!(to_bytes(&to_text(b"caf\xe9 \xff")), b"caf\xe9 \xff");
    }
}
