//! The step `pack`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Group, Kind, Shift, Telling, manifest::of_the_run};
use crate::{
    SecretName, Template,
    shape::{Checked, Here, SecretRef, Text, folder_template, holds, secret},
};

/// Pack all files of the run into one. What follows is done with that one, and each original's end comes after it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Pack together")]
pub(crate) struct Shape {
    /// The archive's name. It is made of all files of a run, so it cannot take its name from one of them.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the archive")]
    name: Text<holds::NameTemplate>,
    /// The form; unless it is said, the archive's name tells it.
    #[schemars(title = "Form")]
    form: Option<PackForm>,
    /// What opens it (AES-256); only a zip can have one.
    #[schemars(title = "Passphrase")]
    passphrase: Option<SecretRef>,
    /// Folders below the one that the files came from are kept in it.
    #[serde(default)]
    #[schemars(title = "Keep folders")]
    folders: bool,
}

/// The form of an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum PackForm {
    /// Zip, with AES-256 if it has a passphrase.
    #[serde(rename = "zip")]
    Zip,
    /// A tape archive compressed with gzip.
    #[serde(rename = "tar.gz")]
    TarGz,
}

/// Pack the files of the run into one, which goes on instead of them.
#[derive(Debug, Clone)]
pub struct Pack {
    /// The form.
    pub form: PackForm,
    /// What opens it.
    pub passphrase: Option<SecretName>,
    /// Whether folders below the one they came from are kept in it.
    pub folders: bool,
    /// The result's name.
    pub name: Template,
}

impl Kind for Pack {
    type Shape = Shape;

    const GROUP: Group = Group::Change;
    const EXAMPLE: &'static str = r#"pack = { as = "readings-{{ today }}.zip", folders = true }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        let name = folder_template(Some(&shape.name), "")?;
        of_the_run(Some(&shape.name), &name)?;
        let form = shape.form.unwrap_or_else(|| {
            let is_tar = [".tar.gz", ".tgz"].iter().any(|ending| shape.name.str().ends_with(ending));
            if is_tar { PackForm::TarGz } else { PackForm::Zip }
        });
        let passphrase = secret(shape.passphrase.as_ref())?;
        if passphrase.is_some() && form == PackForm::TarGz {
            let words = "only a zip can have a passphrase; for a tar.gz let an encrypt step follow";
            return Err(shape.name.wrong(words));
        }
        Ok(Self { form, passphrase, folders: shape.folders, name })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        let sealed = if self.passphrase.is_some() { ", with a passphrase" } else { "" };
        ("pack all of a run", format!("into {}{sealed}", telling.of(&self.name)))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Makes(&self.name)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }

    fn makes_file(&self) -> bool {
        true
    }

    fn joins(&self) -> bool {
        true
    }
}
