//! Days off from a calendar file (iCalendar, RFC 5545).

use icalendar::Component;
use jiff::{ToSpan, civil::Date};

/// Years for which days that come back each year are written down.
const YEARS: i16 = 10;
/// A longer absence is no day off.
const LONGEST: i32 = 62;

/// Days off as a calendar file has them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DaysOff {
    /// First and last day of each, in order, none twice.
    pub spans: Vec<(Date, Date)>,
    /// Events that were left out, each with the reason.
    pub left_out: Vec<String>,
}

/// Reads whole-day events from the year of `today` on. Those that come back each year are
/// written down for the next ten.
pub fn days_off(text: &str, today: Date) -> Result<DaysOff, String> {
    let calendar: icalendar::Calendar = text
        .parse()
        .map_err(|_| "this is no calendar file (iCalendar, its first line is BEGIN:VCALENDAR)".to_owned())?;
    let mut days = DaysOff::default();
    for event in calendar.components.iter().filter_map(|component| component.as_event()) {
        let title = event.get_summary().unwrap_or("an event without a title").to_owned();
        if event.property_value("STATUS") == Some("CANCELLED") {
            continue;
        }
        match spans(event, today) {
            Ok(spans) => days.spans.extend(spans),
            Err(why) => days.left_out.push(format!("{title}: {why}")),
        }
    }
    days.spans.retain(|(_, last)| last.year() >= today.year());
    days.spans.sort();
    days.spans.dedup();
    Ok(days)
}

/// A date without a time.
fn date(value: Option<&str>) -> Result<Option<Date>, String> {
    let Some(value) = value else { return Ok(None) };
    if value.len() != 8 {
        return Err("it is about hours, not whole days".to_owned());
    }
    Date::strptime("%Y%m%d", value).map(Some).map_err(|_| format!("\"{value}\" is no date"))
}

fn spans(event: &icalendar::Event, today: Date) -> Result<Vec<(Date, Date)>, String> {
    let first = date(event.property_value("DTSTART"))?.ok_or("it has no first day")?;
    // The end is the day after the last one; without it an event is one day long.
    let last = match date(event.property_value("DTEND"))? {
        Some(end) if end > first => end.yesterday().map_err(|e| e.to_string())?,
        Some(_) => return Err("it ends before it begins".to_owned()),
        None => first,
    };
    let length = (last - first).get_days();
    if length > LONGEST {
        return Err(format!("it is {} days long", length + 1));
    }
    let Some(rule) = event.property_value("RRULE") else { return Ok(vec![(first, last)]) };
    let until = yearly(rule, first)?;
    let years = first.year().max(today.year())..=today.year() + YEARS;
    Ok(years
        // On 29 February only in years that have one.
        .filter_map(|year| Date::new(year, first.month(), first.day()).ok())
        .filter(|day| until.is_none_or(|until| *day <= until))
        .filter_map(|day| Some((day, day.checked_add(length.days()).ok()?)))
        .collect())
}

/// Whether an event comes back each year on its day, and until when.
fn yearly(rule: &str, first: Date) -> Result<Option<Date>, String> {
    let mut until = None;
    for part in rule.split(';') {
        let (key, value) = part.split_once('=').unwrap_or((part, ""));
        let fits = match key {
            "FREQ" => value == "YEARLY",
            "INTERVAL" => value == "1",
            "BYMONTH" => value.parse() == Ok(first.month()),
            "BYMONTHDAY" => value.parse() == Ok(first.day()),
            "WKST" => true,
            "UNTIL" => {
                until = date(value.get(..8))?;
                true
            }
            _ => false,
        };
        if !fits {
            return Err(format!(
                "it comes back in another way than each year on its day ({rule}); write its days down"
            ));
        }
    }
    Ok(until)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(events: &str) -> DaysOff {
        let text = format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Merrow//Days//EN\r\n{events}END:VCALENDAR\r\n");
        days_off(&text, "2026-11-24".parse().unwrap()).unwrap()
    }

    fn event(lines: &str) -> String {
        format!("BEGIN:VEVENT\r\nUID:{}\r\n{}\r\nEND:VEVENT\r\n", lines.len(), lines.replace('\n', "\r\n"))
    }

    fn told(days: &DaysOff) -> Vec<String> {
        days.spans.iter().map(|(first, last)| format!("{first}..{last}")).collect()
    }

    #[test]
    fn whole_days_are_read_and_their_end_is_the_day_before_the_one_written() {
        let days = read(
            &[
                event("SUMMARY:Christmas\nDTSTART;VALUE=DATE:20261225\nDTEND;VALUE=DATE:20261227"),
                event("SUMMARY:Founders\\, all day\nDTSTART;VALUE=DATE:20261203"),
                event("SUMMARY:Long past\nDTSTART;VALUE=DATE:20190501\nDTEND;VALUE=DATE:20190502"),
                event("SUMMARY:Called off\nSTATUS:CANCELLED\nDTSTART;VALUE=DATE:20261210"),
            ]
            .concat(),
        );
        assert_eq!(told(&days), ["2026-12-03..2026-12-03", "2026-12-25..2026-12-26"]);
        assert!(days.left_out.is_empty(), "{:?}", days.left_out);
    }

    #[test]
    fn what_comes_back_each_year_is_written_down_for_years() {
        let days = read(&event(
            "SUMMARY:Labour\nDTSTART;VALUE=DATE:20100501\nRRULE:FREQ=YEARLY;BYMONTH=5;BYMONTHDAY=1;UNTIL=20290101",
        ));
        assert_eq!(told(&days), ["2026-05-01..2026-05-01", "2027-05-01..2027-05-01", "2028-05-01..2028-05-01"]);
        let leap = read(&event("SUMMARY:Leap\nDTSTART;VALUE=DATE:20240229\nRRULE:FREQ=YEARLY"));
        assert_eq!(told(&leap), ["2028-02-29..2028-02-29", "2032-02-29..2032-02-29", "2036-02-29..2036-02-29"]);
    }

    #[test]
    fn what_is_not_understood_is_named_and_left_out() {
        let days = read(
            &[
                event("SUMMARY:Meeting\nDTSTART:20261201T090000Z\nDTEND:20261201T100000Z"),
                event("SUMMARY:Thanksgiving\nDTSTART;VALUE=DATE:20261126\nRRULE:FREQ=YEARLY;BYMONTH=11;BYDAY=4TH"),
                event("SUMMARY:Sabbatical\nDTSTART;VALUE=DATE:20260101\nDTEND;VALUE=DATE:20261231"),
                event("SUMMARY:Backwards\nDTSTART;VALUE=DATE:20261202\nDTEND;VALUE=DATE:20261201"),
            ]
            .concat(),
        );
        assert!(days.spans.is_empty());
        let starts = [
            "Meeting: it is about hours",
            "Thanksgiving: it comes back",
            "Sabbatical: it is 364",
            "Backwards: it ends",
        ];
        for (said, start) in days.left_out.iter().zip(starts) {
            assert!(said.starts_with(start), "{said}");
        }
        assert_eq!(days.left_out.len(), 4);
        for text in ["", "plain text", "BEGIN:VCALENDAR"] {
            assert!(
                days_off(text, "2026-11-24".parse().unwrap()).is_ok_and(|days| days.spans.is_empty())
                    || days_off(text, "2026-11-24".parse().unwrap()).is_err()
            );
        }
    }
}
