use std::io::IsTerminal;

use anyhow::{Context, Result};
use wetbank_client::{Client, ClientError, MadeToken, MakeToken, Me, Role, SignIn, segment};

use super::{WrongRequest, read_secret};
use crate::{
    End,
    connect::{self, Kept},
    output::Output,
};

/// A token that a sign-in makes counts so long.
const DAYS: u16 = 90;

#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Where the service is, such as https://files.merrow.example:8270
    url: String,
    /// One's name there; asked for if it is not said
    #[arg(long)]
    user: Option<String>,
    /// Read a token that was made there in place of name and password
    #[arg(long, conflicts_with = "user")]
    token: bool,
    /// The fingerprint of its certificate, if no authority vouches for it
    #[arg(long, value_name = "SHA256:…")]
    certificate: Option<String>,
}

fn asked(prompt: &str) -> Result<String> {
    if !std::io::stdin().is_terminal() {
        return Err(WrongRequest(format!("{prompt} is asked for at a terminal; say --user, or --token")).into());
    }
    eprint!("{prompt}: ");
    let mut text = String::new();
    std::io::stdin().read_line(&mut text)?;
    Ok(text.trim().to_owned())
}

/// What the token is called there: it tells the machine, and does not meet another one.
fn called() -> String {
    let host = std::fs::read_to_string("/etc/hostname").unwrap_or_default().to_lowercase();
    let plain: String =
        host.trim().chars().filter(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || *c == '-').collect();
    let at = jiff::Timestamp::now().strftime("%Y%m%d-%H%M%S");
    format!("login-{}-{at}", if plain.is_empty() { "elsewhere" } else { plain.get(..24).unwrap_or(&plain) })
}

/// Signs in with name and password, and has a token made, which is kept in place of them.
async fn by_password(args: &Args) -> Result<Kept> {
    let user = match &args.user {
        Some(user) => user.clone(),
        None => asked("Name")?,
    };
    let password = read_secret("Password")?;
    let client = Client::new(&args.url, "", args.certificate.as_deref())?;
    let mut sign_in = SignIn { name: Some(user), password: Some(password), ..SignIn::default() };
    let session = match client.sign_in(&sign_in).await {
        Err(ClientError::Refused(problem)) if problem.code == "second-factor" => {
            sign_in.code = Some(asked("Code of your second factor")?);
            client.sign_in(&sign_in).await?
        }
        other => other?,
    };
    let name = called();
    let made = async {
        let me: Me = session.get("/session", &[]).await?;
        // As much as she may anywhere: what that is, is looked up with each call.
        let most = me.groups.values().copied().fold(me.role, Role::max);
        let make = MakeToken { name: name.clone(), role: most, days: Some(DAYS), program: false };
        session.post::<_, MadeToken>("/tokens", &make).await
    };
    let made = made.await;
    session.delete("/session").await?;
    Ok(Kept { url: args.url.clone(), token: made?.token, name: Some(name), certificate: args.certificate.clone() })
}

pub(crate) async fn run(args: Args, output: Output) -> Result<End> {
    let kept = match args.token {
        true => Kept {
            url: args.url.clone(),
            token: read_secret("Token")?,
            name: None,
            certificate: args.certificate.clone(),
        },
        false => by_password(&args).await?,
    };
    let client = Client::new(&kept.url, &kept.token, kept.certificate.as_deref())?;
    let me: Me = client.get("/session", &[]).await?;
    let file = connect::keep(&kept)?;
    let role = super::role_word(me.role);
    output.said(&format!(
        "signed in to {} as {} ({role}); the token is in {} and goes with: wetbank logout",
        kept.url,
        me.who,
        file.display()
    ))?;
    Ok(End::Done)
}

/// Forgets the token, here and there.
pub(crate) async fn logout(output: Output) -> Result<End> {
    let Some(kept) = connect::kept()? else {
        return Err(WrongRequest("nobody is signed in from here".to_owned()).into());
    };
    let client = Client::new(&kept.url, &kept.token, kept.certificate.as_deref())?;
    if let Some(name) = &kept.name {
        match client.delete(&format!("/tokens/{}", segment(name))).await {
            // It counts no more already.
            Err(ClientError::Refused(problem)) if matches!(problem.status, 401 | 404) => {}
            other => other.with_context(|| format!("the token {name} counts on; nothing was forgotten"))?,
        }
    }
    connect::forget()?;
    output.said(&format!("signed out of {}", kept.url))?;
    Ok(End::Done)
}
