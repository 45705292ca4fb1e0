use std::path::PathBuf;

use anyhow::{Context, Result};
use base64::{Engine as _, prelude::BASE64_STANDARD};
use clap::Subcommand;
use wetbank_client::{Client, ImportKey, Key, segment};

use super::read_secret;
use crate::{
    End,
    output::{Output, line, table, when_ever},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Every key, whom it names, what it is fit for
    List,
    /// Import a key, or bring one up to date
    Import {
        /// The name that rules use
        key: String,
        /// The exported key, armoured
        file: PathBuf,
        /// Ask for the passphrase that opens its secret part (or read it from standard input)
        #[arg(long)]
        passphrase: bool,
    },
    /// Print a key, armoured: what partners need
    Export {
        /// Its name
        key: String,
        /// With the secret part, still under its passphrase
        #[arg(long)]
        secret: bool,
    },
    /// Remove a key
    Remove {
        /// Its name
        key: String,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let keys: Vec<Key> = client.get("/keys", &[]).await?;
            output.show(&keys, |keys| {
                let rows = keys.iter().map(|k| {
                    let fit = k.unfit.clone().unwrap_or_else(|| format!("fit, ends {}", when_ever(k.expires.as_ref())));
                    let ours = if k.has_secret { "ours" } else { "theirs" };
                    vec![k.name.clone(), ours.to_owned(), k.users.join(", "), fit, k.fingerprint.clone()]
                });
                table(&["key", "", "names", "for encryption", "fingerprint"], rows.collect());
            })?;
        }
        Verb::Import { key, file, passphrase } => {
            let export = std::fs::read(&file).with_context(|| format!("{} cannot be read", file.display()))?;
            // Without armour it is no text.
            let (text, base64) = match String::from_utf8(export) {
                Ok(text) => (text, None),
                Err(bytes) => (String::new(), Some(BASE64_STANDARD.encode(bytes.as_bytes()))),
            };
            let passphrase = if passphrase { Some(read_secret("Passphrase")?) } else { None };
            let key: Key =
                client.put(&format!("/keys/{}", segment(&key)), &ImportKey { text, base64, passphrase }).await?;
            output.show(&key, |key| {
                line(format!("key {} imported: {} {}", key.name, key.fingerprint, key.users.join(", ")))
            })?;
            if let Some(unfit) = key.unfit {
                eprintln!("warning: one cannot encrypt to it: {unfit}");
            }
        }
        Verb::Export { key, secret } => {
            let text = client.get_text(&format!("/keys/{}", segment(&key)), &[("secret", secret.to_string())]).await?;
            line(text.trim_end());
        }
        Verb::Remove { key } => {
            client.delete(&format!("/keys/{}", segment(&key))).await?;
            output.said(&format!("key {key} removed"))?;
        }
    }
    Ok(End::Done)
}
