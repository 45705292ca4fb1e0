//! The checksum of what passes in pieces, nearly in order.

use std::collections::BTreeMap;

use bytes::Bytes;

/// Bytes of pieces that came too early, at most.
const AHEAD: usize = 16 << 20;

/// Sums up pieces that come nearly in order, and knows what came.
#[derive(Debug, Default)]
pub(crate) struct Sum {
    hasher: blake3::Hasher,
    /// How far it is summed up.
    at: u64,
    ahead: BTreeMap<u64, Bytes>,
    ahead_bytes: usize,
    /// What came, as beginnings and ends that do not touch.
    came: BTreeMap<u64, u64>,
    /// A piece came twice, or too many too early: it is to be summed up anew.
    is_lost: bool,
}

impl Sum {
    /// Takes a piece.
    pub fn take(&mut self, offset: u64, piece: &Bytes) {
        if piece.is_empty() {
            return;
        }
        let end = offset + piece.len() as u64;
        self.note(offset, end);
        if self.is_lost {
            return;
        }
        if offset < self.at || self.ahead.contains_key(&offset) {
            return self.lose();
        }
        if offset > self.at {
            self.ahead_bytes += piece.len();
            if self.ahead_bytes > AHEAD {
                return self.lose();
            }
            self.ahead.insert(offset, piece.clone());
            return;
        }
        self.hasher.update(piece);
        self.at = end;
        while let Some(first) = self.ahead.first_entry() {
            if *first.key() > self.at {
                break;
            }
            if *first.key() < self.at {
                return self.lose();
            }
            let piece = first.remove();
            self.ahead_bytes -= piece.len();
            self.hasher.update(&piece);
            self.at += piece.len() as u64;
        }
    }

    fn lose(&mut self) {
        self.is_lost = true;
        self.ahead.clear();
        self.ahead_bytes = 0;
    }

    fn note(&mut self, mut from: u64, mut to: u64) {
        let touching: Vec<u64> =
            self.came.range(..=to).rev().take_while(|(_, end)| **end >= from).map(|(at, _)| *at).collect();
        for at in touching {
            let end = self.came.remove(&at).unwrap_or(at);
            from = from.min(at);
            to = to.max(end);
        }
        self.came.insert(from, to);
    }

    /// Whether all came from an offset to the end of so many bytes.
    pub fn reaches(&self, length: u64) -> Option<u64> {
        if length == 0 {
            return Some(0);
        }
        let (from, to) = self.came.range(..length).next_back()?;
        (*to >= length).then_some(*from)
    }

    /// The sum of so many bytes in hexadecimal, if they came in order and nothing else did.
    pub fn of(&self, length: u64) -> Option<String> {
        let whole = !self.is_lost && self.at == length && self.ahead.is_empty();
        whole.then(|| self.hasher.finalize().to_hex().to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sum_of(pieces: &[(u64, &'static [u8])]) -> Sum {
        let mut sum = Sum::default();
        pieces.iter().for_each(|(at, piece)| sum.take(*at, &Bytes::from_static(piece)));
        sum
    }

    #[test]
    fn pieces_nearly_in_order_have_the_sum_of_the_whole() {
        let whole = Some(blake3::hash(b"abcdefghi").to_hex().to_string());
        assert_eq!(sum_of(&[(0, b"abc"), (6, b"ghi"), (3, b"def")]).of(9), whole);
        assert_eq!(sum_of(&[(3, b"def"), (6, b"ghi"), (0, b"abc")]).of(9), whole);
        assert_eq!(sum_of(&[(0, b"abc"), (3, b"def")]).of(9), None, "the end is missing");
        assert_eq!(sum_of(&[(0, b"abc"), (0, b"abc"), (3, b"def"), (6, b"ghi")]).of(9), None, "one came twice");
    }

    #[test]
    fn it_is_known_from_where_on_all_came() {
        assert_eq!(sum_of(&[(6, b"ghi"), (3, b"def")]).reaches(9), Some(3));
        assert_eq!(sum_of(&[(0, b"abc"), (6, b"ghi")]).reaches(9), Some(6));
        assert_eq!(sum_of(&[(0, b"abc"), (6, b"ghi"), (2, b"cdefg")]).reaches(9), Some(0));
        assert_eq!(sum_of(&[(0, b"abc")]).reaches(9), None);
        assert_eq!(sum_of(&[]).reaches(0), Some(0));
    }
}
