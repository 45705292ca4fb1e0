use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, Dismiss, HoldPage};

use crate::{
    End,
    output::{Output, line, table, when},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// What waits for a person, newest first
    List {
        /// Only holds of items older than this one
        #[arg(long, value_name = "ITEM")]
        before: Option<i64>,
    },
    /// Let held files go on from where they stopped
    Release {
        /// Item numbers
        #[arg(required = true)]
        items: Vec<i64>,
    },
    /// Give held files up
    Dismiss {
        /// Item numbers
        #[arg(required = true)]
        items: Vec<i64>,
        /// Why; it is kept with the file's history
        #[arg(long)]
        why: String,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List { before } => {
            let query: Vec<_> = before.map(|before| ("before", before.to_string())).into_iter().collect();
            let page: HoldPage = client.get("/holds", &query).await?;
            output.show(&page, |page| {
                if page.holds.is_empty() {
                    line("Nothing waits for you.");
                    return;
                }
                let rows = page.holds.iter().map(|h| {
                    vec![
                        h.item.to_string(),
                        when(&h.since),
                        h.file.clone(),
                        format!("{} › {}", h.title, h.step),
                        h.why.clone(),
                        h.remedy.clone(),
                    ]
                });
                table(&["item", "since", "file", "rule › step", "why", "what to do"], rows.collect());
                if let Some(next) = page.next {
                    eprintln!("older ones: --before {next}");
                }
            })?;
        }
        Verb::Release { items } => {
            for item in &items {
                client.post_nothing(&format!("/holds/{item}/release"), &()).await?;
            }
            output.said(&format!("released: {}", join(&items)))?;
        }
        Verb::Dismiss { items, why } => {
            for item in &items {
                client.post_nothing(&format!("/holds/{item}/dismiss"), &Dismiss { why: why.clone() }).await?;
            }
            output.said(&format!("dismissed: {}", join(&items)))?;
        }
    }
    Ok(End::Done)
}

fn join(items: &[i64]) -> String {
    items.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}
