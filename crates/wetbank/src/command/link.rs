use anyhow::Result;
use wetbank_client::{Client, NewLink};

use crate::{
    End,
    output::{Output, line, when},
};

/// The link on standard output; what is to be known of it beside.
pub(super) fn show(made: &NewLink, output: Output) -> Result<()> {
    output.show(made, |made| {
        line(&made.address);
        eprintln!("it opens once, until {}", when(&made.until));
    })
}

pub(crate) async fn run(client: &Client, output: Output) -> Result<End> {
    show(&client.post("/links", &()).await?, output)?;
    Ok(End::Done)
}
