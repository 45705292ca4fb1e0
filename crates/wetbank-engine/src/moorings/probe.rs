//! Looking after places that failed: when a pause is over, one probe decides whether it is lifted.

use std::{sync::Arc, time::Duration};

use tokio_util::sync::CancellationToken;
use wetbank_core::Name;
use wetbank_places::{PlaceError, PlaceErrorKind};

use super::harbour::Moorings;
use crate::clock;

/// A probe that takes longer has failed.
const PATIENCE: Duration = Duration::from_secs(60);
/// Without a place that failed, looked again after this time.
const IDLE: Duration = Duration::from_secs(60);

/// Probes places whose pause is over, each by itself, until the service stops.
pub(crate) async fn run(moorings: Arc<Moorings>, cancel: CancellationToken) {
    loop {
        let dock = &moorings.dock;
        let (due, next) = dock.health.due(clock::now());
        for place in due {
            dock.tracker.spawn(probe(moorings.clone(), place, cancel.clone()));
        }
        tokio::select! {
            () = tokio::time::sleep(next.map_or(IDLE, clock::until)) => {}
            () = dock.news.notified() => {}
            () = cancel.cancelled() => return,
        }
    }
}

async fn probe(moorings: Arc<Moorings>, name: Name, cancel: CancellationToken) {
    let reached = async {
        match moorings.arranged.now().place(&name) {
            Ok(place) => tokio::time::timeout(PATIENCE, place.reach()).await.unwrap_or_else(|_| Err(silent(&name))),
            Err(error) => Err(error),
        }
    };
    let outcome = tokio::select! {
        outcome = reached => outcome,
        () = cancel.cancelled() => return,
    };
    let dock = &moorings.dock;
    dock.health.probed(&name);
    match still_away(outcome) {
        Some(error) => dock.failed(&error),
        None => dock.worked(&name),
    }
    dock.news.notify_one();
}

/// Why a place stays paused after a probe. One that was reached and answers something else, as
/// that its root is missing, is not away: every file that goes there says by itself what is wrong.
fn still_away(outcome: Result<String, PlaceError>) -> Option<PlaceError> {
    let error = outcome.err()?;
    match error.kind {
        PlaceErrorKind::Unreachable
        | PlaceErrorKind::Refused
        | PlaceErrorKind::NotSignedIn
        | PlaceErrorKind::SignInEnded
        | PlaceErrorKind::HostKey => Some(error),
        PlaceErrorKind::Interrupted | PlaceErrorKind::Busy | PlaceErrorKind::Other => {
            Some(PlaceError { kind: PlaceErrorKind::Unreachable, ..error })
        }
        _ => None,
    }
}

fn silent(place: &Name) -> PlaceError {
    PlaceError {
        kind: PlaceErrorKind::Unreachable,
        place: place.clone(),
        call: "reach",
        path: wetbank_core::RelPath::root(),
        detail: format!("it did not answer within {} s", PATIENCE.as_secs()),
        secret: None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::moorings::health::HealthBook;

    #[test]
    fn after_every_probe_a_place_is_either_lifted_or_left_alone_for_a_while() {
        let name = Name::new("harbour").expect("a name");
        for kind in [
            PlaceErrorKind::NotFound,
            PlaceErrorKind::Refused,
            PlaceErrorKind::NotSignedIn,
            PlaceErrorKind::SignInEnded,
            PlaceErrorKind::HostKey,
            PlaceErrorKind::Certificate,
            PlaceErrorKind::Denied,
            PlaceErrorKind::Busy,
            PlaceErrorKind::Unreachable,
            PlaceErrorKind::Interrupted,
            PlaceErrorKind::Unsupported,
            PlaceErrorKind::Other,
        ] {
            let book = HealthBook::default();
            book.failed(&silent(&name));
            let later = clock::after(clock::now(), Duration::from_secs(3600));
            assert_eq!(book.due(later).0, std::slice::from_ref(&name));
            book.probed(&name);
            match still_away(Err(PlaceError { kind, ..silent(&name) })) {
                Some(error) => drop(book.failed(&error)),
                None => drop(book.well(&name)),
            }
            assert_eq!(book.due(clock::now()).0, [], "{kind:?}: it would be probed again at once");
        }
    }
}
