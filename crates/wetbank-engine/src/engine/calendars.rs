//! Calendars: which days are worked.

use jiff::civil::Date;
use wetbank_core::{Calendar, Name};

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
        let text = sections.iter().find(|s| s.kind == "calendar" && s.name == name.as_str());
        let text = text.map_or_else(|| format!("[calendar.{name}]\n"), |section| section.text.clone());
        let mut document: toml_edit::DocumentMut =
            text.parse().map_err(|error: toml_edit::TomlError| EngineError::Unreadable(error.to_string()))?;
        let table = &mut document["calendar"][name.as_str()];
        let mut off: Vec<String> = table
            .get("off")
            .and_then(toml_edit::Item::as_array)
            .map(|off| off.iter().filter_map(|day| day.as_str().map(str::to_owned)).collect())
            .unwrap_or_default();
        off.sort();
        off.dedup();
        let before = off.len();
        off.extend(days.spans.iter().map(|(first, last)| span_text(*first, *last)));
        off.sort();
        off.dedup();
        let mut array = toml_edit::Array::new();
        for day in &off {
            array.push_formatted(toml_edit::Value::from(day.as_str()).decorated("\n  ", ""));
        }
        array.set_trailing("\n");
        array.set_trailing_comma(true);
        let added = off.len() - before;
        table["off"] = toml_edit::value(array);
        self.apply_in_turn(&turn, &[(format!("calendar.{name}"), document.to_string())], false, who).await?;
        Ok(CalendarImport { added, left_out: days.left_out })
    }
}
