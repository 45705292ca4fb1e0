//! What is compared before a person is asked, or told that both sides differ: two files of the same content are alike.

use std::collections::HashMap;

use parking_lot::Mutex;
use wetbank_core::{
    Fingerprint, Name, RelPath,
    twin::{Action, Line, Pair, Question, Side, Twin, Why},
};
use wetbank_places::{Place, PlaceError, PlaceErrorKind};

use super::look::sum;

/// Files of which it is remembered that they differ; beyond them they are read once more.
const REMEMBERED: usize = 100_000;

/// Pairs of files that were read and differ, as they were then.
#[derive(Debug, Default)]
pub(crate) struct Differ(Mutex<HashMap<(Name, RelPath), Pair<Fingerprint>>>);

impl Differ {
    /// The line, or that both sides are alike: where only the contents tell, and a person would be asked or told, they are read.
    pub async fn compared(&self, twin: &Twin, places: Pair<&dyn Place>, line: Line) -> Result<Line, PlaceError> {
        let is_told = matches!(
            (&line.action, line.why),
            (Action::Ask { question: Question::Differ }, _) | (Action::Leave, Why::BothHave)
        );
        let is_open = line.if_differs && is_told;
        let (true, Some(near), Some(far)) = (is_open, &line.had.near, &line.had.far) else { return Ok(line) };
        let key = (twin.name.clone(), line.at.near.clone());
        let now = Pair { near: near.print.clone(), far: far.print.clone() };
        if self.0.lock().get(&key) == Some(&now) {
            return Ok(Line { if_differs: false, ..line });
        }
        let file = |side: Side| twin.file(side, line.at.of(side)).path;
        let (near, far) = (file(Side::Near), file(Side::Far));
        let sums = match tokio::try_join!(sum(places.near, &near), sum(places.far, &far)) {
            Ok(sums) => sums,
            // One of them went meanwhile: the next pass plans it anew.
            Err(error) if error.kind == PlaceErrorKind::NotFound => return Ok(line),
            Err(error) => return Err(error),
        };
        if sums.0 == sums.1 {
            return Ok(Line { action: Action::Join, why: Why::Alike, if_differs: false, ..line });
        }
        let mut known = self.0.lock();
        if known.len() >= REMEMBERED {
            known.clear();
        }
        known.insert(key, now);
        Ok(Line { if_differs: false, ..line })
    }
}
