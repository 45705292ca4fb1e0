//! Putting a file elsewhere and removing it here.

use wetbank_core::{FilePath, IfExists, step};
use wetbank_places::PlaceErrorKind;

use super::{AtStep, Attempt, Does, Effect, FailureKind, StepDone};
use crate::effects::Then;

impl Does for step::Move {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let here = at.hand.place.clone().map(|place| FilePath { place, path: at.hand.path.clone() });
        let Some(here) = here else { return at.send(&self.0, None, attempt).await };
        let (source, place) = (at.place(&here.place)?, at.place(&self.0.place)?);
        let (folder, wanted) = at.planned(&self.0, place.as_ref())?;
        let to = FilePath { place: self.0.place.clone(), path: wanted };
        let same_place = here.place == self.0.place;
        let folders = source.as_folder().zip(place.as_folder()).is_some();
        if !same_place && !folders {
            return at.send(&self.0, Some((here, at.hand.fingerprint.clone())), attempt).await;
        }
        // SkipSame must compare contents, and a copy does that.
        if self.0.exists == IfExists::SkipSame {
            return at.send(&self.0, Some((here, at.hand.fingerprint.clone())), attempt).await;
        }
        match at.relocate(&here, to, (folder, self.0.exists), Then::Delivered, attempt).await {
            Err(FailureKind::Place(e)) if e.kind == PlaceErrorKind::Unsupported => {
                at.send(&self.0, Some((here, at.hand.fingerprint.clone())), attempt).await
            }
            result => result,
        }
    }
}
