use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, Reception};

use crate::{
    End,
    output::{Output, line},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Where partners reach us, and the host keys that they are told
    Show,
    /// Make other host keys, to tell partners before they are shown
    PrepareHostKeys,
    /// Show the prepared host keys from now on
    ChangeHostKeys,
}

fn show(reception: &Reception) {
    match &reception.sftp {
        Some(address) => line(format!("SFTP at {address}")),
        None => line("no SFTP: start the service with --sftp ADDRESS"),
    }
    for key in &reception.host_keys {
        let next = if key.next { " (prepared, not shown yet)" } else { "" };
        line(format!("{} {}{next}", key.kind, key.fingerprint));
        line(format!("  {}", key.line));
    }
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    let reception: Reception = match verb {
        Verb::Show => client.get("/reception", &[]).await?,
        Verb::PrepareHostKeys => client.post("/reception/host-keys", &()).await?,
        Verb::ChangeHostKeys => client.post("/reception/host-keys/change", &()).await?,
    };
    output.show(&reception, show)?;
    Ok(End::Done)
}
