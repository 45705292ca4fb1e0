//! Databases as the book tells of them.

use std::ops::Range;

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::Deserialize;
use serde_json::{Map, Value, json};
use toml::{
    Spanned,
    de::{DeValue, Error, ValueDeserializer},
};

use crate::{
    Database, DatabaseKind, HostAddress, Name, PostgresSpec,
    shape::{At, Checked, Mistake, SecretRef, Text, holds, secret},
};

/// The words for the kinds of database.
pub(super) const KINDS: [&str; 2] = ["sqlite", "postgres"];

/// A file of SQLite; it must be there already.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "A file of SQLite")]
pub(crate) struct Sqlite {
    /// Its title for people; its name unless it is said.
    #[schemars(title = "Title")]
    title: Option<String>,
    /// Its absolute path, as in `/srv/readings.db`.
    #[schemars(title = "File")]
    file: Text<holds::Path>,
}

/// A database of a PostgreSQL server.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "A PostgreSQL server")]
pub(crate) struct Postgres {
    /// Its title for people; its name unless it is said.
    #[schemars(title = "Title")]
    title: Option<String>,
    /// As in `db.merrow.example`; a port may stand behind it.
    #[schemars(title = "Host")]
    host: Text<holds::Host>,
    /// Its port.
    #[schemars(title = "Port", extend("default" = 5432))]
    port: Option<u16>,
    /// The database there.
    #[schemars(title = "Database")]
    database: Text,
    /// The name one signs in with there.
    #[schemars(title = "User")]
    user: Text,
    /// The password.
    #[schemars(title = "Password")]
    password: Option<SecretRef>,
    /// Whether the connection is secured.
    #[schemars(title = "Secured by", extend("default" = "tls"))]
    security: Option<Security>,
}

/// How a connection to a database is secured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
enum Security {
    /// TLS; an authority must vouch for the server's certificate.
    Tls,
    /// Not at all: password and rows can be read on the way.
    None,
}

/// What was written of a database.
#[derive(Debug)]
pub(crate) enum DatabaseShape {
    Sqlite(Box<Sqlite>),
    Postgres(Box<Postgres>),
}

impl DatabaseShape {
    /// Reads one of a kind from its keys.
    pub fn read(kind: &str, keys: Spanned<DeValue<'_>>) -> Result<Self, Error> {
        let keys = ValueDeserializer::from(keys);
        Ok(match kind {
            "sqlite" => Self::Sqlite(Box::new(Deserialize::deserialize(keys)?)),
            _ => Self::Postgres(Box::new(Deserialize::deserialize(keys)?)),
        })
    }

    /// The schema: one variant a kind.
    pub fn schema(generator: &mut SchemaGenerator) -> Schema {
        let shapes = [Sqlite::json_schema(generator), Postgres::json_schema(generator)];
        let variants = KINDS.iter().zip(shapes).map(|(kind, mut shape)| {
            let mut properties = Map::from_iter([("kind".to_owned(), json!({ "const": kind, "title": "Kind" }))]);
            if let Some(Value::Object(own)) = shape.remove("properties") {
                properties.extend(own);
            }
            if let Some(Value::Array(required)) = shape.get_mut("required") {
                required.insert(0, json!("kind"));
            }
            shape.remove("$schema");
            shape.insert("properties".to_owned(), properties.into());
            shape.to_value()
        });
        schemars::json_schema!({ "title": "Database", "oneOf": variants.collect::<Vec<_>>() })
    }
}

pub(super) fn resolve_database(name: &str, shape: &DatabaseShape, at: Range<usize>) -> Checked<Database> {
    let (title, kind) = match shape {
        DatabaseShape::Sqlite(sqlite) => {
            let file = sqlite.file.str().trim();
            if !file.starts_with('/') {
                let words = format!("\"{file}\" must be an absolute path, as in \"/srv/readings.db\"");
                return Err(sqlite.file.wrong(words));
            }
            (&sqlite.title, DatabaseKind::Sqlite { file: file.to_owned() })
        }
        DatabaseShape::Postgres(server) => {
            let said = |key: &str, text: &Text| match text.str().trim() {
                "" => Err(text.wrong(format!("a database of kind \"postgres\" needs the key \"{key}\""))),
                word => Ok(word.to_owned()),
            };
            let address = HostAddress::parse(server.host.str()).at(&server.host)?;
            let spec = PostgresSpec {
                host: address.host,
                port: server.port.or(address.port).unwrap_or(5432),
                database: said("database", &server.database)?,
                user: said("user", &server.user)?,
                password: secret(server.password.as_ref())?,
                secured: server.security != Some(Security::None),
            };
            (&server.title, DatabaseKind::Postgres(spec))
        }
    };
    Ok(Database {
        name: Name::new(name).map_err(|e| Mistake::new(at, e.to_string()))?,
        title: title.clone().unwrap_or_else(|| name.to_owned()),
        kind,
    })
}
