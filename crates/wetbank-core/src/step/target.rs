//! Where a file goes, as several kinds of step tell it.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Telling;
use crate::{
    ByteSize, Name, PlaceName, QuietHours, Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Where a file goes.
#[derive(Debug, Clone)]
pub struct Target {
    /// The place.
    pub place: PlaceName,
    /// The folder there.
    pub folder: Template,
    /// The name there.
    pub name: Template,
    /// What to do when the name is taken.
    pub exists: IfExists,
    /// When nothing may come there.
    pub quiet: Option<QuietHours>,
    /// The partner whose form this is.
    pub partner: Option<Name>,
    /// Whether a name that is not possible there is changed into one that is.
    pub fit: bool,
    /// Whether its SHA-256 is recorded, besides the BLAKE3 by which it is checked.
    pub sha256: bool,
}

/// What to do when a name is taken at the target.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IfExists {
    /// Hold the file and ask a person.
    Refuse,
    /// Put the new file in its place.
    Replace,
    /// Choose a free name: `name (2).csv`.
    KeepBoth,
    /// Skip when the content is the same, else hold.
    SkipSame,
}

/// How much may come out of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Most {
    /// Bytes at most.
    pub bytes: ByteSize,
    /// The book says so; then the file may also grow beyond all measure.
    pub is_said: bool,
}

/// Where it is put, under which name, and what is done when the name is taken.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct TargetShape {
    /// The place; the one that the file came from if it is left out.
    #[schemars(title = "To")]
    pub to: Option<Text<holds::PlaceName>>,
    /// The folder there, made if it is not there yet; the place's root if it is left out.
    #[schemars(title = "Folder")]
    pub folder: Option<Text<holds::FolderTemplate>>,
    /// The name there.
    #[serde(rename = "as")]
    #[schemars(title = "Name", extend("default" = FILE_NAME))]
    pub name: Option<Text<holds::NameTemplate>>,
    /// What is done when the name is taken.
    #[schemars(title = "When the name is taken", extend("default" = "refuse"))]
    pub exists: Option<IfExists>,
    /// A name that is not possible there is changed into one that is, instead of holding the file.
    #[serde(default)]
    #[schemars(title = "Make the name fit", extend("seldom" = true))]
    pub fit_name: bool,
    /// Its SHA-256 is recorded too; without it a copy on this machine is faster.
    #[schemars(title = "Record its SHA-256", extend("seldom" = true, "default" = true))]
    pub sha256: Option<bool>,
}

/// The name that a file has.
pub(crate) const FILE_NAME: &str = "{{ file.name }}";

impl TargetShape {
    pub fn resolve(&self, here: &Here<'_>) -> Checked<Target> {
        if self.folder.is_none() && self.to.is_none() {
            return Err(here.lacks("needs \"to\" (a place), \"folder\", or both"));
        }
        Ok(Target {
            place: here.place(self.to.as_ref())?,
            folder: folder_template(self.folder.as_ref(), "")?,
            name: folder_template(self.name.as_ref(), FILE_NAME)?,
            exists: self.exists.unwrap_or(IfExists::Refuse),
            quiet: None,
            partner: None,
            fit: self.fit_name,
            sha256: self.sha256.unwrap_or(true),
        })
    }
}

impl Target {
    /// It in plain words: `skerrow-harbour › 2026, replacing what is there`.
    pub(crate) fn words(&self, telling: Telling<'_>) -> String {
        let mut words = match &self.partner {
            Some(partner) => format!("partner {partner} at {}", self.place),
            None => self.place.to_string(),
        };
        let folder = telling.of(&self.folder);
        let folder = folder.trim_matches('/');
        if !folder.is_empty() && folder != "." {
            words.push_str(&format!(" › {folder}"));
        }
        if self.name.source() != FILE_NAME {
            words.push_str(&format!(" as {}", telling.of(&self.name)));
        }
        match self.exists {
            IfExists::Refuse => {}
            IfExists::Replace => words.push_str(", replacing what is there"),
            IfExists::KeepBoth => words.push_str(", keeping both if the name is taken"),
            IfExists::SkipSame => words.push_str(", unless it is there already"),
        }
        if !self.sha256 {
            words.push_str(", without a SHA-256");
        }
        if let Some(quiet) = &self.quiet {
            words.push_str(&format!(", never from {quiet}"));
        }
        words
    }
}
