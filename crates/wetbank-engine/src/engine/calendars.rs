//! Calendars: which days are worked.

use std::collections::BTreeSet;

use jiff::civil::Date;
use serde_json::{Map, Value};
use wetbank_core::{Calendar, Name, SectionKind, section_text, section_value};

use super::Engine;
use crate::{EngineError, calendar::days_off, clock};

/// A calendar and who uses it.
#[derive(Debug, Clone)]
pub struct CalendarStatus {
    /// The calendar.
    pub calendar: Calendar,
    /// Rules whose schedules count its working days.
    pub rules: Vec<Name>,
}

/// What came of an import.
#[derive(Debug, Clone)]
pub struct CalendarImport {
    /// Days off that are new, each a day or a span.
    pub added: usize,
    /// Events that were left out, each with the reason.
    pub left_out: Vec<String>,
}

fn span_text(first: Date, last: Date) -> String {
    if first == last { first.to_string() } else { format!("{first}..{last}") }
}

impl Engine {
    /// Every calendar of the book.
    pub fn calendars(&self) -> Vec<CalendarStatus> {
        let arrangement = self.core.arranged.now();
        let uses = |calendar: &Calendar| {
            let schedules = arrangement.rules.iter().filter(|live| {
                live.rule.starts.schedule.as_ref().is_some_and(|schedule| schedule.calendar.name == calendar.name)
            });
            schedules.map(|live| live.rule.name.clone()).collect()
        };
        arrangement
            .calendars
            .iter()
            .map(|calendar| CalendarStatus { calendar: calendar.clone(), rules: uses(calendar) })
            .collect()
    }

    /// Adds the days off of a calendar file to a calendar, which is made if there is none of
    /// that name. Nothing that stands in it is removed.
    pub async fn import_days_off(&self, name: &str, file: &str, who: &str) -> Result<CalendarImport, EngineError> {
        let name = Name::new(name)?;
        let days = days_off(file, clock::now().to_zoned(jiff::tz::TimeZone::system()).date());
        let days = days.map_err(EngineError::Unreadable)?;
        let turn = self.core.arranged.turn().await;
        let sections = self.core.journal.sections().await?;
        let text = sections.iter().find(|s| s.kind == "calendar" && s.name == name.as_str()).map(|s| s.text.as_str());
        let mut calendar = match text {
            Some(text) => section_value(SectionKind::Calendar, text)?.1,
            None => Map::new(),
        };
        let there = calendar.get("off").and_then(Value::as_array).cloned().unwrap_or_default();
        let mut off: BTreeSet<String> = there.iter().filter_map(|day| day.as_str().map(str::to_owned)).collect();
        let before = off.len();
        off.extend(days.spans.iter().map(|(first, last)| span_text(*first, *last)));
        let added = off.len() - before;
        calendar.insert("off".to_owned(), off.into_iter().collect());
        let text = section_text(SectionKind::Calendar, name.as_str(), text, &calendar)?;
        self.apply_in_turn(&turn, &[(format!("calendar.{name}"), text)], false, who).await?;
        Ok(CalendarImport { added, left_out: days.left_out })
    }
}
