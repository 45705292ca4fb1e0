use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, Session};

use crate::{
    End,
    output::{Output, table, when},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Browsers that are signed in
    List {
        /// Everybody's, not only one's own; for owners
        #[arg(long)]
        all: bool,
    },
    /// End a session
    End {
        /// Its number
        session: i64,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List { all } => {
            let sessions: Vec<Session> = client.get("/sessions", &[("all", all.to_string())]).await?;
            output.show(&sessions, |sessions| {
                let rows = sessions.iter().map(|one| {
                    let id = one.id.to_string();
                    let (who, how) = (one.who.clone(), one.how.clone());
                    vec![id, who, how, one.address.clone(), when(&one.began), when(&one.seen), one.agent.clone()]
                });
                table(&["session", "who", "by", "from", "since", "last seen", "browser"], rows.collect());
            })?;
        }
        Verb::End { session } => {
            client.delete(&format!("/sessions/{session}")).await?;
            output.said(&format!("session {session} ended"))?;
        }
    }
    Ok(End::Done)
}
