//! Signing in to a place by agreeing on its own page.

use std::{
    io::{BufRead, IsTerminal, Write},
    time::Duration,
};

use anyhow::Result;
use wetbank_client::{BeginSignIn, Client, SignInBegun, SignInOffer, TestPlace, segment};

use super::{WrongRequest, place};
use crate::{
    End,
    output::{Output, line},
};

/// How often is asked whether somebody answered.
const ASK_EVERY: Duration = Duration::from_millis(700);

pub(super) async fn run(name: &str, yes: bool, client: &Client, output: Output) -> Result<End> {
    let path = format!("/places/{}/sign-in", segment(name));
    let offer: SignInOffer = client.get(&path, &[]).await?;
    // Shown beside what programs read.
    eprintln!("Wetbank asks {} (as \"{}\") for the right to:", offer.server, offer.client);
    for right in &offer.rights {
        match &right.meaning {
            Some(meaning) => eprintln!("  {meaning}  ({})", right.right),
            None => eprintln!("  {}", right.right),
        }
    }
    if offer.rights.is_empty() {
        eprintln!("  whatever the server gives without being asked");
    }
    if !yes && !agrees()? {
        return Err(WrongRequest("nothing was begun".to_owned()).into());
    }
    let begun: SignInBegun = client.post(&path, &BeginSignIn { by_code: true }).await?;
    eprintln!("Open {}", begun.page);
    if let Some(code) = &begun.code {
        eprintln!("and type the code {code}, if it is not there already. Waiting…");
    }
    loop {
        tokio::time::sleep(ASK_EVERY).await;
        let now: SignInOffer = client.get(&path, &[]).await?;
        match now.state.as_str() {
            "waiting" => {}
            "agreed" => {
                eprintln!("Signed in.");
                let missing: Vec<_> = match &now.granted {
                    Some(granted) => offer.rights.iter().filter(|asked| !granted.contains(&asked.right)).collect(),
                    None => Vec::new(),
                };
                for right in missing {
                    eprintln!("The right \"{}\" was not given.", right.right);
                }
                return place::test(name, TestPlace::default(), client, output).await;
            }
            _ => {
                line(now.why.as_deref().unwrap_or("nobody signed in"));
                return Ok(End::Failed);
            }
        }
    }
}

fn agrees() -> Result<bool> {
    if !std::io::stdin().is_terminal() {
        return Err(WrongRequest("nobody is there to be asked; look at the rights and add --yes".to_owned()).into());
    }
    eprint!("Go on? [y/N] ");
    std::io::stderr().flush()?;
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer)?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}
