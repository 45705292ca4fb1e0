//! Starters: ready arrangements with a few questions, each a text file of its own.

use std::{collections::BTreeMap, sync::LazyLock};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

macro_rules! files {
    ($($name:literal)*) => { [ $(($name, include_str!(concat!("../starters/", $name, ".toml")))),* ] };
}

const FILES: [(&str, &str); 28] = files! {
    "check-against-checksums"
    "cloud-to-cloud"
    "copy-with-folders"
    "decrypt-on-arrival"
    "deliver-to-a-partner"
    "deliver-what-was-fetched"
    "encrypt-and-deliver"
    "encrypt-where-it-lies"
    "extract-each-day"
    "fetch-each-morning"
    "forward-as-it-is"
    "gather-what-is-new"
    "keep-up-to-date"
    "load-into-a-table"
    "mail-what-is-saved"
    "move-all-once"
    "move-each-night"
    "pack-each-day"
    "share-an-inbox"
    "sort-by-name"
    "sort-by-size"
    "sweep-each-quarter"
    "take-out-attachments"
    "tell-what-came"
    "unpack-what-comes"
    "upload-and-set-aside"
    "upload-by-day"
    "when-a-system-says-so"
};

/// What somebody wants to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Want {
    /// Encrypt, decrypt, check.
    Protect,
    /// Bring files to others.
    Deliver,
    /// Get files from others, or keep a copy.
    Collect,
    /// Sort and move.
    Tidy,
    /// Many files as one, and one as many.
    Pack,
    /// Letters, mails, other systems.
    Tell,
    /// Tables and databases.
    Data,
}

/// A question of a starter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Ask {
    /// Under what its answer stands in the rule, as in `<key>`; that of a `folder` is two: `<to.place>` and `<to.folder>`.
    #[serde(rename = "as")]
    pub key: String,
    /// The question.
    pub label: String,
    /// What the answer is, in the words of the book's schema; empty for any text.
    pub holds: String,
    /// An answer that is often right.
    #[serde(default)]
    pub usual: String,
}

/// A ready arrangement.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Starter {
    /// Its name, that of its file.
    #[serde(skip)]
    pub name: &'static str,
    /// What it does, in a few words.
    pub title: String,
    /// What somebody wants who takes it.
    pub want: Want,
    /// What it does, in a sentence or two.
    pub about: String,
    /// Its questions, three at most.
    pub ask: Vec<Ask>,
    rule: Map<String, Value>,
}

static STARTERS: LazyLock<Vec<Starter>> = LazyLock::new(|| {
    let read = |(name, text): (&'static str, &str)| {
        let mut starter: Starter = toml::from_str(text).ok()?;
        starter.name = name;
        Some(starter)
    };
    FILES.into_iter().filter_map(read).collect()
});

/// Every starter.
pub fn starters() -> &'static [Starter] {
    &STARTERS
}

impl Starter {
    /// The value of the rule with these answers: `to.place`, `to.folder`, `key`. What is not answered is left out.
    pub fn rule(&self, answers: &BTreeMap<String, String>) -> Map<String, Value> {
        let mut rule = Map::from_iter([("title".to_owned(), Value::from(self.title.as_str()))]);
        rule.extend(self.rule.iter().filter_map(|(key, value)| Some((key.clone(), answered(value, answers)?))));
        rule
    }
}

/// A value with the answers in it; nothing for a text of which nothing is left.
fn answered(value: &Value, answers: &BTreeMap<String, String>) -> Option<Value> {
    match value {
        Value::String(text) => {
            let said = with_answers(text, answers);
            // A folder below a root that is not named begins with no slash.
            let said = if text.starts_with('<') { said.trim_start_matches('/') } else { &said };
            (!said.is_empty()).then(|| said.into())
        }
        Value::Array(list) => Some(list.iter().filter_map(|one| answered(one, answers)).collect()),
        Value::Object(map) => {
            let said = map.iter().filter_map(|(key, one)| Some((key.clone(), answered(one, answers)?)));
            Some(Value::Object(said.collect()))
        }
        other => Some(other.clone()),
    }
}

/// A text with the answers in it. What somebody answered is not read again.
fn with_answers(text: &str, answers: &BTreeMap<String, String>) -> String {
    let mut said = String::new();
    let mut rest = text;
    while let Some((before, behind)) = rest.split_once('<') {
        said.push_str(before);
        let Some((key, after)) = behind.split_once('>') else {
            said.push('<');
            rest = behind;
            continue;
        };
        said.push_str(answers.get(key).map_or("", String::as_str));
        rest = after;
    }
    said + rest
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Known, Name, Partner, SectionKind, parse_book, rule_sentence, section_text};

    fn name(text: &str) -> Name {
        Name::new(text).unwrap()
    }

    /// Answers to every question of a starter.
    fn answers(starter: &Starter) -> BTreeMap<String, String> {
        let mut answers = BTreeMap::new();
        for ask in &starter.ask {
            let answer = match ask.holds.as_str() {
                "folder" => {
                    answers.insert(
                        format!("{}.place", ask.key),
                        if ask.key == "from" { "office" } else { "archive" }.to_owned(),
                    );
                    answers.insert(format!("{}.folder", ask.key), ask.key.clone());
                    continue;
                }
                "place" => "office",
                "partner" => "skerrow",
                "database" => "survey",
                "secret-name" | "key" => "tide",
                _ if !ask.usual.is_empty() => &ask.usual,
                other => panic!("{}: nothing answers {other}", starter.name),
            };
            answers.insert(ask.key.clone(), answer.to_owned());
        }
        answers
    }

    #[test]
    fn each_starter_asks_three_questions_at_most_and_uses_every_answer() {
        assert_eq!(starters().len(), FILES.len(), "each file can be read");
        for starter in starters() {
            assert!((1..=3).contains(&starter.ask.len()), "{}", starter.name);
            assert!(!starter.about.is_empty() && starter.about.ends_with('.'), "{}", starter.name);
            let text = serde_json::to_string(&starter.rule).unwrap();
            for ask in &starter.ask {
                let keys = if ask.holds == "folder" {
                    vec![format!("<{}.place>", ask.key), format!("<{}.folder>", ask.key)]
                } else {
                    vec![format!("<{}>", ask.key)]
                };
                // A mail goes to people, not to a folder; what is asked in vain is a nuisance.
                assert!(keys.iter().all(|key| text.contains(key)), "{}: {keys:?}", starter.name);
            }
            assert!(
                !serde_json::to_string(&starter.rule(&answers(starter))).unwrap().contains('<'),
                "{}",
                starter.name
            );
        }
        let mut titles: Vec<_> = starters().iter().map(|starter| &starter.title).collect();
        titles.sort();
        titles.dedup();
        assert_eq!(titles.len(), starters().len());
    }

    #[test]
    fn each_starter_becomes_a_rule_without_a_mistake() {
        let delivery = "[partner.skerrow]\ndelivery = { to = \"archive\" }\n";
        let places = vec![name("office"), name("archive")];
        let known = Known { places: places.clone(), ..Known::default() };
        let partners: Vec<Partner> = parse_book(&[("book".to_owned(), delivery.to_owned())], &known).unwrap().partners;
        let databases = vec![name("survey")];
        let known = Known { places, partners, databases, ..Known::default() };
        for starter in starters() {
            let rule = starter.rule(&answers(starter));
            let text = section_text(SectionKind::Rule, "started", None, &rule).unwrap();
            let book = parse_book(&[("book".to_owned(), text.clone())], &known);
            let book = book.unwrap_or_else(|problems| panic!("{}: {}\n{text}", starter.name, problems[0]));
            assert!(rule_sentence(&book.rules[0]).ends_with('.'), "{}", starter.name);
        }
    }

    #[test]
    fn an_answer_is_a_text_and_nothing_else() {
        let starter = starters().iter().find(|starter| starter.name == "sort-by-name").unwrap();
        let mut said = answers(starter);
        said.insert("word".to_owned(), "<to.place>\" ]\n{{ file.name }}".to_owned());
        said.insert("to.folder".to_owned(), String::new());
        let rule = starter.rule(&said);
        assert_eq!(rule["branch"][0]["if"]["contains"], "<to.place>\" ]\n{{ file.name }}");
        assert_eq!(rule["branch"][1]["steps"][0]["move"]["folder"], "other", "below the root");
        said.remove("from.folder");
        assert!(!starter.rule(&said)["starts"]["arrival"].as_object().unwrap().contains_key("folder"));
    }
}
