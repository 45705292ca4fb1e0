//! Databases of the book.

use wetbank_core::{Database, Name, Step};
use wetbank_errands::{ErrandError, Source};

use super::{Core, Engine};
use crate::EngineError;

/// A database and who uses it.
#[derive(Debug, Clone)]
pub struct DatabaseStatus {
    /// The database.
    pub database: Database,
    /// Rules that load into it or extract from it.
    pub rules: Vec<Name>,
}

impl Core {
    /// A database with what opens it.
    pub async fn database(&self, name: &Name) -> Result<Source, EngineError> {
        let arrangement = self.arrangement();
        let database = arrangement.databases.iter().find(|database| database.name == *name);
        let database = database.ok_or_else(|| EngineError::unknown("database", name))?.clone();
        let password = match &database.kind {
            wetbank_core::DatabaseKind::Postgres(spec) => match &spec.password {
                Some(secret) => Some(self.keys.secret(secret.as_str()).await?),
                None => None,
            },
            wetbank_core::DatabaseKind::Sqlite { .. } => None,
        };
        Ok(Source { database, password })
    }
}

impl Engine {
    /// Every database of the book.
    pub fn databases(&self) -> Vec<DatabaseStatus> {
        let arrangement = self.core.arrangement();
        let uses = |name: &Name| {
            let of = |step: &Step| match step {
                Step::Load(load) => load.into == *name,
                Step::Extract(extract) => extract.from == *name,
                _ => false,
            };
            let rules = arrangement.rules.iter().filter(|live| live.rule.steps().any(of));
            rules.map(|live| live.rule.name.clone()).collect()
        };
        let status = |database: &Database| DatabaseStatus { database: database.clone(), rules: uses(&database.name) };
        arrangement.databases.iter().map(status).collect()
    }

    /// Signs in to a database. Answers in words what was found, or why not.
    pub async fn test_database(&self, name: &str) -> Result<Result<String, ErrandError>, EngineError> {
        let name = Name::new(name).map_err(|_| EngineError::unknown("database", name))?;
        let source = self.core.database(&name).await?;
        Ok(wetbank_errands::reach(&source).await)
    }
}
