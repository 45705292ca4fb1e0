use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, SecretName, SetSecret, segment};

use super::read_secret;
use crate::{
    End,
    output::{Output, table, when},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Names of secrets and what needs them; their values never come out again
    List,
    /// Set a secret, asked for at a prompt or read from standard input
    Set {
        /// The name that the book uses
        secret: String,
    },
    /// Remove a secret that nothing needs
    Remove {
        /// Its name
        secret: String,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let secrets: Vec<SecretName> = client.get("/secrets", &[]).await?;
            output.show(&secrets, |secrets| {
                let users = |s: &SecretName| {
                    s.needed_by.iter().map(|by| format!("{} {}", by.kind, by.name)).collect::<Vec<_>>()
                };
                let set = |s: &SecretName| s.changed.as_deref().map_or_else(|| "not set".to_owned(), when);
                let rows = secrets.iter().map(|s| vec![s.name.clone(), set(s), users(s).join(", ")]);
                table(&["secret", "set", "needed by"], rows.collect());
            })?;
        }
        Verb::Set { secret } => {
            let value = read_secret(&format!("Secret {secret}"))?;
            client.put_nothing(&format!("/secrets/{}", segment(&secret)), &SetSecret { value }).await?;
            output.said(&format!("secret {secret} set"))?;
        }
        Verb::Remove { secret } => {
            client.delete(&format!("/secrets/{}", segment(&secret))).await?;
            output.said(&format!("secret {secret} removed"))?;
        }
    }
    Ok(End::Done)
}
