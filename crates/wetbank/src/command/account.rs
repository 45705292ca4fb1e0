use std::io::Read;

use anyhow::{Context, Result, bail};
use clap::Subcommand;
use wetbank_client::{Account, Client, Exchange, OncePassword, SetAccountPassword, Visit, segment};

use crate::{
    End,
    output::{Output, line, table, when, when_ever},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Accounts: whose, where, what each may do, who is here
    List,
    /// One account with its folders and keys
    Show {
        /// Its name
        account: String,
    },
    /// Make a password that counts once and print it, once; or take one from standard input
    Password {
        /// The account
        account: String,
        /// Read the password from standard input; it stays until it is changed
        #[arg(long, conflicts_with = "remove")]
        stdin: bool,
        /// Take the password away
        #[arg(long)]
        remove: bool,
    },
    /// Who came, by what, from where, newest first
    Visits {
        /// Only of this account
        account: Option<String>,
    },
    /// Send a guest away
    End {
        /// The number of the visit
        visit: i64,
    },
    /// What was handed in, collected and removed, newest first
    Exchanged {
        /// Only of this account
        account: Option<String>,
        /// Only what was handed-in, collected or removed
        #[arg(long, value_parser = ["handed-in", "collected", "removed"])]
        what: Option<String>,
        /// Only of this file, as in office:/out/report.pdf: did they fetch it?
        #[arg(long, conflicts_with_all = ["account", "what"])]
        file: Option<String>,
    },
}

fn show(account: &Account) {
    line(format!("{}, {} of partner {}", account.name, account.title, account.partner));
    line(format!("root {}", account.root));
    let rows = account.folders.iter().map(|one| {
        let folder = if one.folder.is_empty() { "(root)".to_owned() } else { one.folder.clone() };
        vec![folder, one.may.clone(), if one.removes { "and remove" } else { "" }.to_owned()]
    });
    table(&["folder", "may", ""], rows.collect());
    for key in &account.keys {
        line(format!("key {} {} {}", key.kind, key.fingerprint, key.comment));
    }
    match (&account.has, account.password) {
        (Some(has), true) => {
            let once = if has.once { ", counts once" } else { "" };
            let locked =
                has.locked.as_ref().map_or_else(String::new, |until| format!(", locked until {}", when(until)));
            line(format!("password of {}{once}{locked}", when(&has.made)));
        }
        (None, true) => line(format!("no password yet; make one with: wetbank account password {}", account.name)),
        (_, false) => line("signs in with keys only"),
    }
    if let Some(until) = &account.until {
        line(format!("good until {until}"));
    }
    if !account.from.is_empty() {
        line(format!("only from {}", account.from.join(", ")));
    }
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let accounts: Vec<Account> = client.get("/accounts", &[]).await?;
            output.show(&accounts, |accounts| {
                let rows = accounts.iter().map(|one| {
                    let may = one.folders.iter().map(|folder| match folder.folder.as_str() {
                        "" => folder.may.clone(),
                        name => format!("{name}: {}", folder.may),
                    });
                    let may = may.collect::<Vec<_>>().join(", ");
                    let here = if one.here == 0 { String::new() } else { one.here.to_string() };
                    vec![
                        one.name.clone(),
                        one.partner.clone(),
                        one.root.clone(),
                        may,
                        here,
                        when_ever(one.seen.as_ref()),
                    ]
                });
                table(&["account", "partner", "root", "may", "here", "last came"], rows.collect());
            })?;
        }
        Verb::Show { account } => {
            let account: Account = client.get(&format!("/accounts/{}", segment(&account)), &[]).await?;
            output.show(&account, show)?;
        }
        Verb::Password { account, remove: true, .. } => {
            client.delete(&format!("/accounts/{}/password", segment(&account))).await?;
            output.said(&format!("the password of {account} is gone"))?;
        }
        Verb::Password { account, stdin, .. } => {
            let password = stdin.then(typed).transpose()?;
            let path = format!("/accounts/{}/password", segment(&account));
            let made: OncePassword = client.put(&path, &SetAccountPassword { password }).await?;
            output.show(&made, |made| match &made.password {
                Some(password) => {
                    line(password);
                    eprintln!("it counts once and is not told again: whoever signs in with it chooses another one");
                }
                None => line(format!("the password of {account} is set")),
            })?;
        }
        Verb::Visits { account } => {
            let query: Vec<_> = account.into_iter().map(|account| ("account", account)).collect();
            let visits: Vec<Visit> = client.get("/visits", &query).await?;
            output.show(&visits, |visits| {
                let rows = visits.iter().map(|one| {
                    let ended = one.ended.as_ref().map_or_else(|| "here".to_owned(), |at| when(at));
                    let (account, way) = (one.account.clone(), one.way.clone());
                    vec![
                        one.id.to_string(),
                        account,
                        way,
                        one.how.clone(),
                        one.address.clone(),
                        when(&one.began),
                        ended,
                    ]
                });
                table(&["visit", "account", "by", "with", "from", "since", "until"], rows.collect());
            })?;
        }
        Verb::End { visit } => {
            client.delete(&format!("/visits/{visit}")).await?;
            output.said(&format!("visit {visit} ended"))?;
        }
        Verb::Exchanged { account, what, file } => {
            let mut query: Vec<_> = account.into_iter().map(|account| ("account", account)).collect();
            query.extend(what.into_iter().map(|what| ("what", what)));
            query.extend(file.into_iter().map(|file| ("file", file)));
            let all: Vec<Exchange> = client.get("/exchanges", &query).await?;
            output.show(&all, |all| {
                let rows = all.iter().map(|one| {
                    let items = one.items.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                    let sum = one.blake3.as_deref().map_or_else(String::new, |sum| sum.chars().take(16).collect());
                    vec![
                        when(&one.at),
                        one.account.clone(),
                        one.what.clone(),
                        one.seen.clone(),
                        one.size.to_string(),
                        sum,
                        items,
                    ]
                });
                table(&["at", "account", "", "file", "bytes", "BLAKE3", "items"], rows.collect());
            })?;
        }
    }
    Ok(End::Done)
}

fn typed() -> Result<String> {
    let mut text = String::new();
    std::io::stdin().lock().read_to_string(&mut text).context("the password cannot be read from standard input")?;
    let text = text.trim_end_matches(['\r', '\n']);
    if text.is_empty() {
        bail!("no password came on standard input");
    }
    Ok(text.to_owned())
}
