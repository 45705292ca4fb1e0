use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Arrival, ArrivalsKept, Client, KeepArrivals};

use crate::{
    End,
    output::{Output, line, size, table, when, when_ever},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// The newest files that came to watched folders, taken or not
    List {
        /// Only those that came to this place
        #[arg(long)]
        place: Option<String>,
    },
    /// How much of it stays on record; with an option it is set, and what lies beyond is forgotten
    Keep {
        /// For so many days
        #[arg(long)]
        days: Option<u32>,
        /// So many files at most
        #[arg(long, value_name = "FILES")]
        most: Option<u32>,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List { place } => {
            let query: Vec<_> = place.into_iter().map(|place| ("place", place)).collect();
            let arrivals: Vec<Arrival> = client.get("/arrivals", &query).await?;
            output.show(&arrivals, |arrivals| {
                let rows = arrivals.iter().map(|one| vec![when(&one.seen), one.file.clone(), size(one.size)]);
                table(&["seen", "file", "size"], rows.collect());
            })?;
        }
        Verb::Keep { days, most } => {
            let now: ArrivalsKept = client.get("/arrivals/kept", &[]).await?;
            let kept = if days.is_some() || most.is_some() {
                let wanted = KeepArrivals { days: days.unwrap_or(now.days), most: most.unwrap_or(now.most) };
                client.put("/arrivals/kept", &wanted).await?
            } else {
                now
            };
            output.show(&kept, |kept| {
                line(format!("kept for {} days, {} files at most", kept.days, kept.most));
                line(format!("on record: {}, the oldest from {}", kept.count, when_ever(kept.since.as_ref())));
            })?;
        }
    }
    Ok(End::Done)
}
