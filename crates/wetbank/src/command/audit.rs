use anyhow::Result;
use wetbank_client::{AuditEntry, AuditPage, Client};

use crate::{
    End,
    output::{Output, table, when},
};

#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only what this one asked for
    #[arg(long)]
    who: Option<String>,
    /// Only what is older than this entry
    #[arg(long, value_name = "ENTRY")]
    before: Option<i64>,
    /// At most so many
    #[arg(long, default_value_t = 50)]
    limit: u32,
}

/// What came of it, for people.
fn outcome(entry: &AuditEntry) -> String {
    match entry.outcome {
        Some(200..300) => "done".to_owned(),
        Some(403) => "refused".to_owned(),
        Some(status) => format!("not done ({status})"),
        None => "not known".to_owned(),
    }
}

/// What it is about, and what of it is worth telling.
fn about(entry: &AuditEntry) -> String {
    match &entry.note {
        Some(note) => format!("{} ({note})", entry.about),
        None => entry.about.clone(),
    }
}

pub(crate) async fn run(args: Args, client: &Client, output: Output) -> Result<End> {
    let mut query = vec![("limit", args.limit.to_string())];
    query.extend(args.who.map(|who| ("who", who)));
    query.extend(args.before.map(|before| ("before", before.to_string())));
    let page: AuditPage = client.get("/audit", &query).await?;
    output.show(&page, |page| {
        let rows = page.entries.iter().map(|entry| {
            let (who, from) = (entry.who.clone(), entry.address.clone());
            vec![entry.id.to_string(), when(&entry.at), who, from, entry.what.clone(), about(entry), outcome(entry)]
        });
        table(&["entry", "at", "who", "from", "what", "of", "outcome"], rows.collect());
        if let Some(next) = page.next {
            eprintln!("there is more: wetbank audit --before {next}");
        }
    })?;
    Ok(End::Done)
}
