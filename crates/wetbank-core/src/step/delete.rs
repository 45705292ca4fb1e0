//! The step `delete`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Telling};
use crate::shape::{Checked, Here, Nothing};

/// Remove the original, once everything before was done and verified.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(transparent)]
#[schemars(title = "Delete")]
pub(crate) struct Shape(Nothing);

/// Remove the original.
#[derive(Debug, Clone)]
pub struct Delete;

impl Kind for Delete {
    type Shape = Shape;

    const GROUP: Group = Group::Put;
    const EXAMPLE: &'static str = "delete = {}";

    fn resolve(_: &Shape, _: &Here<'_>) -> Checked<Self> {
        Ok(Self)
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("delete it", String::new())
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Deletes
    }

    fn ends_file(&self) -> bool {
        true
    }
}
