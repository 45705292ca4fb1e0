//! Templates: placeholders in names and folders.

use std::{collections::BTreeMap, fmt, sync::OnceLock};

use jiff::{Timestamp, tz::TimeZone};
use minijinja::{Environment, ErrorKind, UndefinedBehavior, context};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use crate::{FileFacts, InvalidPath, RelPath, Rule, placeholder::PLACEHOLDERS};

/// Bytes of a template at most.
const LONGEST: usize = 64 << 10;
/// Bytes of one placeholder or statement at most: what is nested in it is read by recursion.
const LONGEST_TAG: usize = 1_000;
/// Statements of a template at most.
const MOST_STATEMENTS: usize = 200;
/// What a rendering may cost: steps, and a step for each 64 bytes that it makes.
const FUEL: u64 = 200_000;
/// Characters that a number may be filled up to.
const WIDEST: usize = 255;

/// A checked template; [`PLACEHOLDERS`] tells what may stand in it. Making one proves that it renders for any file.
///
/// Placeholders: `file.name`, `file.stem`, `file.extension`, `file.folder`, `file.path`,
/// `file.place`, `file.size`, `file.modified`, `rule.name`, `rule.title`, `run.id`,
/// `run.started`, `run.cause`, `run.event`, `now`, `today`, `count` (the how-manieth file of the rule today
/// it is); in a failure path `fault.step` and `fault.why`; in a rule that another one started
/// `chain.rule`, `chain.event`, `chain.from` and `chain.partner`; in one that letters start `mail.from`,
/// `mail.to`, `mail.subject`, `mail.date` and `mail.id`; in one that a signal starts `signal.` and what it
/// said; in a mail `lines` and `files`; in a program's arguments `local`. Times take a pattern:
/// `{{ now | date("%Y/%m") }}`, in the rule's time zone, and numbers a width: `{{ count | pad(3) }}`.
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
    crate::book::nearest(placeholder, PLACEHOLDERS.iter().map(|known| known.word))
        .map(|known| format!("; did you mean {{{{ {known} }}}}?"))
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
    ENVIRONMENT.get_or_init(plain_environment)
}

/// One in which every value stands for itself in a web address (RFC 3986, section 2): nothing in it divides or ends
/// a part of the address.
fn address_environment() -> &'static Environment<'static> {
    static ENVIRONMENT: OnceLock<Environment<'static>> = OnceLock::new();
    ENVIRONMENT.get_or_init(|| {
        let mut environment = plain_environment();
        environment.set_formatter(|output, _, value| {
            if value.is_undefined() {
                return Err(ErrorKind::UndefinedError.into());
            }
            if value.is_safe() {
                return Ok(output.write_str(value.as_str().unwrap_or_default())?);
            }
            let text = value.to_string();
            Ok(write!(output, "{}", utf8_percent_encode(&text, RESERVED))?)
        });
        // A path whose parts are to be parts of the address.
        environment.add_filter("parts", |path: String| {
            let parts = path.split('/').map(|part| utf8_percent_encode(part, RESERVED).to_string());
            minijinja::Value::from_safe_string(parts.collect::<Vec<_>>().join("/"))
        });
        environment
    })
}

/// Everything but what stands for itself anywhere in an address.
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

fn plain_environment() -> Environment<'static> {
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
    environment.add_filter("pad", |value: String, width: usize| {
        if width > WIDEST {
            let words = format!("pad fills up to {WIDEST} characters at most");
            return Err(minijinja::Error::new(ErrorKind::InvalidOperation, words));
        }
        Ok(format!("{value:0>width$}"))
    });
    environment.add_filter("parts", |path: String| path);
    environment.set_fuel(Some(FUEL));
    environment
}

/// Whether a text is too large, or too deeply nested, to be read as a template; in words.
fn is_too_much(source: &str) -> Option<String> {
    if source.len() > LONGEST {
        return Some(format!("it is longer than {} KiB", LONGEST >> 10));
    }
    let mut statements = 0;
    for (at, _) in source.match_indices('{') {
        let end = match source[at..].get(..2) {
            Some("{{") => "}}",
            Some("{%") => "%}",
            _ => continue,
        };
        statements += usize::from(end == "%}");
        let length = source[at..].find(end).unwrap_or(source.len() - at);
        if length > LONGEST_TAG {
            return Some(format!("what stands between {{ and }} is longer than {LONGEST_TAG} bytes"));
        }
    }
    (statements > MOST_STATEMENTS).then(|| format!("it has more than {MOST_STATEMENTS} statements"))
}

/// A text as an error can show it.
fn shown(source: &str) -> String {
    const SHOWN: usize = 200;
    if source.chars().count() <= SHOWN {
        source.to_owned()
    } else {
        source.chars().take(SHOWN).chain(['…']).collect()
    }
}

/// What a signal said, as it was nested.
fn signal(about: &BTreeMap<String, String>) -> serde_json::Value {
    let words = about.range("signal.".to_owned()..);
    nested(words.map_while(|(word, text)| Some((word.strip_prefix("signal.")?, text.as_str()))))
}

/// Texts under dotted names as an object of objects: `item.id` is `id` of `item`.
pub fn nested<'a>(fields: impl Iterator<Item = (&'a str, &'a str)>) -> serde_json::Value {
    let mut whole = serde_json::Map::new();
    for (path, text) in fields {
        let mut at = &mut whole;
        let mut parts = path.split('.').peekable();
        while let Some(part) = parts.next() {
            if parts.peek().is_none() {
                at.insert(part.to_owned(), text.into());
                break;
            }
            let inner = at.entry(part).or_insert_with(|| serde_json::Map::new().into());
            match inner.as_object_mut() {
                Some(object) => at = object,
                None => break,
            }
        }
    }
    whole.into()
}

/// The same as templates know it: objects and texts.
fn value(of: &serde_json::Value) -> minijinja::Value {
    match of {
        serde_json::Value::Object(fields) => {
            minijinja::Value::from_pairs(fields.iter().map(|(key, inner)| (key.as_str(), value(inner))))
        }
        serde_json::Value::String(text) => minijinja::Value::from(text.as_str()),
        _ => minijinja::Value::UNDEFINED,
    }
}

impl Template {
    /// Reads and checks a template.
    pub fn new(source: &str) -> Result<Self, TemplateError> {
        if let Some(reason) = is_too_much(source) {
            return Err(TemplateError::Invalid { template: shown(source), reason });
        }
        let invalid = |error: &minijinja::Error| TemplateError::Invalid {
            template: shown(source),
            reason: error.detail().map_or_else(|| error.kind().to_string(), str::to_owned),
        };
        let parsed = environment().template_from_str(source).map_err(|e| invalid(&e))?;
        for placeholder in parsed.undeclared_variables(true) {
            // What a signal has, only its sender knows.
            let of_signal = placeholder.strip_prefix("signal.").is_some_and(|field| !field.is_empty());
            if !of_signal && !PLACEHOLDERS.iter().any(|known| known.word == placeholder) {
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
            run => context! { id => 1, started => "2026-03-14T06:00:00+00:00[UTC]", cause => "hand", event => "new" },
            mail => context! {
                from => "desk@lindmoor.example", to => "office@merrow.example", subject => "Assay sheets",
                date => "2026-03-14T06:00:00+00:00[UTC]", id => "1@lindmoor.example",
            },
            count => "1", lines => "sounding-B12.xyz (1 bytes)", files => "1", local => "/work/1",
            chain => context! { rule => "sample", event => "fetched", from => "office", partner => "skerrow" },
            account => context! {
                name => "lindmoor", partner => "lindmoor", event => "handed-in", address => "203.0.113.7", visit => "1",
            },
            fault => context! { step => "deliver", why => "the server is away" },
            now => "2026-03-14T06:00:00+00:00[UTC]",
            today => "2026-03-14",
        };
        if !template.mentions("signal") {
            environment().render_str(source, sample).map_err(|e| invalid(&e))?;
        }
        Ok(template)
    }

    /// The text it was made from.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Whether a placeholder begins with this word, as `file` or `run.id`.
    pub fn mentions(&self, word: &str) -> bool {
        if !self.source.contains(word) {
            return false;
        }
        let parsed = environment().template_from_str(&self.source);
        parsed.is_ok_and(|template| {
            let mut used = template.undeclared_variables(true).into_iter();
            used.any(|name| name == word || name.strip_prefix(word).is_some_and(|rest| rest.starts_with('.')))
        })
    }

    /// What follows this word in placeholders: `item.id` of `signal.item.id`.
    pub fn fields_of(&self, word: &str) -> Vec<String> {
        let Ok(template) = environment().template_from_str(&self.source) else { return Vec::new() };
        let used = template.undeclared_variables(true).into_iter();
        used.filter_map(|name| Some(name.strip_prefix(word)?.strip_prefix('.')?.to_owned())).collect()
    }

    /// Whether it holds no placeholder.
    pub fn is_plain(&self) -> bool {
        !self.source.contains('{')
    }

    /// Fills the placeholders in.
    pub fn render(&self, facts: &TemplateFacts<'_>) -> Result<String, TemplateError> {
        self.render_with(environment(), facts)
    }

    /// Renders a web address. What placeholders stand for cannot lead elsewhere: it is encoded, and no part of the path
    /// becomes `.` or `..`.
    pub fn render_address(&self, facts: &TemplateFacts<'_>) -> Result<String, TemplateError> {
        let address = self.render_with(address_environment(), facts)?;
        let path = address.split(['?', '#']).next().unwrap_or_default();
        let is_dot = |part: &str| matches!(part.to_ascii_lowercase().replace("%2e", ".").as_str(), "." | "..");
        if !self.is_plain() && path.split('/').skip(3).any(is_dot) {
            return Err(TemplateError::Invalid {
                template: shown(&self.source),
                reason: "a part of the address would be . or .., which leads elsewhere".to_owned(),
            });
        }
        Ok(address)
    }

    fn render_with(&self, environment: &Environment<'_>, facts: &TemplateFacts<'_>) -> Result<String, TemplateError> {
        if self.is_plain() {
            return Ok(self.source.clone());
        }
        let zone = &facts.rule.zone;
        let file = facts.file;
        // What is not known of this run is an error where it is used.
        let about = |word: &str| {
            file.about.get(word).map_or(minijinja::Value::UNDEFINED, |text| minijinja::Value::from(text.as_str()))
        };
        let values = context! {
            file => context! {
                name => file.name(), stem => file.stem(), extension => file.extension(),
                folder => file.path.parent().to_string(), path => file.path.to_string(),
                place => file.place.as_str(), size => file.size,
                modified => time_value(file.modified, zone),
            },
            rule => context! { name => facts.rule.name.as_str(), title => facts.rule.title.as_str() },
            run => context! {
                id => facts.run, started => time_value(facts.started, zone), cause => about("run.cause"),
                event => about("run.event"),
            },
            mail => context! {
                from => about("mail.from"), to => about("mail.to"), subject => about("mail.subject"),
                date => about("mail.date"), id => about("mail.id"),
            },
            signal => value(&signal(&file.about)),
            count => about("count"), lines => about("lines"), files => about("files"), local => about("local"),
            chain => context! {
                rule => about("chain.rule"), event => about("chain.event"), from => about("chain.from"),
                partner => about("chain.partner"),
            },
            account => context! {
                name => about("account.name"), partner => about("account.partner"), event => about("account.event"),
                address => about("account.address"), visit => about("account.visit"),
            },
            fault => context! { step => about("fault.step"), why => about("fault.why") },
            now => time_value(facts.now, zone),
            today => facts.now.to_zoned(zone.clone()).date().to_string(),
        };
        environment.render_str(&self.source, values).map_err(|e| TemplateError::Invalid {
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

    #[test]
    fn a_template_that_would_take_long_or_much_is_refused_and_never_breaks_anything() {
        let nested = "{% for a in range(9999) %}".repeat(4) + "x" + &"{% endfor %}".repeat(4);
        for source in [
            nested,
            "{{ \"x\" * 1000000000 }}".to_owned(),
            format!("{{{{ {}1{} }}}}", "(".repeat(100_000), ")".repeat(100_000)),
            format!("{{{{ 1{} }}}}", "+1".repeat(50_000)),
            "{{ now | pad(70000) }}".to_owned(),
            "{% if 1 %}".repeat(5_000) + &"{% endif %}".repeat(5_000),
            "{% if 0 %}".to_owned() + &"{% elif 0 %}".repeat(5_000) + "{% endif %}",
            "{{ now }}".repeat(20_000),
            "{{ ".repeat(1_000),
        ] {
            let error = Template::new(&source).expect_err(&source[..20]);
            assert!(error.to_string().len() < 600, "{}", &source[..20]);
        }
        let deepest = format!("{{{{ \"a\"{} }}}}", "~now".repeat(240));
        assert!(Template::new(&deepest).is_ok(), "what is allowed is read on any stack");
        assert!(Template::new("{{ count | pad(255) }}").is_ok());
    }
}
