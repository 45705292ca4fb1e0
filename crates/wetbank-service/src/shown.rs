//! What several nouns show alike: times, titles, warnings.

use jiff::{Timestamp, tz::TimeZone};
use wetbank_client as api;
use wetbank_core::{BY_HAND, Name};
use wetbank_engine::{Arrangement, Warning};

use crate::error::ApiError;

/// What a word of the record means. One that there is not is no other word: the record is broken.
pub(crate) fn known<T>(parse: impl Fn(&str) -> Option<T>, word: &str) -> Result<T, ApiError> {
    parse(word).ok_or_else(|| ApiError::internal(&format!("the record has the unknown word \"{word}\"")))
}

pub(crate) fn item_state(state: wetbank_core::ItemState) -> api::ItemState {
    api::ItemState::parse(state.as_str()).expect("the same words")
}

pub(crate) fn item_kind(kind: wetbank_core::ItemKind) -> api::ItemKind {
    api::ItemKind::parse(kind.as_str()).expect("the same words")
}

pub(crate) fn time(at: Timestamp) -> String {
    at.to_string()
}

/// The start of the day that is now in the machine's zone.
pub(crate) fn midnight(now: Timestamp) -> Timestamp {
    now.to_zoned(TimeZone::system()).start_of_day().map_or(now, |start| start.timestamp())
}

pub(crate) fn title(arrangement: &Arrangement, rule: &str) -> String {
    if let Some(live) = arrangement.rules.iter().find(|live| live.rule.name.as_str() == rule) {
        return live.rule.title.clone();
    }
    let twin = Name::new(rule).ok().and_then(|rule| arrangement.twin_of(&rule));
    match twin {
        Some(live) => live.twin.title.clone(),
        None if rule == BY_HAND => "By hand".to_owned(),
        None => rule.to_owned(),
    }
}

/// The branch that an item follows, if its rule is still the one that it follows.
pub(crate) fn branch<'a>(
    arrangement: &'a Arrangement,
    (rule, version): (&str, i64),
    branch: Option<i64>,
) -> Option<&'a wetbank_core::Branch> {
    let at = usize::try_from(branch?).ok()?;
    let Some(live) = arrangement.rules.iter().find(|live| live.rule.name.as_str() == rule) else {
        return arrangement.twin_of(&Name::new(rule).ok()?)?.rule.branches.get(at);
    };
    if live.version != version {
        return None;
    }
    live.rule.branches.get(at)
}

pub(crate) fn warning(warning: Warning) -> api::Warning {
    api::Warning {
        what: warning.what,
        until: warning.until.map(time),
        days: warning.days,
        partner: warning.partner.map(|partner| partner.to_string()),
        remedy: warning.remedy,
    }
}

#[cfg(test)]
mod tests {
    use wetbank_core::{Cause, IfExists, ItemKind, ItemState};

    use super::*;

    #[test]
    fn the_api_has_every_word_of_the_domain() {
        for state in ItemState::ALL {
            assert_eq!(item_state(state).as_str(), state.as_str());
        }
        for kind in [ItemKind::File, ItemKind::Find, ItemKind::Made, ItemKind::Part] {
            assert_eq!(item_kind(kind).as_str(), kind.as_str());
        }
        for cause in [Cause::Arrival, Cause::Hand, Cause::Schedule, Cause::Chain, Cause::Signal, Cause::Mail] {
            assert_eq!(api::Cause::parse(cause.as_str()).unwrap().as_str(), cause.as_str());
        }
        for exists in [IfExists::Refuse, IfExists::Replace, IfExists::KeepBoth, IfExists::SkipSame] {
            let word = serde_json::to_value(exists).unwrap();
            assert!(api::IfExists::parse(word.as_str().unwrap()).is_some(), "{word}");
        }
    }

    #[test]
    fn a_word_that_there_is_not_is_no_other_word() {
        assert!(known(api::RunState::parse, "done").is_ok());
        assert!(known(api::RunState::parse, "finished").is_err());
    }
}
