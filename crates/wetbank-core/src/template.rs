//! Templates: placeholders in names and folders.

use std::{fmt, sync::OnceLock};

use jiff::{Timestamp, tz::TimeZone};
use minijinja::{Environment, ErrorKind, UndefinedBehavior, context};

use crate::{FileFacts, InvalidPath, RelPath, Rule};

/// What a placeholder can stand for. Anything else is refused when the rule is checked.
const KNOWN: [&str; 14] = [
    "file.name",
    "file.stem",
    "file.extension",
    "file.folder",
    "file.path",
    "file.place",
    "file.size",
    "file.modified",
    "rule.name",
    "rule.title",
    "run.id",
    "run.started",
    "now",
    "today",
];

/// A checked template. Making one proves that it renders for any file.
///
/// Placeholders: `file.name`, `file.stem`, `file.extension`, `file.folder`, `file.path`,
/// `file.place`, `file.size`, `file.modified`, `rule.name`, `rule.title`, `run.id`,
/// `run.started`, `now`, `today`. Times take a pattern: `{{ now | date("%Y/%m") }}`, in the
/// rule's time zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    source: String,
}

/// Why a template cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TemplateError {
    /// A placeholder that stands for nothing.
    #[error("\"{template}\" has an unknown placeholder {{{{ {placeholder} }}}}{}", nearest(.placeholder))]
    Unknown {
        /// The whole template.
        template: String,
        /// The unknown one.
        placeholder: String,
    },
    /// It cannot be read or rendered.
    #[error("\"{template}\" is no valid template: {reason}")]
    Invalid {
        /// The whole template.
        template: String,
        /// What is wrong with it.
        reason: String,
    },
    /// It rendered to something that is no name or folder.
    #[error("\"{template}\" gives no usable path")]
    Path {
        /// The whole template.
        template: String,
        /// Why.
        source: InvalidPath,
    },
}

fn nearest(placeholder: &str) -> String {
    KNOWN
        .iter()
        .map(|known| (strsim::damerau_levenshtein(known, placeholder), known))
        .min()
        .filter(|(distance, _)| *distance <= 4)
        .map(|(_, known)| format!("; did you mean {{{{ {known} }}}}?"))
        .unwrap_or_default()
}

/// Everything a template can tell of.
#[derive(Debug, Clone)]
pub struct TemplateFacts<'a> {
    /// The file in hand.
    pub file: &'a FileFacts,
    /// The rule at work.
    pub rule: &'a Rule,
    /// The run's number.
    pub run: i64,
    /// When the run began.
    pub started: Timestamp,
    /// The time that `now` and `today` tell.
    pub now: Timestamp,
}

fn time_value(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).to_string()
}

fn environment() -> &'static Environment<'static> {
    static ENVIRONMENT: OnceLock<Environment<'static>> = OnceLock::new();
    ENVIRONMENT.get_or_init(|| {
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::Strict);
        environment.set_auto_escape_callback(|_| minijinja::AutoEscape::None);
        environment.add_filter("date", |value: String, pattern: String| {
            let time: jiff::Zoned = value
                .parse()
                .map_err(|_| minijinja::Error::new(ErrorKind::InvalidOperation, "only a time takes a date pattern"))?;
            jiff::fmt::strtime::format(&pattern, &time)
                .map_err(|e| minijinja::Error::new(ErrorKind::InvalidOperation, e.to_string()))
        });
        environment
    })
}

impl Template {
    /// Reads and checks a template.
    pub fn new(source: &str) -> Result<Self, TemplateError> {
        let invalid = |error: &minijinja::Error| TemplateError::Invalid {
            template: source.to_owned(),
            reason: error.detail().map_or_else(|| error.kind().to_string(), str::to_owned),
        };
        let parsed = environment().template_from_str(source).map_err(|e| invalid(&e))?;
        for placeholder in parsed.undeclared_variables(true) {
            if !KNOWN.contains(&placeholder.as_str()) {
                return Err(TemplateError::Unknown { template: source.to_owned(), placeholder });
            }
        }
        let template = Self { source: source.to_owned() };
        // A dry rendering finds what reading cannot: a bad date pattern, a filter misused.
        let sample = context! {
            file => context! {
                name => "sounding-B12.xyz", stem => "sounding-B12", extension => "xyz",
                folder => "boats", path => "boats/sounding-B12.xyz", place => "office", size => 1,
                modified => "2026-03-14T06:00:00+00:00[UTC]",
            },
            rule => context! { name => "sample", title => "Sample" },
            run => context! { id => 1, started => "2026-03-14T06:00:00+00:00[UTC]" },
            now => "2026-03-14T06:00:00+00:00[UTC]",
            today => "2026-03-14",
        };
        environment().render_str(source, sample).map_err(|e| invalid(&e))?;
        Ok(template)
    }

    /// The text it was made from.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Whether it holds no placeholder.
    pub fn is_plain(&self) -> bool {
        !self.source.contains('{')
    }

    /// Fills the placeholders in.
    pub fn render(&self, facts: &TemplateFacts<'_>) -> Result<String, TemplateError> {
        if self.is_plain() {
            return Ok(self.source.clone());
        }
        let zone = &facts.rule.zone;
        let file = facts.file;
        let values = context! {
            file => context! {
                name => file.name(), stem => file.stem(), extension => file.extension(),
                folder => file.path.parent().to_string(), path => file.path.to_string(),
                place => file.place.as_str(), size => file.size,
                modified => time_value(file.modified, zone),
            },
            rule => context! { name => facts.rule.name.as_str(), title => facts.rule.title.as_str() },
            run => context! { id => facts.run, started => time_value(facts.started, zone) },
            now => time_value(facts.now, zone),
            today => facts.now.to_zoned(zone.clone()).date().to_string(),
        };
        environment().render_str(&self.source, values).map_err(|e| TemplateError::Invalid {
            template: self.source.clone(),
            reason: e.detail().map_or_else(|| e.kind().to_string(), str::to_owned),
        })
    }

    /// Renders a folder below a place's root.
    pub fn render_folder(&self, facts: &TemplateFacts<'_>) -> Result<RelPath, TemplateError> {
        RelPath::parse(&self.render(facts)?)
            .map_err(|source| TemplateError::Path { template: self.source.clone(), source })
    }

    /// Renders a single file name inside `folder`.
    pub fn render_name(&self, folder: &RelPath, facts: &TemplateFacts<'_>) -> Result<RelPath, TemplateError> {
        let bad = |source| TemplateError::Path { template: self.source.clone(), source };
        let rendered = self.render(facts)?;
        let name = RelPath::parse(&rendered).map_err(bad)?;
        if rendered.contains('/') {
            return Err(bad(InvalidPath::BadCharacter(rendered)));
        }
        folder.join_name(name.as_bytes()).map_err(bad)
    }
}

impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.source)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_unknown_placeholder_is_found_when_the_rule_is_checked() {
        let error = Template::new("{{ file.nmae }}.pgp").unwrap_err();
        assert!(error.to_string().contains("did you mean {{ file.name }}?"), "{error}");
        assert!(Template::new("{{ customer }}").is_err());
    }

    #[test]
    fn a_bad_date_pattern_is_found_when_the_rule_is_checked() {
        assert!(Template::new("{{ now | date(\"%Y/%m\") }}").is_ok());
        assert!(Template::new("{{ now | date(\"%!\") }}").is_err());
        assert!(Template::new("{{ file.name | date(\"%Y\") }}").is_err());
        assert!(Template::new("{{ now ").is_err());
    }
}
