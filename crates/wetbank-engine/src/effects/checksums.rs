//! Checksums, and lists of them as `sha256sum` writes them.

use std::io::Read;

use wetbank_archive::ArchiveError;

use super::{outcome::Effect, reading::Reading};

pub(super) fn each_chunk(from: &mut impl Read, mut with: impl FnMut(&[u8])) -> std::io::Result<()> {
    let mut buffer = vec![0; 256 << 10];
    loop {
        let read = from.read(&mut buffer)?;
        if read == 0 {
            return Ok(());
        }
        with(&buffer[..read]);
    }
}

/// The SHA-256 of what is read, in hexadecimal.
pub(super) fn sum(mut reading: Reading) -> Effect<String> {
    let mut hashing = wetbank_crypt::Hashing::default();
    let broken = reading.broken();
    let read = each_chunk(&mut reading, |chunk| hashing.update_slice(chunk));
    broken.check()?;
    read.map_err(ArchiveError::from)?;
    Ok(hashing.finish().sha256.unwrap_or_default())
}

/// A line of a list of checksums. A name that would break the line is escaped, which a backslash
/// at its start tells.
pub(super) fn listed(sum: &str, name: &str) -> String {
    let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
    if escaped == name { format!("{sum}  {name}") } else { format!("\\{sum}  {escaped}") }
}

/// What a list says of a name.
pub(super) fn find_listed(list: &str, name: &str) -> Option<String> {
    list.lines().find_map(|line| {
        let (escaped, line) = line.strip_prefix('\\').map_or((false, line), |rest| (true, rest));
        let (sum, rest) = line.split_once(' ')?;
        // A space or an asterisk tells text from binary.
        let there = rest.strip_prefix([' ', '*'])?;
        let there = if escaped { unescaped(there) } else { there.to_owned() };
        let is_it = there.strip_prefix("./").unwrap_or(&there) == name;
        (is_it && sum.len() == 64 && sum.bytes().all(|b| b.is_ascii_hexdigit())).then(|| sum.to_owned())
    })
}

fn unescaped(name: &str) -> String {
    let mut plain = String::with_capacity(name.len());
    let mut letters = name.chars();
    while let Some(letter) = letters.next() {
        match (letter, letter == '\\') {
            (_, true) => match letters.next() {
                Some('n') => plain.push('\n'),
                Some('r') => plain.push('\r'),
                Some(other) => plain.push(other),
                None => {}
            },
            (letter, false) => plain.push(letter),
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_of_checksums_is_read_as_it_is_written() {
        let sum = "ab".repeat(32);
        for name in ["gauge-07.csv", "a b.csv", "back\\slash", "new\nline", "back\\nline", " lead"] {
            let line = listed(&sum, name);
            assert!(!line.contains('\n'));
            assert_eq!(find_listed(&line, name), Some(sum.clone()), "{line}");
        }
        assert_eq!(find_listed(&format!("{sum} *gauge-07.csv\r\n"), "gauge-07.csv"), Some(sum.clone()));
        assert_eq!(find_listed(&format!("{sum} *./gauge-07.csv\n"), "gauge-07.csv"), Some(sum.clone()));
        for wrong in [
            "",
            "gauge-07.csv",
            "12  gauge-07.csv",
            &format!("{sum}  other.csv"),
            &format!("{}  gauge-07.csv", "xy".repeat(32)),
        ] {
            assert_eq!(find_listed(wrong, "gauge-07.csv"), None, "{wrong}");
        }
    }
}
