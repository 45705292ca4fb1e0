use anyhow::Result;
use wetbank_client::{Attempt, Client, Traced, Traces};

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
        if traces.items.is_empty() {
            line("No file with such a name or checksum was ever taken.");
        }
        for one in &traces.items {
            let taken = format!("taken {} by {}", when(&one.taken), one.title);
            line(format!("{} ({}), {taken}: {}", one.file, size(one.size), state(one)));
            show(one, "  ");
        }
    })?;
    Ok(End::Done)
}

fn state(one: &Traced) -> String {
    let why = one.why.as_ref().map(|w| format!(" — {w}")).unwrap_or_default();
    format!("{}{why}", one.state)
}

/// What was done with a file, and what was made of it, further in.
fn show(one: &Traced, indent: &str) {
    one.hops.iter().for_each(|hop| line(format!("{indent}{}", done(hop))));
    for made in &one.made {
        line(format!("{indent}went into {} ({}): {}", made.file, size(made.size), state(made)));
        show(made, &format!("{indent}  "));
    }
    if one.more {
        line(format!("{indent}and into more; each is found by its own name"));
    }
}

fn done(hop: &Attempt) -> String {
    let what = match (&hop.target, hop.removed) {
        (Some(target), true) => format!("removed {target}"),
        (Some(target), false) => format!("{} → {target}", hop.outcome),
        (None, _) => hop.outcome.to_string(),
    };
    let sum = hop.sha256.as_ref().map(|s| format!("  sha-256 {s}")).unwrap_or_default();
    format!("{} {} {what}{sum}", when(&hop.began), hop.kind)
}
