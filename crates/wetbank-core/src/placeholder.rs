//! What placeholders stand for, as people call it, and what each is for one file.

use jiff::Timestamp;
use serde::Serialize;
use serde_json::{Map, Value};

use crate::{FileFacts, Rule, Template, TemplateFacts};

/// Where in a rule a placeholder stands for something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum KnownWhere {
    /// Anywhere, in a search for files too.
    Anywhere,
    /// Where there is a file: not while files are looked for.
    OfFiles,
    /// In a rule that letters start.
    OfLetters,
    /// In a rule that accounts start.
    OfAccounts,
    /// In a rule that another one started.
    OfChains,
    /// In the steps that follow a failure.
    InFailures,
    /// In a mail.
    InMails,
    /// In a program's arguments.
    InPrograms,
}

/// Something that a placeholder can stand for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Placeholder {
    /// As templates have it: `file.stem` of `{{ file.stem }}`.
    pub word: &'static str,
    /// As people call it.
    pub title: &'static str,
    /// Of what it is.
    pub group: &'static str,
    /// Where it is known.
    pub known: KnownWhere,
    /// Whether it is a time, which takes a pattern.
    pub is_time: bool,
}

const fn text(group: &'static str, known: KnownWhere, word: &'static str, title: &'static str) -> Placeholder {
    Placeholder { word, title, group, known, is_time: false }
}

const fn time(group: &'static str, known: KnownWhere, word: &'static str, title: &'static str) -> Placeholder {
    Placeholder { word, title, group, known, is_time: true }
}

const FILE: &str = "The file";
const RUN: &str = "The run";
const NOW: &str = "Now";
const RULE: &str = "The rule";
const LETTER: &str = "The letter";
const OTHER: &str = "The other rule";
const ACCOUNT: &str = "The account";
const FAULT: &str = "What failed";
const MAIL: &str = "The mail";
const PROGRAM: &str = "The program";

/// Every placeholder but the fields of a signal, which only its sender knows.
pub const PLACEHOLDERS: [Placeholder; 36] = [
    text(FILE, KnownWhere::OfFiles, "file.stem", "name without its ending"),
    text(FILE, KnownWhere::OfFiles, "file.name", "whole name"),
    text(FILE, KnownWhere::OfFiles, "file.extension", "ending"),
    text(FILE, KnownWhere::OfFiles, "file.folder", "folder it lies in"),
    text(FILE, KnownWhere::OfFiles, "file.path", "folder and name"),
    text(FILE, KnownWhere::OfFiles, "file.place", "place it lies in"),
    text(FILE, KnownWhere::OfFiles, "file.size", "size in bytes"),
    time(FILE, KnownWhere::OfFiles, "file.modified", "when it was changed"),
    time(RUN, KnownWhere::Anywhere, "run.started", "when it began"),
    text(RUN, KnownWhere::OfFiles, "run.id", "its number"),
    text(RUN, KnownWhere::OfFiles, "count", "how many files today"),
    text(RUN, KnownWhere::Anywhere, "run.cause", "what started it"),
    text(RUN, KnownWhere::OfFiles, "run.event", "what happened to the file"),
    text(NOW, KnownWhere::Anywhere, "today", "today's date"),
    time(NOW, KnownWhere::Anywhere, "now", "date and time"),
    text(RULE, KnownWhere::Anywhere, "rule.name", "name of the rule"),
    text(RULE, KnownWhere::Anywhere, "rule.title", "title of the rule"),
    text(LETTER, KnownWhere::OfLetters, "mail.from", "who sent it"),
    text(LETTER, KnownWhere::OfLetters, "mail.to", "to whom it went"),
    text(LETTER, KnownWhere::OfLetters, "mail.subject", "its subject"),
    time(LETTER, KnownWhere::OfLetters, "mail.date", "when it was written"),
    text(LETTER, KnownWhere::OfLetters, "mail.id", "its Message-ID"),
    text(OTHER, KnownWhere::OfChains, "chain.rule", "name of the other rule"),
    text(OTHER, KnownWhere::OfChains, "chain.event", "what it did"),
    text(OTHER, KnownWhere::OfChains, "chain.from", "where the file came from"),
    text(OTHER, KnownWhere::OfChains, "chain.partner", "the partner it went to"),
    text(ACCOUNT, KnownWhere::OfAccounts, "account.name", "its name"),
    text(ACCOUNT, KnownWhere::OfAccounts, "account.partner", "the partner it belongs to"),
    text(ACCOUNT, KnownWhere::OfAccounts, "account.event", "what it did"),
    text(ACCOUNT, KnownWhere::OfAccounts, "account.address", "from where it came"),
    text(ACCOUNT, KnownWhere::OfAccounts, "account.visit", "the number of its visit"),
    text(FAULT, KnownWhere::InFailures, "fault.step", "the step that failed"),
    text(FAULT, KnownWhere::InFailures, "fault.why", "why it failed"),
    text(MAIL, KnownWhere::InMails, "lines", "a line for each file"),
    text(MAIL, KnownWhere::InMails, "files", "how many files"),
    text(PROGRAM, KnownWhere::InPrograms, "local", "where the file lies for it"),
];

/// What a placeholder is in a rule, for one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownValue {
    /// The placeholder.
    pub of: Placeholder,
    /// What it stands for; nothing if that is known only when the rule runs.
    pub value: Option<String>,
}

/// A text with placeholders, filled in for one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sample {
    /// Where in the rule's value it stands (RFC 6901).
    pub pointer: String,
    /// What it becomes; nothing if that is known only when the rule runs.
    pub text: Option<String>,
}

/// Whether something of this rule can ever be known.
fn is_of(rule: &Rule, known: KnownWhere) -> bool {
    match known {
        KnownWhere::OfLetters => rule.starts.arrival.as_ref().is_some_and(|arrival| arrival.letter.is_some()),
        KnownWhere::OfChains => rule.starts.chain.is_some(),
        KnownWhere::OfAccounts => rule.starts.account.is_some(),
        _ => true,
    }
}

fn filled(source: &str, facts: &TemplateFacts<'_>) -> Option<String> {
    Template::new(source).ok()?.render(facts).ok()
}

/// The placeholders that can be known in a rule.
pub fn known_here(rule: &Rule) -> impl Iterator<Item = Placeholder> {
    PLACEHOLDERS.into_iter().filter(|of| is_of(rule, of.known))
}

/// What placeholders of a rule stand for, for a file that came now.
pub fn known_values(rule: &Rule, file: &FileFacts, now: Timestamp) -> Vec<KnownValue> {
    let facts = TemplateFacts { file, rule, run: 0, started: now, now };
    // The next run's number is not known before it is there.
    let value = |of: Placeholder| filled(&format!("{{{{ {} }}}}", of.word), &facts).filter(|_| of.word != "run.id");
    known_here(rule).map(|of| KnownValue { of, value: value(of) }).collect()
}

/// A rule that does nothing, of this name, title and time zone: what placeholders ask of one whose own is not finished.
pub fn bare_rule(name: &str, value: &Map<String, Value>) -> Option<Rule> {
    let plain =
        serde_json::json!({ "starts": { "hand": {} }, "branch": [ { "steps": [ { "note": { "text": "x" } } ] } ] });
    let Value::Object(mut plain) = plain else { return None };
    let bare = |keys: &[&str], plain: &Map<String, Value>| {
        let mut rule = plain.clone();
        rule.extend(keys.iter().filter_map(|key| Some(((*key).to_owned(), value.get(*key)?.clone()))));
        let text = crate::section_text(crate::SectionKind::Rule, name, None, &rule).ok()?;
        crate::parse_book(&[("draft".to_owned(), text)], &crate::Known::default()).ok()?.rules.pop()
    };
    if let Some(starts) = value.get("starts").and_then(Value::as_object)
        && starts.contains_key("chain")
    {
        plain.insert("starts".to_owned(), serde_json::json!({ "chain": { "after": ["copied"] } }));
    }
    bare(&["title", "zone"], &plain).or_else(|| bare(&["title"], &plain)).or_else(|| bare(&[], &plain))
}

/// Every text of a rule's value that has placeholders, for a file that came now.
pub fn samples(rule: &Rule, value: &Map<String, Value>, file: &FileFacts, now: Timestamp) -> Vec<Sample> {
    fn walk(value: &Value, pointer: String, facts: &TemplateFacts<'_>, found: &mut Vec<Sample>) {
        let escaped = |key: &str| key.replace('~', "~0").replace('/', "~1");
        match value {
            Value::Object(map) => {
                map.iter().for_each(|(key, inner)| walk(inner, format!("{pointer}/{}", escaped(key)), facts, found));
            }
            Value::Array(list) => {
                list.iter().enumerate().for_each(|(at, inner)| walk(inner, format!("{pointer}/{at}"), facts, found));
            }
            Value::String(text) if text.contains("{{") || text.contains("{%") => {
                let is_open = Template::new(text).is_ok_and(|template| template.mentions("run.id"));
                let text = if is_open { None } else { filled(text, facts) };
                found.push(Sample { pointer, text });
            }
            _ => {}
        }
    }
    let facts = TemplateFacts { file, rule, run: 0, started: now, now };
    let mut found = Vec::new();
    value.iter().for_each(|(key, inner)| walk(inner, format!("/{key}"), &facts, &mut found));
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{About, FilePath, Known, RelPath, parse_book};

    fn rule(starts: &str) -> Rule {
        let text = format!(
            "[rule.keep]\nzone = \"Europe/Oslo\"\nstarts = {starts}\n[[rule.keep.branch]]\nsteps = [ {{ note = {{ text = \"x\" }} }} ]\n"
        );
        parse_book(&[("book".to_owned(), text)], &Known::default()).unwrap().rules.remove(0)
    }

    fn file() -> FileFacts {
        let FilePath { place, .. } = FilePath::parse("office:/x").unwrap();
        let path = RelPath::parse("out/assay-0412.csv").unwrap();
        FileFacts { place, path, size: 38, modified: Timestamp::UNIX_EPOCH, about: About::default() }
    }

    #[test]
    fn each_placeholder_is_one_that_templates_take_and_has_a_title_of_its_own() {
        for (at, one) in PLACEHOLDERS.iter().enumerate() {
            Template::new(&format!("{{{{ {} }}}}", one.word)).unwrap();
            assert_eq!(
                Template::new(&format!("{{{{ {} | date('%Y') }}}}", one.word)).is_ok(),
                one.is_time,
                "{}",
                one.word
            );
            let twice = PLACEHOLDERS[..at].iter().any(|other| (other.group, other.title) == (one.group, one.title));
            assert!(!twice && !one.title.is_empty(), "{}", one.word);
        }
    }

    #[test]
    fn what_is_known_of_a_file_is_told_and_what_only_a_run_knows_is_not() {
        let now: Timestamp = "2026-11-28T23:30:00Z".parse().unwrap();
        let known = known_values(&rule("{ hand = {} }"), &file(), now);
        let value = |word: &str| known.iter().find(|one| one.of.word == word).map(|one| one.value.clone());
        assert_eq!(value("file.stem"), Some(Some("assay-0412".to_owned())));
        assert_eq!(value("today"), Some(Some("2026-11-29".to_owned())), "in the rule's time zone");
        assert_eq!((value("run.id"), value("fault.why")), (Some(None), Some(None)));
        assert_eq!((value("mail.from"), value("chain.rule")), (None, None), "no letter and no other rule starts it");
        let chained = known_values(&rule("{ chain = { after = [\"copied\"] } }"), &file(), now);
        assert!(chained.iter().any(|one| one.of.word == "chain.rule" && one.value.is_none()));
    }

    #[test]
    fn a_rule_that_is_not_finished_has_its_zone_and_title_already() {
        let value = serde_json::json!({ "title": "Sheets", "zone": "Asia/Tokyo", "branch": [ { "steps": [ { "copy": { "to": "nowhere" } } ] } ] });
        let rule = bare_rule("sheets", value.as_object().unwrap()).unwrap();
        assert_eq!((rule.title.as_str(), rule.zone.iana_name()), ("Sheets", Some("Asia/Tokyo")));
        let wrong = serde_json::json!({ "title": 7, "zone": "Nowhere/Land", "starts": { "chain": {} } });
        let rule = bare_rule("sheets", wrong.as_object().unwrap()).unwrap();
        assert!(rule.title == "sheets" && rule.starts.chain.is_some(), "{rule:?}");
        assert!(bare_rule("no name", value.as_object().unwrap()).is_none());
    }

    #[test]
    fn each_text_with_placeholders_is_filled_in_where_it_stands() {
        let value = serde_json::json!({
            "title": "plain",
            "branch": [ { "steps": [
                { "copy": { "folder": "{{ now | date('%Y-%m') }}", "as": "{{ file.stem }}.bak" } },
                { "call": { "headers": { "a/b": "{{ run.id }}" } } },
                { "note": { "text": "{{ file.nme }}" } },
            ] } ],
        });
        let now: Timestamp = "2026-11-28T12:00:00Z".parse().unwrap();
        let samples = samples(&rule("{ hand = {} }"), value.as_object().unwrap(), &file(), now);
        let mut told: Vec<_> = samples.iter().map(|one| (one.pointer.as_str(), one.text.as_deref())).collect();
        told.sort_unstable();
        assert_eq!(
            told,
            [
                ("/branch/0/steps/0/copy/as", Some("assay-0412.bak")),
                ("/branch/0/steps/0/copy/folder", Some("2026-11")),
                ("/branch/0/steps/1/call/headers/a~1b", None),
                ("/branch/0/steps/2/note/text", None),
            ]
        );
    }
}
