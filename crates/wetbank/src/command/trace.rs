use anyhow::Result;
use wetbank_client::{Client, Traces};

use crate::{
    End,
    output::{Output, line, size, when},
};

#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Part of a file name, or the beginning of a SHA-256
    text: String,
}

pub(crate) async fn run(args: Args, client: &Client, output: Output) -> Result<End> {
    let traces: Traces = client.get("/trace", &[("text", args.text)]).await?;
    output.show(&traces, |traces| {
        if traces.found.is_empty() {
            line("No file with such a name or checksum was ever taken.");
        }
        for one in &traces.found {
            let why = one.why.as_ref().map(|w| format!(" — {w}")).unwrap_or_default();
            line(format!(
                "{} ({}), taken {} by {}: {}{why}",
                one.file,
                size(one.size),
                when(&one.taken),
                one.title,
                one.state
            ));
            for hop in &one.hops {
                let target = hop.target.as_ref().map(|t| format!(" → {t}")).unwrap_or_default();
                let sum = hop.sha256.as_ref().map(|s| format!("  sha-256 {s}")).unwrap_or_default();
                line(format!("  {} {} {}{target}{sum}", when(&hop.began), hop.kind, hop.outcome));
            }
        }
    })?;
    Ok(End::Done)
}
