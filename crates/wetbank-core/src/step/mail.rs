//! The step `mail`.

use globset::GlobMatcher;
use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use super::{Group, Kind, Telling};
use crate::{
    ByteSize, PlaceName, Template, address,
    condition::glob,
    sentence::joined,
    shape::{At, Checked, Here, Mistake, OneOrMany, Text, holds, place_name, size, template, texts},
};

/// Send a mail about it, or about all files of the run.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Send a mail")]
pub(crate) struct Shape {
    /// The mailbox that sends it.
    #[schemars(title = "By")]
    by: Text<holds::PlaceName>,
    /// Who gets it; one address or several, which may have placeholders.
    #[schemars(title = "To", with = "OneOrMany", extend("holds" = "address-template"))]
    to: Spanned<OneOrMany>,
    /// Its subject.
    #[schemars(title = "Subject", extend("default" = SUBJECT))]
    subject: Option<Text<holds::Template>>,
    /// Its text; `{{ lines }}` stands for a line a file, of one that was packed for each file in it.
    #[schemars(title = "Text", extend("default" = TEXT))]
    text: Option<Text<holds::TextTemplate>>,
    /// The line for each file.
    #[schemars(title = "Line for each file", extend("default" = LINE))]
    line: Option<Text<holds::Template>>,
    /// Files whose names match one of these patterns are attached.
    #[serde(default)]
    #[schemars(title = "Attach")]
    attach: Vec<Text<holds::Pattern>>,
    /// What all attached files may have together; 50 MB is the most there can be.
    #[schemars(title = "Attached at most", extend("default" = "15 MB"))]
    most: Option<Text<holds::Size>>,
    /// One mail about all files of the run, as the last step.
    #[serde(default)]
    #[schemars(title = "One about all files")]
    together: bool,
}

const SUBJECT: &str = "{{ rule.title }}";
const TEXT: &str = "{{ lines }}";
const LINE: &str = "{{ file.name }} ({{ file.size }} bytes)";
/// What a mail carries at most, unless the book says otherwise: most servers refuse 25 MB.
const ATTACHED: ByteSize = ByteSize(15_000_000);
/// No mail carries more, because all of it is in memory while it is sent.
const MOST_ATTACHED: ByteSize = ByteSize(50_000_000);

/// A mail.
#[derive(Debug, Clone)]
pub struct Mail {
    /// The mailbox that sends it.
    pub by: PlaceName,
    /// To whom.
    pub to: Vec<Template>,
    /// Its subject.
    pub subject: Template,
    /// Its text; `lines` stands for a line a file.
    pub text: Template,
    /// The line for each file.
    pub line: Template,
    /// Patterns of names; files that match are attached.
    pub attach: Vec<GlobMatcher>,
    /// Bytes of all that is attached, at most.
    pub most: ByteSize,
    /// One mail about all files of the run.
    pub together: bool,
}

impl Kind for Mail {
    type Shape = Shape;

    const GROUP: Group = Group::Tell;
    const EXAMPLE: &'static str =
        r#"mail = { by = "post", to = ["wardens@merrow.example"], subject = "New readings", together = true }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        let to: Vec<Text<holds::AddressTemplate>> = texts(&shape.to);
        if to.is_empty() {
            return Err(Mistake::missing(shape.to.span(), "a mail needs somebody to go to"));
        }
        for text in to.iter().filter(|text| !text.str().contains("{{")) {
            address::mail_address(text.str()).at(text)?;
        }
        let most = size(shape.most.as_ref(), ATTACHED)?;
        if let Some(text) = shape.most.as_ref().filter(|_| most > MOST_ATTACHED) {
            return Err(text.wrong(format!("a mail carries {MOST_ATTACHED} at most; deliver larger files to a place")));
        }
        Ok(Self {
            by: place_name(&shape.by, here.ends.places)?,
            to: to.iter().map(|text| template(Some(text), "")).collect::<Checked<_>>()?,
            subject: template(shape.subject.as_ref(), SUBJECT)?,
            text: template(shape.text.as_ref(), TEXT)?,
            line: template(shape.line.as_ref(), LINE)?,
            attach: shape.attach.iter().map(|text| glob(text.str(), false).at(text)).collect::<Checked<_>>()?,
            most,
            together: shape.together,
        })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        let to: Vec<String> = self.to.iter().map(|to| telling.of(to)).collect();
        let what = match (self.together, self.attach.is_empty()) {
            (true, true) => "send one mail about all of a run",
            (true, false) => "mail all of a run",
            (false, true) => "send a mail about it",
            (false, false) => "mail it",
        };
        (what, format!("to {}", joined(&to)))
    }

    fn templates(&self) -> Vec<&Template> {
        self.to.iter().chain([&self.subject, &self.text, &self.line]).collect()
    }

    fn needs_file(&self) -> bool {
        self.together || !self.attach.is_empty()
    }

    fn leaves_no_file(&self) -> bool {
        self.together
    }

    fn joins(&self) -> bool {
        self.together
    }

    fn place(&self) -> Option<&PlaceName> {
        Some(&self.by)
    }
}
