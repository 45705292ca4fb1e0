use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, Database, DatabaseTest, segment};

use crate::{
    End,
    output::{Output, line, table},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Every database, and the rules that use it
    List,
    /// Sign in to a database and look what is there
    Test {
        /// Its name
        database: String,
    },
    /// Remove a database that no rule uses
    Remove {
        /// Its name
        database: String,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let databases: Vec<Database> = client.get("/databases", &[]).await?;
            output.show(&databases, |databases| {
                let rows = databases.iter().map(|one| {
                    vec![
                        one.name.clone(),
                        one.title.clone(),
                        one.kind.clone(),
                        one.address.clone(),
                        one.rules.join(", "),
                    ]
                });
                table(&["database", "title", "kind", "address", "used by"], rows.collect());
            })?;
        }
        Verb::Test { database } => {
            let path = format!("/databases/{}/test", segment(&database));
            let test: DatabaseTest = client.post(&path, &()).await?;
            output
                .show(&test, |test| line(format!("{} {database}: {}", if test.fine { "✓" } else { "✗" }, test.said)))?;
            return Ok(if test.fine { End::Done } else { End::Failed });
        }
        Verb::Remove { database } => {
            client.delete(&format!("/book/database/{}", segment(&database))).await?;
            output.said(&format!("database {database} removed"))?;
        }
    }
    Ok(End::Done)
}
