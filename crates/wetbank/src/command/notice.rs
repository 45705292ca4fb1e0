use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, Notice};

use crate::{
    End,
    output::{Output, table, when},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// The newest mails that carry no files, those that wait to be sent first
    List,
    /// Try to send one again now
    Retry {
        /// Its number
        notice: i64,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let notices: Vec<Notice> = client.get("/notices", &[]).await?;
            output.show(&notices, |notices| {
                let rows = notices.iter().map(|one| {
                    let state = match (&one.due, one.tries) {
                        (Some(due), 1..) => format!("waiting, next {}", when(due)),
                        _ => one.state.to_string(),
                    };
                    let why = one.why.clone().unwrap_or_default();
                    vec![
                        one.id.to_string(),
                        when(&one.queued),
                        state,
                        one.to.clone(),
                        one.subject.clone(),
                        one.rule.clone(),
                        why,
                    ]
                });
                table(&["notice", "written", "state", "to", "subject", "rule", "why"], rows.collect());
            })?;
        }
        Verb::Retry { notice } => {
            client.post_nothing(&format!("/notices/{notice}/retry"), &()).await?;
            output.said(&format!("notice {notice} is tried now"))?;
        }
    }
    Ok(End::Done)
}
