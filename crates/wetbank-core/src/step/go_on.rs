//! The step `continue`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Telling};
use crate::shape::{Checked, Here, Text, holds, unknown};

/// Let a later branch of the rule go on with the file.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Go on in another branch")]
pub(crate) struct Shape {
    /// The title of that branch; it comes later, so that no file goes round in a circle.
    #[schemars(title = "Branch")]
    pub branch: Text<holds::BranchTitle>,
}

/// Let another branch go on with the file.
#[derive(Debug, Clone)]
pub struct Continue {
    /// The index of that branch; it comes later.
    pub branch: usize,
}

impl Kind for Continue {
    type Shape = Shape;

    const GROUP: Group = Group::Decide;
    const EXAMPLE: &'static str = r#"continue = { branch = "Anything else" }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        let text = &shape.branch;
        match here.titles.iter().position(|title| *title == Some(text.str())) {
            Some(branch) if branch > here.branch => Ok(Self { branch }),
            Some(_) => Err(text.wrong(format!(
                "branch \"{}\" does not come later; a file can only go on to a later branch",
                text.str()
            ))),
            None => Err(unknown("branch", text, here.titles.iter().flatten().copied())),
        }
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("go on", format!("with branch {}", self.branch + 1))
    }

    fn needs_file(&self) -> bool {
        false
    }

    fn hands_over_to(&self) -> Option<usize> {
        Some(self.branch)
    }
}
