//! The step `convert-text`.

use encoding_rs::Encoding;
use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Telling, target::FILE_NAME};
use crate::{
    Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Write a text as somebody else's program wants it: in another encoding, or with other ends of lines. A text that is not
/// what it is said to be, or that the other encoding cannot hold, is held.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Convert text")]
pub(crate) struct Shape {
    /// How it is written, a name of the WHATWG list. A mark at its beginning (BOM) is left out.
    #[schemars(title = "From", extend("default" = UTF8))]
    from: Option<Text>,
    /// How it is to be written, as in `windows-1252`.
    #[schemars(title = "To", extend("default" = UTF8))]
    to: Option<Text>,
    /// How its lines are to end.
    #[schemars(title = "Lines end with", extend("default" = "as-they-do"))]
    lines: Option<LineEnds>,
    /// The result's name.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the result", extend("default" = FILE_NAME))]
    name: Option<Text<holds::NameTemplate>>,
}

const UTF8: &str = "utf-8";

/// How lines end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LineEnds {
    /// As they are.
    AsTheyDo,
    /// With LF, as on Linux.
    Lf,
    /// With CR and LF, as on Windows.
    CrLf,
}

/// Write a text in another encoding, or with other ends of lines.
#[derive(Debug, Clone)]
pub struct ConvertText {
    /// How it is written.
    pub from: &'static Encoding,
    /// How it is to be written.
    pub to: &'static Encoding,
    /// How its lines are to end.
    pub lines: LineEnds,
    /// The result's name.
    pub name: Template,
}

fn encoding(text: Option<&Text>) -> Checked<&'static Encoding> {
    let Some(text) = text else { return Ok(encoding_rs::UTF_8) };
    Encoding::for_label(text.str().trim().as_bytes()).ok_or_else(|| {
        text.wrong(format!(
            "unknown encoding \"{}\"; it is a name of the WHATWG list, as utf-8, utf-16le, iso-8859-1, windows-1252",
            text.str()
        ))
    })
}

impl Kind for ConvertText {
    type Shape = Shape;

    const GROUP: Group = Group::Change;
    const EXAMPLE: &'static str = r#"convert-text = { to = "windows-1252", lines = "cr-lf" }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        let (from, to) = (encoding(shape.from.as_ref())?, encoding(shape.to.as_ref())?);
        if let Some(text) = shape.to.as_ref().filter(|_| to.output_encoding() != to) {
            return Err(text.wrong(format!("nothing is written in \"{}\" any more; utf-8 holds the same", text.str())));
        }
        let lines = shape.lines.unwrap_or(LineEnds::AsTheyDo);
        if from == to && lines == LineEnds::AsTheyDo {
            return Err(here.lacks("convert-text needs \"from\" or \"to\", or \"lines\": as it is, it changes nothing"));
        }
        Ok(Self { from, to, lines, name: folder_template(shape.name.as_ref(), FILE_NAME)? })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        let ends = match self.lines {
            LineEnds::AsTheyDo => "",
            LineEnds::Lf => ", its lines ending with LF",
            LineEnds::CrLf => ", its lines ending with CR and LF",
        };
        ("write its text", format!("in {}{ends}", self.to.name()))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Makes(&self.name)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
