use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, NewLink, PutUser, Role, User, segment};

use super::RoleWord;
use crate::{
    End,
    output::{Output, table, when_ever},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Everybody who may sign in
    List,
    /// Let a colleague in: prints a link by which she chooses her password, once
    Add {
        /// Her name, by which she signs in and is told in every record
        user: String,
        /// How she is called
        #[arg(long, default_value = "")]
        title: String,
        /// What she may do
        #[arg(long, value_enum)]
        role: RoleWord,
    },
    /// Change how a user is called or what she may do
    Change {
        /// Her name
        user: String,
        /// How she is called
        #[arg(long)]
        title: Option<String>,
        /// What she may do
        #[arg(long, value_enum)]
        role: Option<RoleWord>,
    },
    /// Print a link by which a user chooses another password, once
    Link {
        /// Her name
        user: String,
    },
    /// Take away the second factor and the passkeys of a user who lost them
    ForgetProofs {
        /// Her name
        user: String,
    },
    /// Remove a user; her sessions and tokens end at once
    Remove {
        /// Her name
        user: String,
    },
}

fn path(user: &str) -> String {
    format!("/users/{}", segment(user))
}

async fn link(client: &Client, user: &str, output: Output) -> Result<()> {
    let made: NewLink = client.post(&format!("{}/link", path(user)), &()).await?;
    super::link::show(&made, output)
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let users: Vec<User> = client.get("/users", &[]).await?;
            output.show(&users, |users| {
                let way = |user: &User| {
                    let by_password = match (user.password, user.code) {
                        (false, _) => "no password yet",
                        (true, false) => "password",
                        (true, true) => "password and code",
                    };
                    if user.passkeys > 0 { format!("{by_password}, passkey") } else { by_password.to_owned() }
                };
                let rows = users.iter().map(|user| {
                    vec![
                        user.name.clone(),
                        user.title.clone(),
                        super::role_word(user.role).to_owned(),
                        way(user),
                        when_ever(user.seen.as_ref()),
                        user.sessions.to_string(),
                    ]
                });
                table(&["user", "called", "role", "signs in by", "last", "browsers"], rows.collect());
            })?;
        }
        Verb::Add { user, title, role } => {
            let known: Vec<User> = client.get("/users", &[]).await?;
            if known.iter().any(|one| one.name == user) {
                return Err(super::WrongRequest(format!(
                    "there is a user \"{user}\" already; change her with: wetbank user change {user}"
                ))
                .into());
            }
            let _: User = client.put(&path(&user), &PutUser { title, role: role.into() }).await?;
            eprintln!("user {user} added; give her this link");
            link(client, &user, output).await?;
        }
        Verb::Change { user, title, role } => {
            let known: Vec<User> = client.get("/users", &[]).await?;
            let Some(now) = known.into_iter().find(|one| one.name == user) else {
                return Err(super::WrongRequest(format!("there is no user \"{user}\"")).into());
            };
            let put = PutUser { title: title.unwrap_or(now.title), role: role.map_or(now.role, Role::from) };
            let changed: User = client.put(&path(&user), &put).await?;
            output.said(&format!(
                "user {user} is called {} and is {}",
                changed.title,
                super::role_word(changed.role)
            ))?;
        }
        Verb::Link { user } => link(client, &user, output).await?,
        Verb::ForgetProofs { user } => {
            client.delete(&format!("{}/proofs", path(&user))).await?;
            output.said(&format!("user {user} has no second factor and no passkeys any more"))?;
        }
        Verb::Remove { user } => {
            client.delete(&path(&user)).await?;
            output.said(&format!("user {user} removed"))?;
        }
    }
    Ok(End::Done)
}
