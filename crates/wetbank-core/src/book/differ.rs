//! How two versions of a section differ, in the words that the forms have for each key.

use serde::Serialize;
use serde_json::{Map, Value};
use similar::{Algorithm, DiffOp, capture_diff_slices};

use super::{SectionKind, reference::toml_of, schema, write::order::Order};

/// Something that differs between two versions of a section.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// As in `Branch 2, step 1 (Deliver), Folder: "in" becomes "out"`.
    pub words: String,
    /// Whether files are less protected with it, or those who send or take them less surely known.
    pub unprotects: bool,
}

/// Keys that prove who a server is, or how what goes there is secured.
const GUARDS: [&str; 6] = ["host-key", "certificate", "security", "encrypt", "signed-by", "sign"];
/// Steps without which files leave unprotected, or come unchecked.
const SHIELDS: [(&str, &str); 4] = [
    ("encrypt", "files are not encrypted there any more"),
    ("sign", "files are not signed there any more"),
    ("verify", "signatures are not checked there any more"),
    ("check-manifest", "checksums are not compared there any more"),
];

/// Every difference, in the order of the book. Nothing for texts that say the same in other words or order.
pub fn differences(kind: SectionKind, old: &Map<String, Value>, new: &Map<String, Value>) -> Vec<Difference> {
    let mut found = Differences(Vec::new());
    found.tables(&Order::of(schema(), kind), "", old, new);
    found.0
}

struct Differences(Vec<Difference>);

/// A part of what something is called before what is said of it.
fn within(place: &str, part: &str) -> String {
    match place.is_empty() {
        true => part.to_owned(),
        false => format!("{place}, {part}"),
    }
}

fn shown(value: &Value) -> String {
    const LONGEST: usize = 200;
    let text = match value {
        Value::String(text) => format!("\"{text}\""),
        Value::Bool(true) => "yes".to_owned(),
        Value::Bool(false) => "no".to_owned(),
        Value::Array(list) if list.iter().all(Value::is_string) => {
            list.iter().map(shown).collect::<Vec<_>>().join(", ")
        }
        other => toml_of(other),
    };
    match text.char_indices().nth(LONGEST) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    }
}

/// What makes one of a list the same as before, whatever else of it changed.
fn identity(value: &Value, key: &str) -> String {
    let table = value.as_object();
    let text = |key: &str| table.and_then(|table| table.get(key)).and_then(Value::as_str).map(str::to_owned);
    match key {
        "steps" | "on-failure" => kind_of(value).unwrap_or_default().to_owned(),
        "branch" => text("title").unwrap_or_default(),
        "finds" => text("place").unwrap_or_default(),
        "people" => text("name").unwrap_or_default(),
        "expires" => text("what").unwrap_or_default(),
        _ => value.to_string(),
    }
}

/// The kind of a step: its only key that not every step has.
fn kind_of(step: &Value) -> Option<&str> {
    let common = ["if", "retry", "on-failure", "then"];
    step.as_object()?.keys().map(String::as_str).find(|key| !common.contains(key))
}

impl Differences {
    fn add(&mut self, words: String, unprotects: bool) {
        self.0.push(Difference { words, unprotects });
    }

    fn tables(&mut self, order: &Order<'_>, place: &str, old: &Map<String, Value>, new: &Map<String, Value>) {
        let mut all = old.clone();
        all.extend(new.clone());
        for key in order.keys(&all) {
            let inner = order.key(&all, &key);
            self.values(&inner, place, &key, old.get(&key), new.get(&key));
        }
    }

    fn values(&mut self, order: &Order<'_>, place: &str, key: &str, old: Option<&Value>, new: Option<&Value>) {
        if old == new {
            return;
        }
        let title = order.title().unwrap_or(key).to_owned();
        let is_list = |value: Option<&Value>| {
            value.is_some_and(|value| value.as_array().is_some_and(|list| list.iter().any(Value::is_object)))
        };
        if key != "if" && (is_list(old) || is_list(new)) {
            let list = |value: Option<&Value>| value.and_then(Value::as_array).cloned().unwrap_or_default();
            return self.lists(order, place, key, &title, &list(old), &list(new));
        }
        match (old, new) {
            // A condition is read as a whole.
            (Some(Value::Object(old)), Some(Value::Object(new))) if key != "if" => {
                self.tables(order, &within(place, &title), old, new);
            }
            (Some(old), Some(new)) => {
                let guards = GUARDS.contains(&key) && !(old == false && new == true);
                self.add(format!("{}: {} becomes {}", within(place, &title), shown(old), shown(new)), guards);
            }
            (None, Some(new)) => self.add(format!("{}: now {}", within(place, &title), shown(new)), false),
            (Some(old), None) => {
                let guards = GUARDS.contains(&key) && old != false;
                self.add(format!("{}: no longer {}", within(place, &title), shown(old)), guards);
            }
            (None, None) => {}
        }
    }

    fn lists(&mut self, order: &Order<'_>, place: &str, key: &str, title: &str, old: &[Value], new: &[Value]) {
        let names = |list: &[Value]| list.iter().map(|one| identity(one, key)).collect::<Vec<_>>();
        let ops = capture_diff_slices(Algorithm::Myers, &names(old), &names(new));
        let (mut gone, mut come) = (Vec::new(), Vec::new());
        for op in ops {
            match op {
                DiffOp::Equal { old_index, new_index, len } => {
                    for at in 0..len {
                        self.pair(order, place, key, (&old[old_index + at], &new[new_index + at]), new_index + at);
                    }
                }
                DiffOp::Delete { old_index, old_len, .. } => gone.extend(old_index..old_index + old_len),
                DiffOp::Insert { new_index, new_len, .. } => come.extend(new_index..new_index + new_len),
                DiffOp::Replace { old_index, old_len, new_index, new_len } => {
                    // Of as many as before each is what it became; a step of another kind is another step.
                    let same = if matches!(key, "steps" | "on-failure") { 0 } else { old_len.min(new_len) };
                    for at in 0..same {
                        self.pair(order, place, key, (&old[old_index + at], &new[new_index + at]), new_index + at);
                    }
                    gone.extend(old_index + same..old_index + old_len);
                    come.extend(new_index + same..new_index + new_len);
                }
            }
        }
        for from in gone {
            let called = self.called(order, key, title, &old[from], from);
            if let Some(at) = come.iter().position(|to| new[*to] == old[from]) {
                let to = come.remove(at);
                let moved = format!("{called} comes as number {} instead", to + 1);
                self.add(within(place, &moved), false);
                continue;
            }
            let lost = SHIELDS.iter().find(|(kind, _)| key == "steps" && kind_of(&old[from]) == Some(kind));
            let words = within(place, &format!("{called} is gone"));
            match lost {
                Some((_, lost)) => self.add(format!("{words}: {lost}"), true),
                None => self.add(words, false),
            }
        }
        for at in come {
            let called = self.called(order, key, title, &new[at], at);
            self.add(within(place, &format!("new: {called}")), false);
        }
    }

    /// What one of a list is called.
    fn called(&self, order: &Order<'_>, key: &str, title: &str, value: &Value, at: usize) -> String {
        let number = at + 1;
        match key {
            "branch" => match value["title"].as_str() {
                Some(title) => format!("Branch {number} ({title})"),
                None => format!("Branch {number}"),
            },
            "steps" | "on-failure" => {
                let kind = value.as_object().and_then(|step| order.item().kind_title(step)).unwrap_or("not known");
                let word = if key == "steps" { "step" } else { "step after a failure" };
                format!("{word} {number} ({kind})")
            }
            _ => format!("{title} {number}"),
        }
    }

    fn pair(&mut self, order: &Order<'_>, place: &str, key: &str, (old, new): (&Value, &Value), at: usize) {
        if old == new {
            return;
        }
        let called = self.called(order, key, order.title().unwrap_or(key), new, at);
        match (old, new) {
            (Value::Object(old), Value::Object(new)) => {
                self.tables_of_step(&order.item(), &within(place, &called), old, new);
            }
            (old, new) => self.add(format!("{}: {} becomes {}", within(place, &called), shown(old), shown(new)), false),
        }
    }

    /// The same, but that the key which is a step's kind is not named again.
    fn tables_of_step(&mut self, order: &Order<'_>, place: &str, old: &Map<String, Value>, new: &Map<String, Value>) {
        if order.kind_title(new).is_none() {
            return self.tables(order, place, old, new);
        }
        let kind = kind_of(&Value::Object(new.clone())).unwrap_or_default().to_owned();
        match (old.get(&kind), new.get(&kind)) {
            (Some(Value::Object(before)), Some(Value::Object(after))) => {
                self.tables(&order.key(new, &kind), place, before, after);
            }
            (Some(before), Some(after)) if before != after => {
                self.add(format!("{place}: {} becomes {}", shown(before), shown(after)), false);
            }
            _ => {}
        }
        // The rest is what every step may have.
        let mut all = old.clone();
        all.extend(new.clone());
        for key in order.keys(&all).into_iter().filter(|key| *key != kind) {
            self.values(&order.key(&all, &key), place, &key, old.get(&key), new.get(&key));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::section_value;

    fn differ(kind: SectionKind, old: &str, new: &str) -> Vec<String> {
        let value = |text: &str| section_value(kind, text).unwrap().1;
        let found = differences(kind, &value(old), &value(new));
        found.into_iter().map(|one| format!("{}{}", if one.unprotects { "! " } else { "" }, one.words)).collect()
    }

    const RULE: &str = r#"
[rule.sheets]
title  = "Sheets"
starts = { arrival = { place = "office", folder = "out", names = ["*.csv"] } }

[[rule.sheets.branch]]
title = "Results"
if    = { file = "name", starts-with = "assay-" }
steps = [ { encrypt = { to = ["skerrow"] } }, { deliver = { to = "harbour", folder = "in" } } ]

[[rule.sheets.branch]]
title = "Anything else"
steps = [ { hold = { why = "odd" } } ]
"#;

    fn rule(changes: &[(&str, &str)]) -> Vec<String> {
        let new = changes.iter().fold(RULE.to_owned(), |text, (from, to)| {
            assert!(text.contains(from), "{from}");
            text.replace(from, to)
        });
        differ(SectionKind::Rule, RULE, &new)
    }

    #[test]
    fn each_key_that_changed_is_told_by_its_title_and_its_place() {
        assert_eq!(
            rule(&[("\"harbour\", folder = \"in\"", "\"lindmoor\"")]),
            [
                "Branch 1 (Results), step 2 (Deliver), To: \"harbour\" becomes \"lindmoor\"",
                "Branch 1 (Results), step 2 (Deliver), Folder: no longer \"in\"",
            ]
        );
        assert_eq!(
            rule(&[("names = [\"*.csv\"]", "names = [\"*.csv\", \"*.txt\"], below = true")]),
            [
                "Starts, A file comes, Named: \"*.csv\" becomes \"*.csv\", \"*.txt\"",
                "Starts, A file comes, Folders below too: now yes",
            ]
        );
        assert_eq!(rule(&[("Results", "Assays")]), ["Branch 1 (Assays), Title: \"Results\" becomes \"Assays\""]);
        let condition = rule(&[("starts-with = \"assay-\"", "ends-with = \".csv\"")]);
        assert_eq!(condition.len(), 1);
        assert!(
            condition[0].starts_with("Branch 1 (Results), If: ") && condition[0].contains("ends-with"),
            "{condition:?}"
        );
        assert_eq!(
            rule(&[("{ hold = { why = \"odd\" } }", "{ hold = { why = \"odd\" }, retry = { attempts = 2 } }")]),
            ["Branch 2 (Anything else), step 1 (Hold), Try again: now { attempts = 2 }",]
        );
    }

    #[test]
    fn what_leaves_files_unprotected_is_told_as_such() {
        assert_eq!(
            rule(&[("{ encrypt = { to = [\"skerrow\"] } }, ", "")]),
            ["! Branch 1 (Results), step 1 (Encrypt) is gone: files are not encrypted there any more",]
        );
        let place = "[place.harbour]\nkind = \"sftp\"\nhost = \"h\"\nuser = \"u\"\nhost-key = \"SHA256:a\"\n";
        assert_eq!(
            differ(SectionKind::Place, place, &place.replace("host-key = \"SHA256:a\"\n", "")),
            ["! Host key: no longer \"SHA256:a\"",]
        );
        assert_eq!(
            differ(SectionKind::Place, &place.replace("host-key = \"SHA256:a\"\n", ""), place),
            ["Host key: now \"SHA256:a\"",]
        );
        let partner = "[partner.skerrow]\ndelivery = { to = \"harbour\", encrypt = true }\n";
        assert_eq!(
            differ(SectionKind::Partner, partner, &partner.replace("true", "false")),
            ["! Delivery, Encrypt: yes becomes no",]
        );
        assert_eq!(
            differ(SectionKind::Partner, &partner.replace("true", "false"), partner),
            ["Delivery, Encrypt: no becomes yes",]
        );
    }

    #[test]
    fn steps_and_branches_that_come_go_and_move_are_told_once() {
        assert_eq!(
            rule(&[("{ hold = { why = \"odd\" } }", "{ note = { text = \"x\" } }, { hold = { why = \"odd\" } }")]),
            ["Branch 2 (Anything else), new: step 1 (Note)",]
        );
        let (encrypt, deliver) =
            ("{ encrypt = { to = [\"skerrow\"] } }", "{ deliver = { to = \"harbour\", folder = \"in\" } }");
        let swapped = rule(&[(&format!("{encrypt}, {deliver}"), &format!("{deliver}, {encrypt}"))]);
        assert!(swapped.len() == 1 && swapped[0].contains("comes as number"), "{swapped:?}");
        let without = &RULE[..RULE.rfind("\n[[rule").unwrap()];
        assert_eq!(differ(SectionKind::Rule, RULE, without), ["Branch 2 (Anything else) is gone"]);
        assert_eq!(differ(SectionKind::Rule, without, RULE), ["new: Branch 2 (Anything else)"]);
    }

    #[test]
    fn what_says_the_same_does_not_differ() {
        let other = RULE
            .replace("title  = \"Sheets\"\n", "")
            .replace("[rule.sheets]\n", "[rule.sheets]\n# note\ntitle = 'Sheets'\n");
        assert!(differ(SectionKind::Rule, RULE, &other).is_empty());
        let calendar = "[calendar.office]\noff = [\"2026-12-25\"]\n";
        assert_eq!(
            differ(SectionKind::Calendar, calendar, &calendar.replace("25\"]", "25\", \"2026-12-26\"]")),
            ["Days off: \"2026-12-25\" becomes \"2026-12-25\", \"2026-12-26\"",]
        );
    }
}
