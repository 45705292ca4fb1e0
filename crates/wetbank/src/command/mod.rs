//! The command line: one file a noun.

mod account;
mod arrival;
mod audit;
mod book;
mod calendar;
mod database;
mod hold;
mod key;
mod link;
mod login;
mod notice;
mod partner;
mod place;
mod place_keys;
mod reception;
mod rehearse;
mod rule;
mod run;
mod secret;
pub(crate) mod serve;
mod session;
mod sign_in;
mod status;
mod token;
mod trace;
mod twin;
mod user;

use std::{io::Read, path::PathBuf};

use anyhow::Result;
use clap::{CommandFactory, Parser, Subcommand, ValueEnum};
use wetbank_client::Role;

use crate::{End, connect, demo, output::Output};

/// The request makes no sense; exit status 2.
#[derive(Debug)]
pub(crate) struct WrongRequest(pub String);

impl std::fmt::Display for WrongRequest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for WrongRequest {}

/// Files that arrive are encrypted, copied, delivered, and never lost.
///
/// Most commands talk to a running service: the one of the data folder (--data or WETBANK_DATA),
/// the one that was signed in to (wetbank login), or the one named by WETBANK_URL and WETBANK_TOKEN.
///
/// Exit status: 0 done; 1 it ran and something failed; 2 the request was wrong; 3 no service
/// was reached.
#[derive(Debug, Parser)]
#[command(name = "wetbank", version, propagate_version = true)]
pub(crate) struct Cli {
    /// Answer in JSON.
    #[arg(long, global = true)]
    json: bool,
    /// The service's data folder.
    #[arg(long, global = true, value_name = "DIR")]
    data: Option<PathBuf>,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run the service
    Serve(serve::Args),
    /// See it work: sample data and stand-in servers
    Demo(demo::Args),
    /// How things stand, on one screen
    Status,
    /// Where files come from and go to
    #[command(subcommand)]
    Place(place::Verb),
    /// Whom we exchange files with
    #[command(subcommand)]
    Partner(partner::Verb),
    /// What partners sign in with at our own server
    #[command(subcommand)]
    Account(account::Verb),
    /// How partners reach our own server
    #[command(subcommand)]
    Reception(reception::Verb),
    /// Which days are worked
    #[command(subcommand)]
    Calendar(calendar::Verb),
    /// Databases that tables go into and come out of
    #[command(subcommand)]
    Database(database::Verb),
    /// Mails that tell of something and carry no files
    #[command(subcommand)]
    Notice(notice::Verb),
    /// Standing arrangements
    #[command(subcommand)]
    Rule(rule::Verb),
    /// Two folders that are kept alike
    #[command(subcommand)]
    Twin(twin::Verb),
    /// What came to watched folders, taken by a rule or not
    #[command(subcommand)]
    Arrival(arrival::Verb),
    /// What was done
    #[command(subcommand)]
    Run(run::Verb),
    /// What waits for a person
    #[command(subcommand)]
    Hold(hold::Verb),
    /// Where a file came from and went, by part of its name or its SHA-256
    Trace(trace::Args),
    /// OpenPGP keys
    #[command(subcommand)]
    Key(key::Verb),
    /// Passwords, passphrases and private keys
    #[command(subcommand)]
    Secret(secret::Verb),
    /// Everything that is arranged, as text
    #[command(subcommand)]
    Book(book::Verb),
    /// Who may sign in, and what each may do
    #[command(subcommand)]
    User(user::Verb),
    /// What programs sign in with
    #[command(subcommand)]
    Token(token::Verb),
    /// Browsers that are signed in
    #[command(subcommand)]
    Session(session::Verb),
    /// Who changed or did what
    Audit(audit::Args),
    /// Print a link that signs a browser in as whoever may read the data folder, once
    Link,
    /// Sign in to a service elsewhere: commands talk to it from then on
    Login(login::Args),
    /// Forget the sign-in to a service elsewhere
    Logout,
    /// Print a completion script for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Print the description of the API
    #[command(hide = true)]
    Openapi,
}

impl Cli {
    pub fn is_service(&self) -> bool {
        matches!(self.command, Command::Serve(_))
    }

    pub async fn run(self) -> Result<End> {
        let output = Output { json: self.json };
        let client = || connect::client(self.data.clone());
        match self.command {
            Command::Serve(args) => serve::run(args, connect::data_folder(self.data.clone())).await,
            Command::Demo(args) => demo::run(args, output).await,
            Command::Status => status::run(&client()?, output).await,
            Command::Place(verb) => place::run(verb, &client()?, output).await,
            Command::Calendar(verb) => calendar::run(verb, &client()?, output).await,
            Command::Database(verb) => database::run(verb, &client()?, output).await,
            Command::Notice(verb) => notice::run(verb, &client()?, output).await,
            Command::Partner(verb) => partner::run(verb, &client()?, output).await,
            Command::Rule(verb) => rule::run(verb, &client()?, output).await,
            Command::Twin(verb) => twin::run(verb, &client()?, output).await,
            Command::Arrival(verb) => arrival::run(verb, &client()?, output).await,
            Command::Run(verb) => run::run(verb, &client()?, output).await,
            Command::Hold(verb) => hold::run(verb, &client()?, output).await,
            Command::Trace(args) => trace::run(args, &client()?, output).await,
            Command::Key(verb) => key::run(verb, &client()?, output).await,
            Command::Secret(verb) => secret::run(verb, &client()?, output).await,
            Command::Book(verb) => book::run(verb, &client()?, output).await,
            Command::User(verb) => user::run(verb, &client()?, output).await,
            Command::Account(verb) => account::run(verb, &client()?, output).await,
            Command::Reception(verb) => reception::run(verb, &client()?, output).await,
            Command::Token(verb) => token::run(verb, &client()?, output).await,
            Command::Session(verb) => session::run(verb, &client()?, output).await,
            Command::Audit(args) => audit::run(args, &client()?, output).await,
            Command::Link => link::run(&client()?, output).await,
            Command::Login(args) => login::run(args, output).await,
            Command::Logout => login::logout(output).await,
            Command::Completions { shell } => {
                clap_complete::generate(shell, &mut Cli::command(), "wetbank", &mut std::io::stdout());
                Ok(End::Done)
            }
            Command::Openapi => {
                crate::output::line(serde_json::to_string_pretty(&wetbank_service::openapi())?);
                Ok(End::Done)
            }
        }
    }
}

/// A role as a word of a command line.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum RoleWord {
    /// Looks
    Viewer,
    /// Also releases, retries, runs, settles
    Operator,
    /// Also arranges
    Manager,
    /// Also people and settings
    Owner,
}

impl From<RoleWord> for Role {
    fn from(word: RoleWord) -> Self {
        match word {
            RoleWord::Viewer => Self::Viewer,
            RoleWord::Operator => Self::Operator,
            RoleWord::Manager => Self::Manager,
            RoleWord::Owner => Self::Owner,
        }
    }
}

fn role_word(role: Role) -> &'static str {
    match role {
        Role::Viewer => "viewer",
        Role::Operator => "operator",
        Role::Manager => "manager",
        Role::Owner => "owner",
    }
}

/// A secret from a prompt, or from standard input where there is no terminal; never an argument.
fn read_secret(prompt: &str) -> Result<String> {
    use std::io::IsTerminal;
    if std::io::stdin().is_terminal() {
        return Ok(rpassword::prompt_password(format!("{prompt}: "))?);
    }
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text)?;
    // One line end at the end belongs to the pipe, not to the secret.
    let text = text.strip_suffix('\n').unwrap_or(&text);
    Ok(text.strip_suffix('\r').unwrap_or(text).to_owned())
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::Cli;

    #[test]
    fn no_command_has_two_options_of_one_name() {
        Cli::command().debug_assert();
    }
}
