//! How often threes of letters occur in names, as far as the newest names tell: whoever looks for a long text asks for
//! the rarest of its threes, because each that is asked for costs a list as long as it is common.

use std::{
    collections::HashMap,
    sync::{PoisonError, RwLock},
};

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

#[derive(Debug, Default)]
pub(crate) struct Threes(RwLock<Counted>);

#[derive(Debug, Default)]
struct Counted {
    newest: i64,
    names: HashMap<[char; LETTERS], u32>,
}

impl Threes {
    /// The threes of a text by which names that contain it are found, the rarest first.
    pub async fn rarest(&self, text: &str, read: &SqlitePool) -> Result<Vec<String>, sqlx::Error> {
        let newest = sqlx::query_file!("queries/max_ids.sql").fetch_one(read).await?.item;
        if newest > self.newest() + self.newest() / GROWTH {
            let names = sqlx::query_file_scalar!("queries/names_newest.sql", SAMPLE).fetch_all(read).await?;
            let counted = Counted { newest, names: count(names.iter().map(|path| records::path(path).to_string())) };
            *self.0.write().unwrap_or_else(PoisonError::into_inner) = counted;
        }
        let counted = self.0.read().unwrap_or_else(PoisonError::into_inner);
        let mut threes = threes(text);
        threes.sort();
        threes.dedup();
        threes.sort_by_key(|three| counted.names.get(three).copied().unwrap_or(0));
        Ok(threes.into_iter().take(ASKED).map(|three| three.iter().collect()).collect())
    }

    fn newest(&self) -> i64 {
        self.0.read().unwrap_or_else(PoisonError::into_inner).newest
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
