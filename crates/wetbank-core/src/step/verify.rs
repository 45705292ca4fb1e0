//! The step `verify`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Telling};
use crate::{
    Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Check it against the signature that lies beside it; one of these keys must have made it. A signature that is not
/// there yet is looked for again as `retry` says.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Check its signature")]
pub(crate) struct Shape {
    /// Keys, one of which must have signed it.
    #[schemars(title = "By")]
    by: Vec<Text<holds::KeyName>>,
    /// The signature's name.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the signature", extend("default" = SIGNATURE))]
    name: Option<Text<holds::NameTemplate>>,
}

const SIGNATURE: &str = "{{ file.name }}.sig";

/// Check the file against a detached signature that lies beside it.
#[derive(Debug, Clone)]
pub struct Verify {
    /// Names of keys, one of which must have signed.
    pub by: Vec<String>,
    /// The signature's name.
    pub name: Template,
}

impl Kind for Verify {
    type Shape = Shape;

    const GROUP: Group = Group::Protect;
    const EXAMPLE: &'static str = r#"verify = { by = ["harlan-lab"] }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        if shape.by.is_empty() {
            return Err(here.lacks("verify needs \"by\" with the names of keys, one of which must have signed"));
        }
        let by = shape.by.iter().map(|key| key.str().to_owned()).collect();
        Ok(Self { by, name: folder_template(shape.name.as_ref(), SIGNATURE)? })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("check its signature", format!("{} by {}", telling.of(&self.name), self.by.join(" or ")))
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
