//! The list of all kinds of place, and what is made of it.

use std::{ops::Range, sync::LazyLock};

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use toml::{
    Spanned,
    de::{DeValue, Error, ValueDeserializer},
};

use super::{AgreedSpec, BucketSpec, FolderSpec, FtpSpec, Kind, MailboxSpec, SftpSpec, ShareSpec, WebSpec, WebdavSpec};
use crate::{SecretName, shape::Checked};

/// Hands every kind of place, with its type and its word in the book, to a macro. The order is that of the reference.
#[macro_export]
macro_rules! with_place_kinds {
    ($then:ident) => {
        $then! {
            Folder FolderSpec "folder";
            Sftp SftpSpec "sftp";
            Ftp FtpSpec "ftp";
            Share ShareSpec "share";
            Webdav WebdavSpec "webdav";
            Bucket BucketSpec "bucket";
            Mailbox MailboxSpec "mailbox";
            Web WebSpec "web";
        }
    };
}

macro_rules! define {
    ($($kind:ident $spec:ident $word:literal;)*) => {
        /// The kind of a place.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
        pub enum PlaceKind {
            $(#[doc = concat!("`", $word, "`")] #[serde(rename = $word)] $kind,)*
        }

        impl PlaceKind {
            /// Every kind, in the order of the reference.
            pub const ALL: &'static [Self] = &[$(Self::$kind,)*];

            /// The word in the book.
            pub fn as_str(self) -> &'static str {
                match self { $(Self::$kind => $word,)* }
            }

            /// Reads a place of this kind from its keys in the book.
            pub(crate) fn read(self, keys: Spanned<DeValue<'_>>) -> Result<PlaceShape, Error> {
                let keys = ValueDeserializer::from(keys);
                Ok(match self {
                    $(Self::$kind => PlaceShape::$kind(Box::new(Deserialize::deserialize(keys)?)),)*
                })
            }

            fn shape(self, generator: &mut SchemaGenerator) -> Schema {
                match self { $(Self::$kind => <$spec as Kind>::Shape::json_schema(generator),)* }
            }

            fn example(self) -> &'static str {
                match self { $(Self::$kind => <$spec as Kind>::EXAMPLE,)* }
            }
        }

        /// How to reach a place.
        #[derive(Debug, Clone, PartialEq, Eq)]
        pub enum PlaceSpec {
            $(#[doc = concat!("`", $word, "`")] $kind($spec),)*
        }

        /// What was written of a place.
        #[derive(Debug)]
        pub(crate) enum PlaceShape {
            $($kind(Box<<$spec as Kind>::Shape>),)*
        }

        impl PlaceShape {
            pub fn resolve(&self, at: Range<usize>) -> Checked<PlaceSpec> {
                match self { $(Self::$kind(shape) => <$spec as Kind>::resolve(shape, at).map(PlaceSpec::$kind),)* }
            }
        }

        impl PlaceSpec {
            /// The kind.
            pub fn kind(&self) -> PlaceKind {
                match self { $(Self::$kind(_) => PlaceKind::$kind,)* }
            }
        }

        /// Asks whichever kind it is.
        macro_rules! ask {
            ($place:expr, $question:ident) => {
                match $place { $(PlaceSpec::$kind(spec) => spec.$question(),)* }
            };
        }
    };
}

with_place_kinds!(define);

impl PlaceSpec {
    /// The address for people: `/srv/office` or `merrow@sftp.skerrow.example:22/incoming`.
    pub fn address(&self) -> String {
        ask!(self, address)
    }

    /// The names of the secrets it needs.
    pub fn secrets(&self) -> Vec<&SecretName> {
        ask!(self, secrets)
    }

    /// What a person must agree to before it can be used.
    pub fn agreed(&self) -> Option<&AgreedSpec> {
        ask!(self, agreed)
    }

    /// Its folder, if it is one of this machine.
    pub fn local_root(&self) -> Option<&str> {
        ask!(self, local_root)
    }
}

impl PlaceKind {
    /// The kind that a word of the book means.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|kind| kind.as_str() == word)
    }
}

/// The keys of a kind besides `kind` and the limits that all have, in the order people write them.
static KEYS: LazyLock<Vec<Vec<String>>> = LazyLock::new(|| {
    let keys = |kind: &PlaceKind| {
        let schema = kind.shape(&mut SchemaGenerator::default());
        let properties = schema.get("properties").and_then(Value::as_object);
        properties.map(|keys| keys.keys().cloned().collect()).unwrap_or_default()
    };
    PlaceKind::ALL.iter().map(keys).collect()
});

pub(crate) fn place_keys_of(kind: PlaceKind) -> &'static [String] {
    &KEYS[kind as usize]
}

/// The keys that a place of this kind has besides `kind`, in the order people write them; nothing
/// for a kind that there is not.
pub fn place_keys(kind: &str) -> Option<&'static [String]> {
    PlaceKind::parse(kind).map(place_keys_of)
}

/// The schema of a place: one variant a kind, each with the limits that all have.
pub(crate) fn place_schema(generator: &mut SchemaGenerator, limits: &Map<String, Value>) -> Schema {
    let variants = PlaceKind::ALL.iter().map(|kind| {
        let mut shape = kind.shape(generator);
        let mut properties = Map::from_iter([("kind".to_owned(), json!({ "const": kind.as_str(), "title": "Kind" }))]);
        if let Some(Value::Object(own)) = shape.remove("properties") {
            properties.extend(own);
        }
        properties.extend(limits.clone());
        let mut required = vec![json!("kind")];
        if let Some(Value::Array(own)) = shape.remove("required") {
            required.extend(own);
        }
        shape.remove("$schema");
        shape.insert("example".to_owned(), json!(kind.example()));
        shape.insert("properties".to_owned(), properties.into());
        shape.insert("required".to_owned(), required.into());
        shape.to_value()
    });
    schemars::json_schema!({ "title": "Place", "oneOf": variants.collect::<Vec<_>>() })
}
