//! The kind of place `folder`.

use std::ops::Range;

use schemars::JsonSchema;
use serde::Deserialize;

use super::Kind;
use crate::shape::{Checked, Text, holds};

/// A folder of the machine that Wetbank runs on, or mounted there. Nothing leads out of it, not even a link.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "A folder")]
pub(crate) struct Shape {
    /// Its absolute path, as in `/srv/office`.
    #[schemars(title = "Folder")]
    root: Text<holds::Path>,
    /// Only for a mounted share: where it must be mounted. While nothing is mounted there, it counts as not reachable.
    #[schemars(title = "Mounted at", extend("seldom" = true))]
    mount: Option<Text<holds::Path>>,
}

/// An absolute folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FolderSpec {
    /// Its root.
    pub root: String,
    /// Where a share must be mounted for it to be there; the root lies in it.
    pub mount: Option<String>,
}

impl Kind for FolderSpec {
    type Shape = Shape;

    const EXAMPLE: &'static str = r#"kind = "folder"
root = "/srv/office""#;

    fn resolve(shape: &Shape, _: Range<usize>) -> Checked<Self> {
        let root = shape.root.str();
        if !root.starts_with('/') {
            let words = format!("root \"{root}\" must be an absolute folder, as in \"/srv/office\"");
            return Err(shape.root.wrong(words));
        }
        let mount = shape.mount.as_ref().map(|text| {
            let mount = text.str().trim_end_matches('/');
            if mount.starts_with('/') && (root == mount || root.starts_with(&format!("{mount}/"))) {
                return Ok(mount.to_owned());
            }
            Err(text.wrong(format!("mount \"{}\" must be an absolute folder that holds the root", text.str())))
        });
        Ok(Self { root: root.to_owned(), mount: mount.transpose()? })
    }

    fn address(&self) -> String {
        self.root.clone()
    }

    fn local_root(&self) -> Option<&str> {
        Some(&self.root)
    }
}
