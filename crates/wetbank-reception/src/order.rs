//! Pieces of a file that is written, put in order: what is on disk has no gaps, so that a file that was cut off, also together
//! with us, can be gone on with at its end.

use std::collections::BTreeMap;

use bytes::Bytes;

/// Bytes that came too early, at most.
const AHEAD: usize = 8 << 20;

/// Which pieces are to be written now.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Due {
    /// These, one behind the other, from an offset on.
    InOrder(u64, Vec<Bytes>),
    /// None yet: what is before them is still to come.
    Nothing,
    /// These, wherever they belong: there are gaps from now on.
    Scattered(Vec<(u64, Bytes)>),
}

/// Puts pieces in order.
#[derive(Debug)]
pub(crate) struct Order {
    next: u64,
    ahead: BTreeMap<u64, Bytes>,
    ahead_bytes: usize,
    is_scattered: bool,
    /// The sum of all from the beginning; nothing once it cannot be told any more.
    hasher: Option<Box<blake3::Hasher>>,
}

impl Order {
    /// Behind what is there.
    pub fn behind(length: u64) -> Self {
        let hasher = (length == 0).then(Box::default);
        Self { next: length, ahead: BTreeMap::new(), ahead_bytes: 0, is_scattered: false, hasher }
    }

    /// Takes a piece.
    pub fn take(&mut self, offset: u64, piece: Bytes) -> Due {
        if self.is_scattered || offset < self.next {
            self.hasher = None;
            return Due::Scattered(vec![(offset, piece)]);
        }
        if offset > self.next {
            self.ahead_bytes += piece.len();
            if let Some(twice) = self.ahead.insert(offset, piece) {
                self.ahead_bytes -= twice.len();
            }
            return if self.ahead_bytes > AHEAD { self.scatter() } else { Due::Nothing };
        }
        let mut due = vec![piece];
        let from = self.next;
        self.next += due[0].len() as u64;
        while let Some(first) = self.ahead.first_entry().filter(|first| *first.key() <= self.next) {
            if *first.key() < self.next {
                // They overlap: who wrote last is not known in this way.
                let scattered = self.scatter();
                let Due::Scattered(mut all) = scattered else { return scattered };
                all.splice(0..0, at(from, due));
                return Due::Scattered(all);
            }
            let piece = first.remove();
            self.ahead_bytes -= piece.len();
            self.next += piece.len() as u64;
            due.push(piece);
        }
        if let Some(hasher) = &mut self.hasher {
            due.iter().for_each(|piece| _ = hasher.update(piece));
        }
        Due::InOrder(from, due)
    }

    fn scatter(&mut self) -> Due {
        (self.is_scattered, self.hasher, self.ahead_bytes) = (true, None, 0);
        Due::Scattered(std::mem::take(&mut self.ahead).into_iter().collect())
    }

    /// It was given another length.
    pub fn cut(&mut self, length: u64) {
        *self = Self { hasher: None, ..Self::behind(length) };
    }

    /// What is left once nothing more comes: before it there is a gap that is meant.
    pub fn rest(&mut self) -> Option<Vec<(u64, Bytes)>> {
        match self.ahead.is_empty() {
            true => None,
            false => match self.scatter() {
                Due::Scattered(rest) => Some(rest),
                _ => None,
            },
        }
    }

    /// The sum of so many bytes in hexadecimal, if all came in order from the beginning.
    pub fn sum(&self, length: u64) -> Option<String> {
        let hasher = self.hasher.as_ref().filter(|_| self.next == length && self.ahead.is_empty())?;
        Some(hasher.finalize().to_hex().to_string())
    }
}

fn at(from: u64, pieces: Vec<Bytes>) -> Vec<(u64, Bytes)> {
    let mut offset = from;
    let placed = pieces.into_iter().map(|piece| {
        let at = offset;
        offset += piece.len() as u64;
        (at, piece)
    });
    placed.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn piece(text: &'static str) -> Bytes {
        Bytes::from_static(text.as_bytes())
    }

    #[test]
    fn what_comes_too_early_waits_for_what_is_before_it() {
        let mut order = Order::behind(0);
        assert_eq!(order.take(3, piece("def")), Due::Nothing);
        assert_eq!(order.take(6, piece("ghi")), Due::Nothing);
        let all = vec![piece("abc"), piece("def"), piece("ghi")];
        assert_eq!(order.take(0, piece("abc")), Due::InOrder(0, all));
        assert_eq!(order.sum(9), Some(blake3::hash(b"abcdefghi").to_hex().to_string()));
        assert_eq!((order.sum(8), order.rest()), (None, None));
    }

    #[test]
    fn what_is_written_over_or_left_out_is_written_where_it_belongs() {
        let mut order = Order::behind(0);
        let _ = order.take(0, piece("abc"));
        assert_eq!(order.take(1, piece("X")), Due::Scattered(vec![(1, piece("X"))]));
        assert_eq!(order.sum(3), None, "it is to be read anew");
        assert_eq!(order.take(10, piece("z")), Due::Nothing);
        assert_eq!(order.rest(), Some(vec![(10, piece("z"))]));
        assert_eq!(order.take(20, piece("y")), Due::Scattered(vec![(20, piece("y"))]));
    }

    #[test]
    fn pieces_that_overlap_are_written_all() {
        let mut order = Order::behind(4);
        let _ = order.take(6, piece("gh"));
        let both = vec![(4, piece("efg")), (6, piece("gh"))];
        assert_eq!(order.take(4, piece("efg")), Due::Scattered(both));
    }

    #[test]
    fn what_waits_does_not_grow_without_end() {
        let mut order = Order::behind(0);
        let large = Bytes::from(vec![7; AHEAD / 2]);
        assert_eq!(order.take(1, large.clone()), Due::Nothing);
        assert_eq!(order.take(1 << 30, large.clone()), Due::Nothing);
        let Due::Scattered(all) = order.take(1 << 40, large) else { panic!("it waits") };
        assert_eq!(all.len(), 3);
    }
}
