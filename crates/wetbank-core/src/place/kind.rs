//! What every kind of place tells of itself.

use std::ops::Range;

use schemars::JsonSchema;
use serde::de::DeserializeOwned;

use super::AgreedSpec;
use crate::{SecretName, shape::Checked};

/// A kind of place. What most kinds answer alike has a default.
pub(crate) trait Kind: Sized {
    /// Its keys in the book besides `kind` and the limits that all have; its comments are the kind's documentation.
    type Shape: DeserializeOwned + JsonSchema;

    /// One as the reference shows it.
    const EXAMPLE: &'static str;

    /// Checks what was written at a position and makes the place of it.
    fn resolve(shape: &Self::Shape, at: Range<usize>) -> Checked<Self>;

    /// The address for people: `merrow@sftp.skerrow.example:22/incoming`.
    fn address(&self) -> String;

    /// The names of the secrets it needs.
    fn secrets(&self) -> Vec<&SecretName> {
        Vec::new()
    }

    /// What a person must agree to before it can be used.
    fn agreed(&self) -> Option<&AgreedSpec> {
        None
    }

    /// Its folder, if it is one of this machine.
    fn local_root(&self) -> Option<&str> {
        None
    }
}
