//! The step `encrypt`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Telling};
use crate::{
    Delivery, SecretName, Template,
    sentence::joined,
    shape::{Checked, Here, SecretRef, Text, folder_template, holds, secret, template},
};

/// Encrypt it with OpenPGP to one or several keys, a passphrase, or both. The result is the next step's file.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Encrypt")]
pub(crate) struct Shape {
    /// The keys that can open it.
    #[serde(default)]
    #[schemars(title = "To")]
    to: Vec<Text<holds::KeyName>>,
    /// A passphrase that opens it too, or instead.
    #[schemars(title = "Passphrase")]
    passphrase: Option<SecretRef>,
    /// The key of ours that signs it.
    #[schemars(title = "Signed by")]
    sign: Option<Text<holds::KeyName>>,
    /// As letters and digits (ASCII armour), for what carries text only.
    #[serde(default)]
    #[schemars(title = "As text")]
    armour: bool,
    /// The result's name; as text its ending is `.asc`.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the result", extend("default" = BINARY))]
    name: Option<Text<holds::NameTemplate>>,
}

const BINARY: &str = "{{ file.name }}.pgp";
const ARMOURED: &str = "{{ file.name }}.asc";

/// OpenPGP encryption, and signing if a signing key is named.
#[derive(Debug, Clone)]
pub struct Encrypt {
    /// Names of keys.
    pub to: Vec<String>,
    /// A passphrase that opens it too, or instead.
    pub passphrase: Option<SecretName>,
    /// The key that signs.
    pub sign: Option<String>,
    /// ASCII armour instead of binary.
    pub armour: bool,
    /// The result's name.
    pub name: Template,
}

impl Encrypt {
    /// Whether nothing is sealed: the partner wants it so.
    fn is_nothing(&self) -> bool {
        self.to.is_empty() && self.passphrase.is_none()
    }

    /// What seals a file for a partner. It is there also when the partner wants nothing sealed, so that a change of
    /// that wish moves no other step of files that are at work.
    pub(super) fn for_partner(delivery: &Delivery) -> Checked<Self> {
        Ok(Self {
            to: delivery.encrypt_to.clone(),
            passphrase: None,
            sign: delivery.sign.clone(),
            armour: delivery.armour,
            name: template::<holds::Words>(None, if delivery.armour { ARMOURED } else { BINARY })?,
        })
    }
}

impl Kind for Encrypt {
    type Shape = Shape;

    const GROUP: Group = Group::Protect;
    const EXAMPLE: &'static str = r#"encrypt = { to = ["skerrow-harbour"], sign = "merrow" }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        if shape.to.is_empty() && shape.passphrase.is_none() {
            let words = "encrypt needs \"to\" with the names of keys, or a passphrase = { secret = \"…\" }";
            return Err(here.lacks(words));
        }
        Ok(Self {
            to: shape.to.iter().map(|key| key.str().to_owned()).collect(),
            passphrase: secret(shape.passphrase.as_ref())?,
            sign: shape.sign.as_ref().map(|key| key.str().to_owned()),
            armour: shape.armour,
            name: folder_template(shape.name.as_ref(), if shape.armour { ARMOURED } else { BINARY })?,
        })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        if self.is_nothing() {
            return ("leave it", "as it is, as the partner wants".to_owned());
        }
        let to = if self.to.is_empty() { String::new() } else { format!("to {}", joined(&self.to)) };
        let with = match (&self.passphrase, to.is_empty()) {
            (None, _) => "",
            (Some(_), true) => "with a passphrase",
            (Some(_), false) => " with a passphrase",
        };
        let signed = self.sign.as_ref().map(|key| format!(", signed by {key}")).unwrap_or_default();
        ("encrypt it", format!("{to}{with}{signed}"))
    }

    fn shift(&self) -> Shift<'_> {
        if self.is_nothing() { Shift::Nothing } else { Shift::Makes(&self.name) }
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
