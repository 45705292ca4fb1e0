//! The step `unpack`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Most, Shift, Telling};
use crate::{
    SecretName,
    shape::{Checked, Here, SecretRef, Text, holds, most, secret},
};

/// Take the files of a zip or tape archive out; each goes on by itself, and the archive's own end comes after all of
/// them. A name that leads elsewhere, a link, two files of one name or more than allowed: nothing is taken out.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Unpack")]
pub(crate) struct Shape {
    /// What opens it.
    #[schemars(title = "Passphrase")]
    passphrase: Option<SecretRef>,
    /// How many files may come out of it.
    #[schemars(title = "Files at most", extend("default" = MOST_FILES))]
    files: Option<usize>,
    /// What may come out of it; more is held. Unless it is said, no more than 250 times what went in either.
    #[schemars(title = "At most", extend("default" = "50 GB"))]
    most: Option<Text<holds::Size>>,
}

/// Files that may come out of an archive, if the rule does not say.
const MOST_FILES: usize = 10_000;

/// Take the files of an archive out; each goes on instead of it.
#[derive(Debug, Clone)]
pub struct Unpack {
    /// What opens it.
    pub passphrase: Option<SecretName>,
    /// Files at most.
    pub files: usize,
    /// How much may come out.
    pub most: Most,
}

impl Kind for Unpack {
    type Shape = Shape;

    const GROUP: Group = Group::Change;
    const EXAMPLE: &'static str = r#"unpack = { passphrase = { secret = "harlan-archive" } }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        Ok(Self {
            passphrase: secret(shape.passphrase.as_ref())?,
            files: shape.files.unwrap_or(MOST_FILES),
            most: most(shape.most.as_ref())?,
        })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("take out", "what is in it".to_owned())
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Splits
    }
}
