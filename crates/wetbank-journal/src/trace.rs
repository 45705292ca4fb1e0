//! Finding files by a part of a name that they ever had, or by a checksum, and what was made of them.

use std::collections::BTreeSet;

use wetbank_core::FilePath;

use crate::{Journal, JournalError, TraceRecord, history::PAGE, records, threes::LETTERS};

/// Letters of a whole SHA-256 checksum.
const WHOLE_SUM: usize = 64;
/// Names compared at first; each time that they only looked alike, more of them.
const COMPARED: i64 = 500;
/// Names compared at once at most.
const COMPARED_AT_ONCE: i64 = 16_000;
/// Names compared at most: of so many that only look alike the rest is not looked at.
const LOOK_ALIKES: usize = 70_000;

impl Journal {
    /// Items that have the text in their name, or in a name that they were given on their way, in any case;
    /// or one of whose SHA-256 checksums begins with it. Newest first.
    pub async fn trace(&self, text: &str, limit: u32) -> Result<Vec<TraceRecord>, JournalError> {
        let limit = limit.clamp(1, PAGE);
        // The three questions are asked at once: each may have to compare tens of thousands of names.
        let (own, given, summed) = tokio::try_join!(
            self.named(text, false, limit as usize),
            self.named(text, true, limit as usize),
            self.summed(text, limit),
        )?;
        let items: BTreeSet<i64> = own.into_iter().chain(given).chain(summed).collect();
        let mut found = Vec::with_capacity(items.len().min(limit as usize));
        for item in items.into_iter().rev().take(limit as usize) {
            let row = sqlx::query_file_as!(TraceRow, "queries/trace_item.sql", item).fetch_optional(&self.read).await?;
            found.extend(row.map(TraceRow::into_record).transpose()?);
        }
        Ok(found)
    }

    /// What was made of an item, in its order, at most so many.
    pub async fn made_of(&self, item: i64, limit: u32) -> Result<Vec<TraceRecord>, JournalError> {
        let asked = sqlx::query_file_as!(TraceRow, "queries/made_of.sql", item, limit);
        let rows = asked.fetch_all(&self.read).await?;
        rows.into_iter().map(|row| row.into_record().map_err(JournalError::from)).collect()
    }

    /// The newest items one of whose checksums begins with the text; none if that is no beginning of a checksum.
    async fn summed(&self, text: &str, limit: u32) -> Result<Vec<i64>, JournalError> {
        if text.len() < 8 || !text.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Ok(Vec::new());
        }
        let start = text.to_ascii_lowercase();
        let found = if start.len() == WHOLE_SUM {
            sqlx::query_file_scalar!("queries/attempts_by_whole_sum.sql", start, limit).fetch_all(&self.read).await
        } else {
            let end = format!("{start}g");
            let found = sqlx::query_file_scalar!("queries/attempts_by_sum.sql", start, end, limit);
            found.fetch_all(&self.read).await
        };
        Ok(found?)
    }

    /// The newest items that have the text in their own name, or in one that was given to them.
    async fn named(&self, text: &str, given: bool, limit: usize) -> Result<BTreeSet<i64>, JournalError> {
        // The index of names finds nothing shorter.
        if text.chars().count() < LETTERS {
            return Ok(BTreeSet::new());
        }
        // Without `detail` FTS5 knows no phrases: the rarest threes of letters are asked for, and the names that have
        // all of them are compared.
        let threes = self.threes.rarest(text, given, &self.read).await?;
        let threes = threes.iter().map(|three| format!("\"{}\"", three.replace('"', "\"\"")));
        let query = threes.collect::<Vec<_>>().join(" AND ");
        let wanted = text.to_lowercase();
        let (mut found, mut before, mut compared, mut page) = (BTreeSet::new(), i64::MAX, 0, COMPARED);
        // Of a text in other letters nothing is left out beforehand.
        let plain = if wanted.bytes().all(is_plain) { wanted.as_str() } else { "" };
        while found.len() < limit && compared < LOOK_ALIKES {
            let rows: Vec<(Option<i64>, i64, Option<Vec<u8>>)> = if given {
                let asked = sqlx::query_file!("queries/names_of_attempts.sql", query, before, page, plain);
                let rows = asked.fetch_all(&self.read).await?;
                rows.into_iter().map(|row| (row.name, row.item, row.path)).collect()
            } else {
                let asked = sqlx::query_file!("queries/names_of_items.sql", query, before, page, plain);
                let rows = asked.fetch_all(&self.read).await?;
                rows.into_iter().map(|row| (row.name, row.item, row.path)).collect()
            };
            let mut end = None;
            for (name, item, path) in rows {
                match path {
                    Some(path) if found.len() < limit && is_named(&path, &wanted) => _ = found.insert(item),
                    Some(_) => {}
                    None => end = name.zip(usize::try_from(item).ok()),
                }
            }
            let Some((last, many)) = end else { break };
            (before, compared, page) = (last, compared + many, COMPARED_AT_ONCE.min(4 * page));
        }
        Ok(found)
    }
}

/// Whether a path has this text, which is in small letters, in its text form.
fn is_named(path: &[u8], wanted: &str) -> bool {
    match std::str::from_utf8(path) {
        Ok(plain) if path.iter().copied().all(is_plain) => plain.to_ascii_lowercase().contains(wanted),
        _ => records::path(path).to_string().to_lowercase().contains(wanted),
    }
}

/// Whether a byte is its own text form, as most are.
fn is_plain(byte: u8) -> bool {
    matches!(byte, b' '..=b'~') && byte != b'\\'
}

struct TraceRow {
    id: i64,
    run: i64,
    rule: String,
    kind: String,
    place: String,
    path: Vec<u8>,
    size: i64,
    state: String,
    why: Option<String>,
    taken: i64,
    ended: Option<i64>,
}

impl TraceRow {
    fn into_record(self) -> Result<TraceRecord, sqlx::Error> {
        let file: FilePath = records::file(&self.place, &self.path)?;
        Ok(TraceRecord {
            item: self.id,
            run: self.run,
            rule: self.rule,
            kind: records::kind(&self.kind),
            file,
            size: self.size.cast_unsigned(),
            state: records::state(&self.state),
            why: self.why,
            taken: records::time(self.taken),
            ended: self.ended.map(records::time),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_compared_in_its_text_form_and_in_any_case() {
        for (path, wanted, is) in [
            (&b"in/Gauge-07.CSV"[..], "gauge-07.csv", true),
            (b"in/Gauge-07.CSV", "gauge-08", false),
            (b"caf\xe9.csv", r"caf\xe9", true),
            ("\u{c5}rsrapport.pdf".as_bytes(), "\u{e5}rs", true),
            (b"a\\b.csv", r"a\\b", true),
            (b"a\\b.csv", "a\\b", false),
            (b"line\nbreak", r"line\x0abreak", true),
            (b"line\nbreak", "line\nbreak", false),
            (b"", "a", false),
        ] {
            assert_eq!(is_named(path, wanted), is, "{} {wanted}", path.escape_ascii());
        }
    }
}
