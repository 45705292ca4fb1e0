use std::path::PathBuf;

use anyhow::{Context, Result};
use clap::Subcommand;
use wetbank_client::{Calendar, CalendarFile, Client, DaySpan, ImportedDays, segment};

use super::WrongRequest;
use crate::{
    End,
    output::{Output, line, table},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Every calendar, and the rules that use it
    List,
    /// One calendar with its days off
    Show {
        /// Its name
        calendar: String,
    },
    /// Add the days off of a calendar file (iCalendar); a calendar that is not there is made
    Import {
        /// Its name
        calendar: String,
        /// The file
        file: PathBuf,
    },
    /// Remove a calendar that no rule uses
    Remove {
        /// Its name
        calendar: String,
    },
}

fn days(span: &DaySpan) -> String {
    if span.first == span.last { span.first.clone() } else { format!("{} to {}", span.first, span.last) }
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let calendars: Vec<Calendar> = client.get("/calendars", &[]).await?;
            output.show(&calendars, |calendars| {
                let rows = calendars.iter().map(|calendar| {
                    let (week, off) = (calendar.week.join(" "), calendar.off.len().to_string());
                    vec![calendar.name.clone(), calendar.title.clone(), week, off, calendar.rules.join(", ")]
                });
                table(&["calendar", "title", "worked", "days off", "used by"], rows.collect());
            })?;
        }
        Verb::Show { calendar } => {
            let calendars: Vec<Calendar> = client.get("/calendars", &[]).await?;
            let found = calendars.into_iter().find(|one| one.name == calendar);
            let found = found.ok_or_else(|| WrongRequest(format!("there is no calendar \"{calendar}\"")))?;
            output.show(&found, |calendar| {
                line(format!("{} ({}): {}", calendar.title, calendar.name, calendar.week.join(" ")));
                calendar.off.iter().for_each(|span| line(format!("  off {}", days(span))));
            })?;
        }
        Verb::Import { calendar, file } => {
            let text = std::fs::read_to_string(&file)
                .with_context(|| format!("{} cannot be read as a calendar file", file.display()))?;
            let path = format!("/calendars/{}/days-off", segment(&calendar));
            let done: ImportedDays = client.post(&path, &CalendarFile { text }).await?;
            output.show(&done, |done| {
                line(format!("calendar {calendar}: {} days or spans off are new", done.added));
                done.left_out.iter().for_each(|event| eprintln!("left out: {event}"));
            })?;
        }
        Verb::Remove { calendar } => {
            client.delete(&format!("/book/calendar/{}", segment(&calendar))).await?;
            output.said(&format!("calendar {calendar} removed"))?;
        }
    }
    Ok(End::Done)
}
