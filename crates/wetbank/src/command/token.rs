use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{ApiToken, Client, MadeToken, MakeToken, segment};

use super::RoleWord;
use crate::{
    End,
    output::{Output, line, table, when_ever},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Tokens: names, rights, until when, last use; what they are is told once only
    List,
    /// Make a token for a program and print it, once
    Add {
        /// Its name
        token: String,
        /// What it may do at most
        #[arg(long, value_enum)]
        role: RoleWord,
        /// It counts so many days; for ever if it is not said
        #[arg(long)]
        days: Option<u16>,
    },
    /// Remove a token; it counts no more at once
    Remove {
        /// Its name
        token: String,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let tokens: Vec<ApiToken> = client.get("/tokens", &[]).await?;
            output.show(&tokens, |tokens| {
                let rows = tokens.iter().map(|token| {
                    vec![
                        token.name.clone(),
                        token.user.clone().unwrap_or_else(|| "a program".to_owned()),
                        super::role_word(token.role).to_owned(),
                        token.maker.clone(),
                        when_ever(token.ends.as_ref()),
                        when_ever(token.used.as_ref()),
                    ]
                });
                table(&["token", "of", "role", "made by", "until", "last used"], rows.collect());
            })?;
        }
        Verb::Add { token, role, days } => {
            let make = MakeToken { name: token, role: role.into(), days, program: true };
            let made: MadeToken = client.post("/tokens", &make).await?;
            output.show(&made, |made| {
                line(&made.token);
                eprintln!("it is not told again; a program gives it as a bearer token, a command as WETBANK_TOKEN");
            })?;
        }
        Verb::Remove { token } => {
            client.delete(&format!("/tokens/{}", segment(&token))).await?;
            output.said(&format!("token {token} removed"))?;
        }
    }
    Ok(End::Done)
}
