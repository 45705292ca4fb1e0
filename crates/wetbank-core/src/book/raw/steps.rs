//! What a branch does with a file.

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use super::{Condition, Retry, SecretRef, Text};
use crate::{
    Compression, IfExists, PackForm,
    book::errands::{CallShape, ExtractShape, LoadShape, MailShape, ProgramShape},
};

/// One thing to do, and for which files, and what follows when it fails.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Step {
    #[serde(rename = "if")]
    pub condition: Option<Condition>,
    pub retry: Option<Retry>,
    #[schemars(with = "Option<Vec<Step>>")]
    pub on_failure: Option<Vec<Spanned<Step>>>,
    pub then: Option<Then>,
    pub encrypt: Option<Encrypt>,
    pub decrypt: Option<Decrypt>,
    pub sign: Option<Sign>,
    pub verify: Option<Verify>,
    pub compress: Option<Compress>,
    pub expand: Option<Expand>,
    pub pack: Option<Pack>,
    pub unpack: Option<Unpack>,
    pub manifest: Option<Manifest>,
    pub check_manifest: Option<Manifest>,
    pub copy: Option<Target>,
    pub fetch: Option<Target>,
    pub deliver: Option<Deliver>,
    #[serde(rename = "move")]
    pub move_to: Option<Target>,
    pub rename: Option<Rename>,
    pub delete: Option<Nothing>,
    pub make_folder: Option<MakeFolder>,
    pub mail: Option<MailShape>,
    pub call: Option<CallShape>,
    pub program: Option<ProgramShape>,
    pub load: Option<LoadShape>,
    pub extract: Option<ExtractShape>,
    pub note: Option<Note>,
    #[serde(rename = "continue")]
    pub go_on: Option<Continue>,
    pub hold: Option<Hold>,
}

/// What follows a failure path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(in crate::book) enum Then {
    End,
    GoOn,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Compress {
    pub with: Option<Compression>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Expand {
    pub most: Option<Text>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Pack {
    #[serde(rename = "as")]
    pub name: Text,
    pub form: Option<PackForm>,
    pub passphrase: Option<SecretRef>,
    #[serde(default)]
    pub folders: bool,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Unpack {
    pub passphrase: Option<SecretRef>,
    pub files: Option<usize>,
    pub most: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Manifest {
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct MakeFolder {
    pub to: Option<Text>,
    pub folder: Text,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Note {
    pub text: Text,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Continue {
    pub branch: Text,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Encrypt {
    #[serde(default)]
    pub to: Vec<String>,
    pub passphrase: Option<SecretRef>,
    pub sign: Option<String>,
    #[serde(default)]
    pub armour: bool,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Decrypt {
    pub most: Option<Text>,
    pub passphrase: Option<SecretRef>,
    #[serde(default)]
    pub signed_by: Vec<String>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Target {
    pub to: Option<Text>,
    pub folder: Option<Text>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
    pub exists: Option<IfExists>,
    #[serde(default)]
    pub fit_name: bool,
    pub sha256: Option<bool>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Deliver {
    pub partner: Option<Text>,
    pub to: Option<Text>,
    pub folder: Option<Text>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
    pub exists: Option<IfExists>,
    #[serde(default)]
    pub fit_name: bool,
    pub sha256: Option<bool>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Rename {
    #[serde(rename = "as")]
    pub name: Text,
    pub exists: Option<IfExists>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(in crate::book) struct Nothing {}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Hold {
    pub why: String,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(in crate::book) enum Original {
    Stays,
    Delete,
    MoveTo(Text),
    Mark(Text),
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Sign {
    pub by: String,
    #[serde(default)]
    pub armour: bool,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Verify {
    pub by: Vec<String>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}
