//! The step `program`.

use std::time::Duration;

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Telling};
use crate::{
    ByteSize, Name, Template,
    shape::{At, Checked, Here, Text, duration, folder_template, holds, size, template},
};

/// Run a program of the machine owner's list. What it prints is kept on record or, with `as`, is the next step's file.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Run a program")]
pub(crate) struct Shape {
    /// Its name in the machine owner's list.
    #[schemars(title = "Program")]
    run: Text<holds::ProgramName>,
    /// What it is told; `{{ local }}` is the path of the file.
    #[serde(default)]
    #[schemars(title = "Arguments")]
    args: Vec<Text<holds::Template>>,
    /// The name of the file that is made of what it prints.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the result")]
    name: Option<Text<holds::NameTemplate>>,
    /// How long it may run.
    #[schemars(title = "Time-out", extend("default" = "5 min"))]
    timeout: Option<Text<holds::Duration>>,
    /// What it may print.
    #[schemars(title = "Prints at most", extend("default" = "1 GB"))]
    most: Option<Text<holds::Size>>,
    /// It may be run again after a stop in the middle of it; else the file is held then.
    #[serde(default)]
    #[schemars(title = "May be run again")]
    again: bool,
}

/// How long a program may run, unless the book says otherwise.
const TIMEOUT: Duration = Duration::from_secs(300);
/// What a program may print, unless the book says otherwise.
const PRINTED: ByteSize = ByteSize(1_000_000_000);

/// A program.
#[derive(Debug, Clone)]
pub struct Program {
    /// Its name in the list of those that are allowed.
    pub run: Name,
    /// What it is told.
    pub args: Vec<Template>,
    /// The name of the file that is made of what it prints; it is only kept on record if there is none.
    pub name: Option<Template>,
    /// How long it may take.
    pub limit: Duration,
    /// Bytes that it may print.
    pub most: ByteSize,
    /// Whether it may be run again after a stop in the middle of it.
    pub again: bool,
}

impl Kind for Program {
    type Shape = Shape;

    const GROUP: Group = Group::Tell;
    const EXAMPLE: &'static str = r#"program = { run = "to-metres", args = ["{{ local }}"], as = "{{ file.name }}" }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        Ok(Self {
            run: Name::new(shape.run.str()).at(&shape.run)?,
            args: shape.args.iter().map(|text| template(Some(text), "")).collect::<Checked<_>>()?,
            name: shape.name.as_ref().map(|text| folder_template(Some(text), "")).transpose()?,
            limit: duration(shape.timeout.as_ref(), TIMEOUT)?,
            most: size(shape.most.as_ref(), PRINTED)?,
            again: shape.again,
        })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("run the program", self.run.to_string())
    }

    fn shift(&self) -> Shift<'_> {
        self.name.as_ref().map_or(Shift::Nothing, Shift::Makes)
    }

    fn templates(&self) -> Vec<&Template> {
        self.args.iter().chain(&self.name).collect()
    }

    fn needs_file(&self) -> bool {
        false
    }

    fn makes_file(&self) -> bool {
        self.name.is_some()
    }

    fn is_repeatable(&self) -> bool {
        self.again
    }
}
