//! Databases that tables are loaded into and extracted from.

use crate::{Name, SecretName};

/// A database.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Database {
    /// Its name in the book.
    pub name: Name,
    /// Its title for people.
    pub title: String,
    /// How to reach it.
    pub kind: DatabaseKind,
}

/// What kind of database, and where it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DatabaseKind {
    /// A file of SQLite, which must be there already.
    Sqlite {
        /// The absolute path.
        file: String,
    },
    /// A PostgreSQL server.
    Postgres(PostgresSpec),
}

/// A PostgreSQL server and how we sign in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PostgresSpec {
    /// Host name or address.
    pub host: String,
    /// TCP port.
    pub port: u16,
    /// The database there.
    pub database: String,
    /// User name there.
    pub user: String,
    /// The password.
    pub password: Option<SecretName>,
    /// Whether the connection must be secured and the server's certificate be vouched for.
    pub secured: bool,
}

impl Database {
    /// The address for people.
    pub fn address(&self) -> String {
        match &self.kind {
            DatabaseKind::Sqlite { file } => file.clone(),
            DatabaseKind::Postgres(spec) => {
                format!("{}@{}:{}/{}", spec.user, spec.host, spec.port, spec.database)
            }
        }
    }

    /// The word for its kind in the book.
    pub fn kind_word(&self) -> &'static str {
        match self.kind {
            DatabaseKind::Sqlite { .. } => "sqlite",
            DatabaseKind::Postgres(_) => "postgres",
        }
    }
}
