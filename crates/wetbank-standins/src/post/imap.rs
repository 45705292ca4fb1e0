//! Letters that are read (RFC 3501, RFC 4315, RFC 6851): as much of it as reading and filing needs.

use std::io;

use jiff::tz::TimeZone;
use tokio::{
    io::{AsyncWriteExt, BufReader},
    net::TcpStream,
};

use super::{Letter, Office, line};

pub(super) async fn serve(stream: TcpStream, office: &Office) -> io::Result<()> {
    let mut stream = BufReader::new(stream);
    stream.write_all(b"* OK post stand-in\r\n").await?;
    let (mut signed_in, mut open): (bool, Option<String>) = (false, None);
    while let Some(command) = line(&mut stream).await? {
        let words = words(&command);
        let [tag, verb, rest @ ..] = words.as_slice() else { continue };
        let mut verb = verb.to_ascii_uppercase();
        let mut rest: Vec<&str> = rest.iter().map(String::as_str).collect();
        if verb == "UID" && !rest.is_empty() {
            verb = format!("UID {}", rest.remove(0).to_ascii_uppercase());
        }
        let mut out: Vec<u8> = Vec::new();
        let folder = open.clone().unwrap_or_default();
        let end = match (verb.as_str(), rest.as_slice()) {
            ("CAPABILITY", _) => {
                out.extend_from_slice(b"* CAPABILITY IMAP4rev1 UIDPLUS MOVE\r\n");
                "OK done".to_owned()
            }
            ("NOOP", _) => "OK done".to_owned(),
            ("LOGOUT", _) => {
                stream.write_all(format!("* BYE\r\n{tag} OK done\r\n").as_bytes()).await?;
                return Ok(());
            }
            ("LOGIN", [user, password]) => {
                signed_in = office.lets_in(user, password);
                if signed_in { "OK signed in" } else { "NO [AUTHENTICATIONFAILED] wrong user or password" }.to_owned()
            }
            _ if !signed_in => "NO sign in first".to_owned(),
            ("LIST", [_, pattern]) => {
                list(office, pattern, &mut out);
                "OK done".to_owned()
            }
            ("CREATE", [name]) => {
                office.store().folders.entry((*name).to_owned()).or_default();
                "OK done".to_owned()
            }
            ("SELECT" | "EXAMINE", [name]) => {
                let count = office.store().folders.get(*name).map(Vec::len);
                open = count.map(|_| (*name).to_owned());
                match count {
                    Some(count) => {
                        let said = format!(
                            "* FLAGS (\\Deleted)\r\n* {count} EXISTS\r\n* 0 RECENT\r\n* OK [UIDVALIDITY 1] fine\r\n"
                        );
                        out.extend_from_slice(said.as_bytes());
                        "OK [READ-WRITE] open".to_owned()
                    }
                    None => "NO [NONEXISTENT] there is no such folder".to_owned(),
                }
            }
            ("UID SEARCH", _) => {
                let store = office.store();
                let numbers = store.folders.get(&folder).into_iter().flatten().map(|letter| letter.number.to_string());
                out.extend_from_slice(format!("* SEARCH {}\r\n", numbers.collect::<Vec<_>>().join(" ")).as_bytes());
                "OK done".to_owned()
            }
            ("UID FETCH", [set, what @ ..]) => {
                let what = what.join(" ");
                let store = office.store();
                for (at, letter) in store.folders.get(&folder).into_iter().flatten().enumerate() {
                    if is_in(set, letter.number) {
                        fetch(at + 1, letter, &what, &mut out);
                    }
                }
                "OK done".to_owned()
            }
            ("UID MOVE", [set, name]) => {
                let is_there = office.store().folders.contains_key(*name);
                for number in numbers(office, &folder, set).into_iter().filter(|_| is_there) {
                    office.relocate(&folder, number, name);
                    out.extend_from_slice(b"* 1 EXPUNGE\r\n");
                }
                if is_there { "OK done" } else { "NO [TRYCREATE] there is no such folder" }.to_owned()
            }
            // What is marked as deleted is removed at once: here nobody else looks.
            ("UID STORE", [set, _, flags @ ..]) if flags.join(" ").contains("\\Deleted") => {
                numbers(office, &folder, set).into_iter().for_each(|number| office.remove(&folder, number));
                "OK done".to_owned()
            }
            ("UID EXPUNGE", _) => "OK done".to_owned(),
            _ => "BAD not here".to_owned(),
        };
        out.extend_from_slice(format!("{tag} {end}\r\n").as_bytes());
        stream.write_all(&out).await?;
    }
    Ok(())
}

/// The words of a command; what is quoted is one.
fn words(command: &str) -> Vec<String> {
    let (mut words, mut letters) = (Vec::new(), command.chars().peekable());
    while let Some(letter) = letters.next() {
        let mut word = String::new();
        match letter {
            ' ' => continue,
            '"' => {
                while let Some(letter) = letters.next().filter(|letter| *letter != '"') {
                    word.push(if letter == '\\' { letters.next().unwrap_or(letter) } else { letter });
                }
            }
            letter => {
                word.push(letter);
                while let Some(letter) = letters.next_if(|letter| *letter != ' ') {
                    word.push(letter);
                }
            }
        }
        words.push(word);
    }
    words
}

fn list(office: &Office, pattern: &str, out: &mut Vec<u8>) {
    if pattern.is_empty() {
        out.extend_from_slice(b"* LIST (\\Noselect) \"/\" \"\"\r\n");
        return;
    }
    let above = pattern.trim_end_matches('%');
    let store = office.store();
    let mut names: Vec<&str> = store
        .folders
        .keys()
        .filter_map(|name| Some(&name[..above.len() + name.strip_prefix(above)?.split('/').next()?.len()]))
        .collect();
    names.dedup();
    for name in names {
        out.extend_from_slice(format!("* LIST () \"/\" {}\r\n", quoted(name)).as_bytes());
    }
}

/// Whether a number is in a set such as `1,4:7`.
fn is_in(set: &str, number: u32) -> bool {
    set.split(',').any(|part| {
        let (first, last) = part.split_once(':').unwrap_or((part, part));
        let end = |text: &str| if text == "*" { Some(u32::MAX) } else { text.parse().ok() };
        matches!((end(first), end(last)), (Some(first), Some(last)) if (first..=last).contains(&number))
    })
}

fn numbers(office: &Office, folder: &str, set: &str) -> Vec<u32> {
    let store = office.store();
    let letters = store.folders.get(folder).into_iter().flatten();
    letters.map(|letter| letter.number).filter(|number| is_in(set, *number)).collect()
}

fn fetch(at: usize, letter: &Letter, what: &str, out: &mut Vec<u8>) {
    let date = letter.came.to_zoned(TimeZone::UTC).strftime("%d-%b-%Y %H:%M:%S +0000").to_string();
    let mut told = format!("* {at} FETCH (UID {} FLAGS ()", letter.number);
    if what.contains("RFC822.SIZE") {
        told += &format!(" RFC822.SIZE {}", letter.content.len());
    }
    if what.contains("INTERNALDATE") {
        told += &format!(" INTERNALDATE \"{date}\"");
    }
    if what.contains("ENVELOPE") {
        told += &format!(" ENVELOPE {}", envelope(&letter.content));
    }
    out.extend_from_slice(told.as_bytes());
    if let Some((_, part)) = what.split_once("BODY.PEEK[]").or_else(|| what.split_once("BODY[]")) {
        let part = part.strip_prefix('<').and_then(|part| part.split_once('>')).map(|(part, _)| part);
        let (from, length) = part.and_then(|part| part.split_once('.')).unwrap_or(("0", ""));
        let from = from.parse().unwrap_or(0).min(letter.content.len());
        let length = length.parse().unwrap_or(usize::MAX).min(letter.content.len() - from);
        let origin = if part.is_some() { format!("<{from}>") } else { String::new() };
        out.extend_from_slice(format!(" BODY[]{origin} {{{length}}}\r\n").as_bytes());
        out.extend_from_slice(&letter.content[from..from + length]);
    }
    out.extend_from_slice(b")\r\n");
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// Who wrote about what, in the form of an envelope.
fn envelope(letter: &[u8]) -> String {
    let head = String::from_utf8_lossy(&letter[..letter.len().min(16 << 10)]).into_owned();
    let field = |name: &str| {
        let lines = head.lines().take_while(|line| !line.is_empty());
        let value = lines.filter_map(|line| line.split_once(": ")).find(|(key, _)| key.eq_ignore_ascii_case(name));
        value.map(|(_, value)| value.trim().to_owned())
    };
    let or_nil = |text: Option<String>| text.map_or_else(|| "NIL".to_owned(), |text| quoted(&text));
    let from = field("From").unwrap_or_default();
    let address = from.rsplit_once('<').map_or(from.as_str(), |(_, rest)| rest.trim_end_matches('>'));
    let from = match address.split_once('@') {
        Some((user, host)) => format!("((NIL NIL {} {}))", quoted(user), quoted(host)),
        None => "NIL".to_owned(),
    };
    format!(
        "({} {} {from} {from} {from} NIL NIL NIL NIL {})",
        or_nil(field("Date")),
        or_nil(field("Subject")),
        or_nil(field("Message-ID"))
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_and_sets_are_read_as_they_are_written() {
        assert_eq!(words(r#"a1 LOGIN "me \"x\"" "grey heron""#), ["a1", "LOGIN", "me \"x\"", "grey heron"]);
        assert!(is_in("1,4:7", 5) && !is_in("1,4:7", 3) && is_in("2:*", 9));
    }

    #[test]
    fn an_envelope_tells_the_writer() {
        let told = envelope(b"From: Desk <desk@lindmoor.example>\r\nSubject: a \"b\"\r\n\r\nDate: no\r\n");
        assert_eq!(
            told,
            r#"(NIL "a \"b\"" ((NIL NIL "desk" "lindmoor.example")) ((NIL NIL "desk" "lindmoor.example")) ((NIL NIL "desk" "lindmoor.example")) NIL NIL NIL NIL NIL)"#
        );
    }
}
