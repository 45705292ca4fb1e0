//! Every key of every kind of step and place, given a value that it cannot take: also of a kind that is added tomorrow,
//! because the keys and what they hold are read from the schema.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use serde_json::{Map, Value};
use toml::{Table, Value as Toml};
use wetbank_core::{Known, Name, Problem, book_schema, parse_book};

/// A text that what a key holds can never be.
fn bad(holds: &str) -> Option<&'static str> {
    Some(match holds {
        "template" | "text-template" | "name-template" | "folder-template" | "pattern-template" => "{{ file.nmae }}",
        "folder" => "../out",
        "pattern" => "[a",
        "duration" => "soon",
        "size" => "plenty",
        "speed" => "fast",
        "time-of-day" => "25:99",
        "day" => "someday",
        "zone" => "Atlantis/Deep",
        "place" | "partner" | "database" | "calendar" | "rule" | "branch" => "nobody-knows-it",
        "secret-name" => "not a name",
        "url" | "url-template" => "not an address",
        "host" => "no host at all",
        "path" => "not/absolute",
        "mail-address" | "address-template" => "nobody at home",
        "fingerprint" => "SHA256:short",
        _ => return None,
    })
}

/// A key of a kind: the kind's table without it, and what the schema tells of the key.
struct Key {
    kind: String,
    key: String,
    book: Box<dyn Fn(Toml) -> String>,
    schema: Value,
}

impl Key {
    fn told(&self) -> String {
        format!("{}.{}", self.kind, self.key)
    }

    /// What is found wrong with a book in which the key has this value, and the lines in which it stands.
    fn given(&self, value: Toml) -> (Vec<Problem>, std::ops::RangeInclusive<usize>) {
        let text = (self.book)(value);
        // A key of the table that is a table itself stands under its own heading.
        let begins =
            |line: &str| line.starts_with(&format!("{} =", self.key)) || line.contains(&format!("{}]", self.key));
        let from = text.lines().position(begins).map_or(1, |line| line + 1);
        let name = |name: &str| Name::new(name).unwrap();
        let known = Known {
            places: vec![name("office"), name("archive"), name("post")],
            databases: vec![name("survey")],
            ..Known::default()
        };
        let found = parse_book(&[("book".to_owned(), text.clone())], &known).err().unwrap_or_default();
        (found, from..=text.lines().count())
    }
}

/// A shape itself, where it is named or may be left out.
fn resolved(schema: &Value, of: &Value) -> Value {
    if let Some(choices) = of["anyOf"].as_array() {
        return choices.iter().map(|one| resolved(schema, one)).find(|one| one["type"] != "null").unwrap();
    }
    match of["$ref"].as_str().and_then(|to| to.strip_prefix("#/$defs/")) {
        Some(name) => schema["$defs"][name].clone(),
        None => of.clone(),
    }
}

fn properties(of: &Value) -> Map<String, Value> {
    of["properties"].as_object().cloned().unwrap_or_default()
}

fn keys() -> Vec<Key> {
    let schema = book_schema();
    let mut keys = Vec::new();
    for variant in schema["$defs"]["Step"]["oneOf"].as_array().unwrap() {
        let word = variant["required"][0].as_str().unwrap().to_owned();
        let example: Table = format!("step = {{ {} }}", variant["example"].as_str().unwrap()).parse().unwrap();
        let shape = resolved(&schema, &variant["properties"][&word]);
        for (key, told) in properties(&shape) {
            let (example, word, its) = (example.clone(), word.clone(), key.clone());
            let book = move |value: Toml| {
                let mut step = example["step"].clone();
                let table = step[&word].as_table_mut().unwrap();
                table.insert(its.clone(), value);
                // A delivery goes to a partner or to a place.
                if its == "to" {
                    table.remove("partner");
                }
                // A call sends one thing.
                if its == "text" {
                    table.remove("json");
                }
                let mut branch = Table::new();
                branch.insert("steps".to_owned(), Toml::Array(vec![step]));
                let mut rule = Table::new();
                rule.insert("branch".to_owned(), Toml::Array(vec![Toml::Table(branch)]));
                let head = "[partner.skerrow]\nkeys = ['skerrow-harbour']\ndelivery = { to = 'archive' }\n\
                            [rule.r]\nstarts = { arrival = { place = 'office' } }\n\
                            [[rule.r.branch]]\nif = { file = 'size', over = '1 GB' }\ntitle = 'Large'\n\
                            steps = [ { hold = { why = '?' } } ]\n";
                let branch = toml::to_string(&rule).unwrap();
                format!("{head}{}", branch.replace("[branch", "[rule.r.branch"))
            };
            let kind = format!("step {}", variant["required"][0].as_str().unwrap());
            keys.push(Key { kind, key, book: Box::new(book), schema: resolved(&schema, &told) });
        }
    }
    for variant in schema["$defs"]["Place"]["oneOf"].as_array().unwrap() {
        let kind = variant["properties"]["kind"]["const"].as_str().unwrap();
        let example: Table = variant["example"].as_str().unwrap().parse().unwrap();
        for (key, told) in properties(variant) {
            let (example, its) = (example.clone(), key.clone());
            let book = move |value: Toml| {
                let mut place = example.clone();
                place.insert(its.clone(), value);
                let mut all = Table::new();
                all.insert("p".to_owned(), Toml::Table(place));
                toml::to_string(&all).unwrap().replacen("[p", "[place.p", 1).replace("[p.", "[place.p.")
            };
            keys.push(Key {
                kind: format!("place {kind}"),
                key,
                book: Box::new(book),
                schema: resolved(&schema, &told),
            });
        }
    }
    keys
}

/// Collects what is wrong with the answers, so that one run tells them all.
fn complain(complaints: &[String]) {
    assert!(complaints.is_empty(), "{} of them\n{}", complaints.len(), complaints.join("\n"));
}

#[test]
fn a_value_of_another_type_is_one_mistake_where_it_stands() {
    let mut complaints = Vec::new();
    let keys = keys();
    assert!(keys.len() > 150, "{}", keys.len());
    for key in &keys {
        // No key takes a list of numbers.
        let (found, lines) = key.given(Toml::Array(vec![Toml::Integer(7)]));
        let is_told = found.len() == 1 && lines.contains(&found[0].line);
        if !is_told {
            complaints.push(format!("{} in {lines:?}: {found:?}", key.told()));
        }
    }
    complain(&complaints);
}

#[test]
fn a_text_that_cannot_be_what_the_key_holds_is_told_where_it_stands() {
    let mut complaints = Vec::new();
    let mut tried = 0;
    for key in keys() {
        let (holds, listed) = match (key.schema["holds"].as_str(), key.schema["items"]["holds"].as_str()) {
            (Some(holds), _) => (holds.to_owned(), false),
            (None, Some(holds)) => (holds.to_owned(), true),
            _ => continue,
        };
        let Some(text) = bad(&holds) else { continue };
        tried += 1;
        let value = Toml::String(text.to_owned());
        let (found, lines) = key.given(if listed { Toml::Array(vec![value]) } else { value });
        let is_named = found.iter().any(|problem| {
            problem.message.contains(text.trim_matches(['{', '}', ' '])) && lines.contains(&problem.line)
        });
        if !is_named {
            complaints.push(format!("{} = {text:?} ({holds}) in {lines:?}: {found:?}", key.told()));
        }
    }
    assert!(tried > 60, "{tried}");
    complain(&complaints);
}

#[test]
fn a_word_outside_the_choice_is_told_with_the_words_there_are() {
    let mut complaints = Vec::new();
    let mut tried = 0;
    for key in keys() {
        let words: Vec<String> = match (&key.schema["enum"], &key.schema["oneOf"]) {
            (Value::Array(words), _) => words.iter().filter_map(|word| word.as_str().map(str::to_owned)).collect(),
            (_, Value::Array(words)) => {
                words.iter().filter_map(|word| word["const"].as_str().map(str::to_owned)).collect()
            }
            _ => continue,
        };
        if words.is_empty() {
            continue;
        }
        tried += 1;
        let (found, lines) = key.given(Toml::String("otherwise".to_owned()));
        let is_told = found.len() == 1
            && lines.contains(&found[0].line)
            && found[0].message.contains("otherwise")
            && words.iter().all(|word| found[0].message.contains(word.as_str()));
        if !is_told {
            complaints.push(format!("{} of {words:?} in {lines:?}: {found:?}", key.told()));
        }
    }
    assert!(tried > 15, "{tried}");
    complain(&complaints);
}

#[test]
fn a_key_that_there_is_not_is_told_with_the_one_that_was_meant() {
    let mut complaints = Vec::new();
    for Key { kind, key, book, .. } in keys().into_iter().filter(|key| key.key != "kind") {
        // The last letter twice, in place of a key that the kind does not need.
        let slip = format!("{key}{}", key.chars().last().unwrap());
        let text = book(Toml::Boolean(true));
        let slipped: String = text.lines().fold(String::new(), |mut all, line| {
            let is_it = line == format!("{key} = true");
            all.push_str(if is_it { "" } else { line });
            if is_it {
                all.push_str(&format!("{slip} = true"));
            }
            all.push('\n');
            all
        });
        if slipped == text || !slipped.contains(&slip) {
            continue;
        }
        let known =
            Known { places: vec![Name::new("office").unwrap(), Name::new("archive").unwrap()], ..Known::default() };
        let found = parse_book(&[("book".to_owned(), slipped.clone())], &known).err().unwrap_or_default();
        let line = slipped.lines().position(|line| line.starts_with(&slip)).unwrap() + 1;
        let told = found.iter().any(|problem| {
            problem.line == line && problem.message.contains(&slip) && problem.message.contains(&format!("{key}\""))
        });
        if !told {
            complaints.push(format!("{kind}.{slip} in {line}: {found:?}"));
        }
    }
    complain(&complaints);
}
