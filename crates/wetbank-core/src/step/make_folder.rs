//! The step `make-folder`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Telling};
use crate::{
    PlaceName, Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Make a folder; it may be there already.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Make a folder")]
pub(crate) struct Shape {
    /// The place; the one that the file came from if it is left out.
    #[schemars(title = "In")]
    to: Option<Text<holds::PlaceName>>,
    /// The folder, with all above it.
    #[schemars(title = "Folder")]
    folder: Text<holds::FolderTemplate>,
}

/// Make a folder; it may be there already.
#[derive(Debug, Clone)]
pub struct MakeFolder {
    /// The place.
    pub place: PlaceName,
    /// The folder.
    pub folder: Template,
}

impl Kind for MakeFolder {
    type Shape = Shape;

    const GROUP: Group = Group::Put;
    const EXAMPLE: &'static str = r#"make-folder = { to = "archive", folder = "{{ today }}" }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        let folder = folder_template(Some(&shape.folder), "")?;
        Ok(Self { place: here.place(shape.to.as_ref())?, folder })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("make the folder", format!("{} in {}", telling.of(&self.folder), self.place))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::MakesFolder(&self.place, &self.folder)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.folder]
    }

    fn needs_file(&self) -> bool {
        false
    }

    fn place(&self) -> Option<&PlaceName> {
        Some(&self.place)
    }
}
