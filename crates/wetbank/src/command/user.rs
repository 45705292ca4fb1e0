use anyhow::Result;
use clap::{Subcommand, ValueEnum};
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
        /// What she may do besides within a group, as in harbour=manager; may be given again
        #[arg(long = "in", value_name = "GROUP=ROLE", value_parser = in_group)]
        groups: Vec<(String, Role)>,
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
        /// What she may do besides within a group, as in harbour=manager, or harbour= for nothing; may be given again
        #[arg(long = "in", value_name = "GROUP=ROLE", value_parser = in_group_or_none)]
        groups: Vec<(String, Option<Role>)>,
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

fn in_group_or_none(text: &str) -> Result<(String, Option<Role>), String> {
    let (group, role) = text.split_once('=').ok_or("say GROUP=ROLE")?;
    let role = match role {
        "" => None,
        word => Some(RoleWord::from_str(word, false)?.into()),
    };
    Ok((group.to_owned(), role))
}

fn in_group(text: &str) -> Result<(String, Role), String> {
    let (group, role) = in_group_or_none(text)?;
    Ok((group, role.ok_or("say which role")?))
}

/// Everywhere, and within groups.
fn rights(user: &User) -> String {
    let groups = user.groups.iter().map(|(group, role)| format!("{group}={}", super::role_word(*role)));
    std::iter::once(super::role_word(user.role).to_owned()).chain(groups).collect::<Vec<_>>().join(" ")
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
                        rights(user),
                        way(user),
                        when_ever(user.seen.as_ref()),
                        user.sessions.to_string(),
                    ]
                });
                table(&["user", "called", "role", "signs in by", "last", "browsers"], rows.collect());
            })?;
        }
        Verb::Add { user, title, role, groups } => {
            let known: Vec<User> = client.get("/users", &[]).await?;
            if known.iter().any(|one| one.name == user) {
                return Err(super::WrongRequest(format!(
                    "there is a user \"{user}\" already; change her with: wetbank user change {user}"
                ))
                .into());
            }
            let _: User = client
                .put(&path(&user), &PutUser { title, role: role.into(), groups: groups.into_iter().collect() })
                .await?;
            eprintln!("user {user} added; give her this link");
            link(client, &user, output).await?;
        }
        Verb::Change { user, title, role, groups } => {
            let known: Vec<User> = client.get("/users", &[]).await?;
            let Some(now) = known.into_iter().find(|one| one.name == user) else {
                return Err(super::WrongRequest(format!("there is no user \"{user}\"")).into());
            };
            let mut within = now.groups;
            for (group, role) in groups {
                match role {
                    Some(role) => within.insert(group, role),
                    None => within.remove(&group),
                };
            }
            let role = role.map_or(now.role, Role::from);
            let put = PutUser { title: title.unwrap_or(now.title), role, groups: within };
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
