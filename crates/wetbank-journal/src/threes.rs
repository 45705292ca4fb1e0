//! How often threes of letters occur in names, as far as the newest names tell: whoever looks for a long text asks for
//! the rarest of its threes, because each that is asked for costs a list as long as it is common.

use std::collections::HashMap;

use parking_lot::RwLock;
use sqlx::SqlitePool;

use crate::records;

/// Names that are looked at.
const SAMPLE: i64 = 20_000;
/// They are looked at anew when the journal has grown by one part in so many.
const GROWTH: i64 = 4;
/// Threes that are asked for at most.
const ASKED: usize = 5;

/// How many letters are one piece of the index.
pub(crate) const LETTERS: usize = 3;

/// Of the names that files came with, and of those that they were given.
#[derive(Debug, Default)]
pub(crate) struct Threes {
    came: RwLock<Counted>,
    given: RwLock<Counted>,
}

#[derive(Debug, Default)]
struct Counted {
    newest: i64,
    names: HashMap<[char; LETTERS], u32>,
}

impl Threes {
    /// The threes of a text by which names that contain it are found, the rarest first; of names that files came with, or
    /// were `given`.
    pub async fn rarest(&self, text: &str, given: bool, read: &SqlitePool) -> Result<Vec<String>, sqlx::Error> {
        let kept = if given { &self.given } else { &self.came };
        let newest = sqlx::query_file!("queries/max_ids.sql").fetch_one(read).await?.item;
        let before = kept.read().newest;
        if newest > before + before / GROWTH {
            let names = match given {
                true => sqlx::query_file_scalar!("queries/attempt_names_newest.sql", SAMPLE).fetch_all(read).await,
                false => sqlx::query_file_scalar!("queries/item_names_newest.sql", SAMPLE).fetch_all(read).await,
            };
            let names = count(names?.iter().map(|path| records::path(path).to_string()));
            let counted = Counted { newest, names };
            *kept.write() = counted;
        }
        let counted = kept.read();
        let mut threes = threes(text);
        threes.sort();
        threes.dedup();
        threes.sort_by_key(|three| counted.names.get(three).copied().unwrap_or(0));
        Ok(threes.into_iter().take(ASKED).map(|three| three.iter().collect()).collect())
    }
}

fn threes(text: &str) -> Vec<[char; LETTERS]> {
    let letters: Vec<char> = text.to_lowercase().chars().collect();
    letters.windows(LETTERS).filter_map(|three| three.try_into().ok()).collect()
}

fn count(names: impl Iterator<Item = String>) -> HashMap<[char; LETTERS], u32> {
    let mut counts = HashMap::new();
    for name in names {
        for three in threes(&name) {
            *counts.entry(three).or_insert(0) += 1;
        }
    }
    counts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn common_threes_are_counted_in_any_case() {
        let counts = count(["readings/ABC-1.csv", "readings/abd-2.csv"].map(str::to_owned).into_iter());
        assert_eq!(counts[&['r', 'e', 'a']], 2);
        assert_eq!(counts[&['a', 'b', 'c']], 1);
        assert!(!counts.contains_key(&['z', 'z', 'z']));
    }
}
