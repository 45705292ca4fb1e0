//! Databases of the book.

use wetbank_core::{Database, Name, Step};
use wetbank_errands::ErrandError;

use super::Engine;
use crate::EngineError;

/// A database and who uses it.
#[derive(Debug, Clone)]
pub struct DatabaseStatus {
    /// The database.
    pub database: Database,
    /// Rules that load into it or extract from it.
    pub rules: Vec<Name>,
}

impl Engine {
    /// Every database of the book.
    pub fn databases(&self) -> Vec<DatabaseStatus> {
        let arrangement = self.core.arranged.now();
        let uses = |name: &Name| {
            let of = |step: &Step| step.database() == Some(name);
            let rules = arrangement.rules.iter().filter(|live| live.rule.steps().any(of));
            rules.map(|live| live.rule.name.clone()).collect()
        };
        let status = |database: &Database| DatabaseStatus { database: database.clone(), rules: uses(&database.name) };
        arrangement.databases.iter().map(status).collect()
    }

    /// Signs in to a database. Answers in words what was found, or why not.
    pub async fn test_database(&self, name: &str) -> Result<Result<String, ErrandError>, EngineError> {
        let name = Name::new(name).map_err(|_| EngineError::unknown("database", name))?;
        let source = self.core.effects.database(&name).await?;
        Ok(wetbank_errands::reach(&source).await)
    }
}
