//! The step `decrypt`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Most, Shift, Telling};
use crate::{
    SecretName, Template,
    shape::{Checked, Here, SecretRef, Text, folder_template, holds, most, secret},
};

/// Open it with our OpenPGP keys, or a passphrase; if `signed-by` is given, one of those keys must have signed it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Decrypt")]
pub(crate) struct Shape {
    /// Keys, one of which must have signed it. Without one a signature is not asked for.
    #[serde(default)]
    #[schemars(title = "Signed by")]
    signed_by: Vec<Text<holds::KeyName>>,
    /// A passphrase to try besides our keys.
    #[schemars(title = "Passphrase")]
    passphrase: Option<SecretRef>,
    /// The result's name.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the result", extend("default" = PLAIN))]
    name: Option<Text<holds::NameTemplate>>,
    /// What may come out of it; more is held. Unless it is said, no more than 250 times what went in either.
    #[schemars(title = "At most", extend("default" = "50 GB"))]
    most: Option<Text<holds::Size>>,
}

/// What it was called before.
const PLAIN: &str =
    "{% if file.extension in [\"pgp\", \"gpg\", \"asc\"] %}{{ file.stem }}{% else %}{{ file.name }}.plain{% endif %}";

/// OpenPGP decryption, and verifying if signers are named.
#[derive(Debug, Clone)]
pub struct Decrypt {
    /// How much may come out.
    pub most: Most,
    /// A passphrase to try besides our keys.
    pub passphrase: Option<SecretName>,
    /// Names of keys, one of which must have signed.
    pub signed_by: Vec<String>,
    /// The result's name.
    pub name: Template,
}

impl Kind for Decrypt {
    type Shape = Shape;

    const GROUP: Group = Group::Protect;
    const EXAMPLE: &'static str = r#"decrypt = { signed-by = ["harlan-lab"] }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        Ok(Self {
            most: most(shape.most.as_ref())?,
            passphrase: secret(shape.passphrase.as_ref())?,
            signed_by: shape.signed_by.iter().map(|key| key.str().to_owned()).collect(),
            name: folder_template(shape.name.as_ref(), PLAIN)?,
        })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        let signed = match self.signed_by.as_slice() {
            [] => String::new(),
            keys => format!(", if signed by {}", keys.join(" or ")),
        };
        ("decrypt it", signed)
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Makes(&self.name)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
