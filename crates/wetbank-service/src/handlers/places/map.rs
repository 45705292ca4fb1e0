//! What is shown of places.

use jiff::Timestamp;
use wetbank_client as api;
use wetbank_engine::PlaceStatus;
use wetbank_journal::PlaceState;
use wetbank_places::{Entry, EntryKind, ProbeStep};

use crate::{
    error::ApiError,
    shown::{known, time},
};

pub(crate) fn state_of(place: &PlaceStatus) -> api::PlaceState {
    match (&place.error, place.at) {
        (Some(_), _) => api::PlaceState::Away,
        (None, Some(_)) => api::PlaceState::Well,
        (None, None) => api::PlaceState::Unknown,
    }
}

pub(crate) fn place(place: PlaceStatus) -> api::Place {
    let state = state_of(&place);
    api::Place {
        name: place.name.to_string(),
        kind: place.spec.kind().as_str().to_owned(),
        address: place.spec.address(),
        text: place.text,
        state,
        remedy: place.error.as_ref().map(wetbank_places::PlaceError::remedy),
        error: place.error.map(|e| e.to_string()),
        at: place.at.map(time),
        since: place.since.map(time),
        again: place.again.map(time),
        rules: place.rules.iter().map(ToString::to_string).collect(),
        twins: place.twins.iter().map(ToString::to_string).collect(),
        agreed: place.spec.agreed().is_some(),
    }
}

/// Spans without gaps; before the first record nothing is known.
pub(crate) fn place_day(states: Vec<PlaceState>, from: Timestamp, to: Timestamp) -> Result<api::PlaceDay, ApiError> {
    let mut spans: Vec<api::PlaceSpan> = Vec::new();
    let first = states.first().map_or(to, |state| state.at);
    if first > from {
        spans.push(api::PlaceSpan { from: time(from), to: time(first), state: api::PlaceState::Unknown, why: None });
    }
    let ends: Vec<Timestamp> = states.iter().skip(1).map(|state| state.at).chain([to]).collect();
    for (state, end) in states.into_iter().zip(ends) {
        let begin = time(state.at.max(from));
        spans.push(api::PlaceSpan {
            from: begin,
            to: time(end),
            state: known(api::PlaceState::parse, &state.state)?,
            why: state.why,
        });
    }
    Ok(api::PlaceDay { from: time(from), to: time(to), spans })
}

pub(crate) fn test_step(step: ProbeStep) -> api::TestStep {
    let (fine, said, remedy) = match step.outcome {
        Ok(said) => (true, said, None),
        Err(error) => (false, error.to_string(), Some(error.remedy())),
    };
    api::TestStep { what: step.what.to_owned(), fine, took_ms: step.took.as_secs_f64() * 1000.0, said, remedy }
}

/// A step of a test of what is still being typed: what to do is to type something else.
pub(crate) fn tried_step(step: ProbeStep) -> api::TestStep {
    let nameless = step.outcome.as_ref().err().map(wetbank_places::PlaceError::nameless);
    let told = test_step(step);
    api::TestStep { said: nameless.unwrap_or(told.said), remedy: None, ..told }
}

pub(crate) fn entry(place: &str, entry: Entry) -> api::Entry {
    api::Entry {
        name: entry.path.name_text(),
        path: format!("{place}:/{}", entry.path),
        kind: match entry.kind {
            EntryKind::File => api::EntryKind::File,
            EntryKind::Folder => api::EntryKind::Folder,
            EntryKind::Link => api::EntryKind::Link,
            EntryKind::Other => api::EntryKind::Other,
            EntryKind::Misnamed => api::EntryKind::Misnamed,
        },
        size: entry.fingerprint.size,
        modified: (entry.fingerprint.modified != 0).then(|| time(entry.fingerprint.modified_at())),
        who: entry.owner,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_places_day_has_no_gap_and_begins_with_what_was_so_before() {
        let at = |text: &str| format!("2026-03-{text}:00Z").parse::<Timestamp>().expect("a time");
        let state = |text: &str, state: &str| PlaceState { at: at(text), state: state.to_owned(), why: None };
        let told = |states: Vec<PlaceState>| -> Vec<(String, String)> {
            let day = place_day(states, at("13T12:00"), at("14T12:00")).expect("known words");
            for pair in day.spans.windows(2) {
                assert_eq!(pair[0].to, pair[1].from);
            }
            assert_eq!((&day.spans[0].from, &day.spans[day.spans.len() - 1].to), (&day.from, &day.to));
            day.spans.into_iter().map(|span| (span.state.to_string(), span.from[8..16].to_owned())).collect()
        };
        let span = |state: &str, from: &str| (state.to_owned(), from.to_owned());
        assert_eq!(told(Vec::new()), [span("unknown", "13T12:00")]);
        assert_eq!(
            told(vec![state("10T00:00", "well"), state("14T06:00", "away"), state("14T06:10", "well")]),
            [span("well", "13T12:00"), span("away", "14T06:00"), span("well", "14T06:10")]
        );
        assert_eq!(told(vec![state("14T06:00", "well")]), [span("unknown", "13T12:00"), span("well", "14T06:00")]);
    }
}
