//! What the book's text is made of: words with their position, and what a word holds.
//!
//! Each key of the book is a field of a `Shape`. Its documentation is what the reference, the JSON
//! Schema and the forms say of it: the title names it, the comment helps.

mod check;
pub(crate) mod holds;

use std::{borrow::Cow, fmt, marker::PhantomData};

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize};
use toml::Spanned;

pub(crate) use check::{
    At, Checked, Ends, Here, Mistake, duration, folder_template, group, hours, most, place_name, quiet_hours, secret,
    size, template, time, time_zone, unknown,
};
use holds::{Holds, Words};

/// A text with its position; `H` tells what it holds.
pub(crate) struct Text<H = Words>(pub Spanned<String>, PhantomData<H>);

impl<H> Text<H> {
    pub fn new(text: Spanned<String>) -> Self {
        Self(text, PhantomData)
    }

    pub fn str(&self) -> &str {
        self.0.as_ref()
    }

    pub fn span(&self) -> std::ops::Range<usize> {
        self.0.span()
    }

    /// A mistake at this text.
    pub fn wrong(&self, words: impl Into<String>) -> Mistake {
        Mistake::new(self.span(), words)
    }
}

impl<H> Clone for Text<H> {
    fn clone(&self) -> Self {
        Self::new(self.0.clone())
    }
}

impl<H> fmt::Debug for Text<H> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.str().fmt(f)
    }
}

impl<'de, H> Deserialize<'de> for Text<H> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Spanned::deserialize(deserializer).map(Self::new)
    }
}

impl<H: Holds> JsonSchema for Text<H> {
    fn inline_schema() -> bool {
        true
    }

    fn schema_name() -> Cow<'static, str> {
        H::WORD.into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        match H::WORD {
            "" => json_schema!({ "type": "string" }),
            word => json_schema!({ "type": "string", "holds": word }),
        }
    }
}

/// The name of a secret of the vault; its value never stands in the book.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Secret", extend("holds" = "secret"))]
pub(crate) struct SecretRef {
    /// The name under which it is kept in the vault.
    #[schemars(title = "Name of the secret")]
    pub secret: Text,
    /// What opens it, where it is a private key with a passphrase.
    #[schemars(title = "Passphrase")]
    pub passphrase: Option<Box<SecretRef>>,
}

/// Nothing more to say.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Nothing {}

#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub(crate) enum OneOrMany {
    /// One text.
    One(String),
    /// Several.
    Many(Vec<String>),
}

impl OneOrMany {
    pub fn into_list(self) -> Vec<String> {
        match self {
            Self::One(one) => vec![one],
            Self::Many(many) => many,
        }
    }
}

/// One text or several, each with the position of all.
pub(crate) fn texts<H>(list: &Spanned<OneOrMany>) -> Vec<Text<H>> {
    list.as_ref().clone().into_list().into_iter().map(|one| Text::new(Spanned::new(list.span(), one))).collect()
}

/// Whether capitals count when names are compared.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Case {
    /// They count.
    #[default]
    Exact,
    /// They do not count.
    Ignore,
}

/// Hours of each day; they may go over midnight.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct HoursShape {
    /// The first minute, as in `22:00`.
    #[schemars(title = "From")]
    pub from: Text<holds::TimeOfDay>,
    /// The first minute after, as in `06:00`.
    #[schemars(title = "Until")]
    pub until: Text<holds::TimeOfDay>,
    /// Whose clock counts.
    #[schemars(title = "Time zone", extend("default" = "UTC"))]
    pub zone: Option<Text<holds::Zone>>,
}
