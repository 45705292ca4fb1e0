use proptest::prelude::*;
use serde_json::json;

use super::*;

const DEMO: &str = include_str!("../../../../../demo/merrow.toml");

/// The demo's book as a person would have it, section by section.
fn sections() -> Vec<(SectionKind, String, String)> {
    let text = DEMO.replace("@port@", "22").replace("@print-port@", "21").replace("@imap-port@", "143");
    let sections = crate::book::sections::split(&text.replace("@smtp-port@", "25")).unwrap();
    assert!(sections.len() > 25);
    sections.into_iter().map(|section| (section.kind, section.name, section.text)).collect()
}

fn rule(text: &str) -> Map<String, Value> {
    section_value(SectionKind::Rule, text).unwrap().1
}

/// The rule `r` with this text after `change` was made to its value.
fn changed(text: &str, change: impl FnOnce(&mut Value)) -> String {
    let mut value = Value::Object(rule(text));
    change(&mut value);
    let Value::Object(wanted) = value else { panic!("no table") };
    let written = section_text(SectionKind::Rule, "r", Some(text), &wanted).unwrap();
    assert_eq!(rule(&written), without_nothing(&wanted), "{written}");
    written
}

#[test]
fn the_same_value_changes_no_byte_of_any_section_of_the_demo() {
    for (kind, name, text) in sections() {
        let (found, value) = section_value(kind, &text).unwrap();
        assert_eq!(found, name);
        assert_eq!(section_text(kind, &name, Some(&text), &value).unwrap(), text);
    }
}

#[test]
fn a_section_that_is_written_anew_has_the_same_value_and_the_style_of_the_demo() {
    for (kind, name, text) in sections() {
        let (_, value) = section_value(kind, &text).unwrap();
        let fresh = section_text(kind, &name, None, &value).unwrap();
        assert_eq!(section_value(kind, &fresh).unwrap(), (name.clone(), value), "{fresh}");
    }
    let text = "[rule.hut-parcel]\ntitle  = \"Readings of the huts\"\nzone   = \"Europe/London\"\n\
                starts = { schedule = { every = \"2 min\" } }\n\
                finds  = [ { place = \"office\", folder = \"huts\", names = [\"hut-*.csv\"] } ]\n\n\
                [[rule.hut-parcel.branch]]\ntitle    = \"Every reading\"\nsteps    = [\n  \
                { pack = { as = \"huts.zip\" } },\n  { deliver = { to = \"archive\", folder = \"parcels\" } },\n]\n\
                original = { move-to = \"sent\" }\n\n[[rule.hut-parcel.branch]]\nsteps = [ { hold = { why = \"?\" } } ]\n";
    let (name, value) = section_value(SectionKind::Rule, text).unwrap();
    // In whatever order the value has its keys.
    let turned: Map<String, Value> = value.into_iter().rev().collect();
    assert_eq!(section_text(SectionKind::Rule, &name, None, &turned).unwrap(), text);
}

const NOTED: &str = r#"# Agreed with the duty office.
[rule.r]   # since March
title  = "Results"   # shown on Today
# Where the laboratory puts them.
starts = { arrival = { place = "office", folder = "in", names = ["*.csv"] } }

# Large ones first.
[[rule.r.branch]]
title    = "Large"
if       = { file = "size", over = "1 MB" }   # they fill the line
steps    = [
  # The harbour wants it sealed.
  { encrypt = { to = ["skerrow"] } },   # its key of this year
  { copy = { to = "harbour", exists = "replace" } },   # as agreed
  { note = { text = "sent" } },
]
original = "delete"

# Anything else.
[[rule.r.branch]]
steps = [ { hold = { why = "?" } } ]
"#;

#[test]
fn a_value_is_changed_where_it_stands() {
    let text = changed(NOTED, |rule| rule["title"] = json!("Results of the week"));
    assert_eq!(text, NOTED.replace("\"Results\"", "\"Results of the week\""));
    let text = changed(NOTED, |rule| rule["starts"]["arrival"]["folder"] = json!("out"));
    assert_eq!(text, NOTED.replace("folder = \"in\"", "folder = \"out\""));
    let text = changed(NOTED, |rule| rule["branch"][0]["steps"][1]["copy"]["to"] = json!("archive"));
    assert_eq!(text, NOTED.replace("to = \"harbour\"", "to = \"archive\""));
    let text = changed(NOTED, |rule| rule["branch"][0]["original"] = json!({ "move-to": "sent" }));
    assert_eq!(text, NOTED.replace("original = \"delete\"", "original = { move-to = \"sent\" }"));
}

#[test]
fn what_is_new_stands_in_its_order_and_in_the_column_of_the_others() {
    let text = changed(NOTED, |rule| {
        rule["why"] = json!("The harbour asked for it.");
        rule["zone"] = json!("Europe/London");
    });
    let new = "why    = \"The harbour asked for it.\"\nzone   = \"Europe/London\"\n";
    assert_eq!(text, NOTED.replace("# Where the", &format!("{new}# Where the")));
    let text = changed(NOTED, |rule| rule["starts"]["arrival"]["below"] = json!(true));
    assert_eq!(text, NOTED.replace("[\"*.csv\"] }", "[\"*.csv\"], below = true }"));
    let text = changed(NOTED, |rule| rule["starts"]["hand"] = json!({}));
    assert_eq!(text, NOTED.replace("[\"*.csv\"] } }", "[\"*.csv\"] }, hand = {} }"));
    let text = changed(NOTED, |rule| rule["branch"][1]["title"] = json!("Rest"));
    assert_eq!(text, NOTED.replace("branch]]\nsteps", "branch]]\ntitle = \"Rest\"\nsteps"));
}

#[test]
fn what_goes_takes_its_own_notes_along_and_no_others() {
    let text = changed(NOTED, |rule| _ = rule.as_object_mut().unwrap().remove("title"));
    assert_eq!(text, NOTED.replace("title  = \"Results\"   # shown on Today\n", ""));
    let text = changed(NOTED, |rule| _ = rule["branch"][0]["steps"].as_array_mut().unwrap().remove(1));
    assert_eq!(text, NOTED.replace("  { copy = { to = \"harbour\", exists = \"replace\" } },   # as agreed\n", ""));
    let text = changed(NOTED, |rule| _ = rule["branch"].as_array_mut().unwrap().remove(1));
    assert_eq!(text, NOTED.split("\n# Anything else").next().unwrap());
    let text = changed(NOTED, |rule| rule["branch"][0]["if"] = Value::Null);
    assert_eq!(text, NOTED.replace("if       = { file = \"size\", over = \"1 MB\" }   # they fill the line\n", ""));
}

#[test]
fn what_is_moved_keeps_its_notes() {
    let text = changed(NOTED, |rule| rule["branch"][0]["steps"].as_array_mut().unwrap().rotate_left(1));
    let (encrypt, copy, note) = (
        "  # The harbour wants it sealed.\n  { encrypt = { to = [\"skerrow\"] } },   # its key of this year\n",
        "  { copy = { to = \"harbour\", exists = \"replace\" } },   # as agreed\n",
        "  { note = { text = \"sent\" } },\n",
    );
    assert_eq!(text, NOTED.replace(&[encrypt, copy, note].concat(), &[copy, note, encrypt].concat()));
    let text = changed(NOTED, |rule| rule["branch"].as_array_mut().unwrap().reverse());
    let (head, branches) = NOTED.split_once("\n# Large ones").unwrap();
    let (large, rest) = branches.split_once("\n# Anything else").unwrap();
    assert_eq!(text, format!("{head}\n# Anything else{rest}\n# Large ones{large}"));
}

#[test]
fn steps_are_added_each_in_a_line_of_its_own() {
    let step = json!({ "verify": { "by": ["lab"] } });
    let text = changed(NOTED, |rule| rule["branch"][0]["steps"].as_array_mut().unwrap().insert(0, step.clone()));
    assert_eq!(
        text,
        NOTED.replace("  # The harbour wants", "  { verify = { by = [\"lab\"] } },\n  # The harbour wants")
    );
    let text = changed(NOTED, |rule| rule["branch"][0]["steps"].as_array_mut().unwrap().push(step.clone()));
    assert_eq!(text, NOTED.replace("\"sent\" } },\n", "\"sent\" } },\n  { verify = { by = [\"lab\"] } },\n"));
    let text = changed(NOTED, |rule| rule["branch"][1]["steps"].as_array_mut().unwrap().push(step));
    assert_eq!(text, NOTED.replace("\"?\" } } ]", "\"?\" } }, { verify = { by = [\"lab\"] } } ]"));
    let branch = json!({ "title": "Small", "steps": [ { "delete": {} } ] });
    let text = changed(NOTED, |rule| rule["branch"].as_array_mut().unwrap().insert(1, branch));
    let new = "[[rule.r.branch]]\ntitle = \"Small\"\nsteps = [ { delete = {} } ]\n\n";
    assert_eq!(text, NOTED.replace("# Anything else", &format!("{new}# Anything else")));
}

#[test]
fn a_list_that_becomes_long_gets_a_line_for_each() {
    let text = "[calendar.merrow]\ntitle = \"Merrow\"   # ours\noff   = [\"2026-12-24..2027-01-01\"]   # closed\n";
    let (_, mut calendar) = section_value(SectionKind::Calendar, text).unwrap();
    let days: Vec<String> = (1..=12).map(|month| format!("2027-{month:02}-01")).collect();
    calendar["off"].as_array_mut().unwrap().extend(days.iter().cloned().map(Value::from));
    let written = section_text(SectionKind::Calendar, "merrow", Some(text), &calendar).unwrap();
    let lines: String = days.iter().map(|day| format!("  \"{day}\",\n")).collect();
    let list = format!("off   = [\n  \"2026-12-24..2027-01-01\",\n{lines}]   # closed\n");
    assert_eq!(written, text.replace("off   = [\"2026-12-24..2027-01-01\"]   # closed\n", &list));
    let fresh = section_text(SectionKind::Calendar, "merrow", None, &calendar).unwrap();
    assert_eq!(fresh, written.replace("   # ours", "").replace("   # closed", ""));
}

#[test]
fn a_section_gets_another_name_and_keeps_all_else() {
    let text = section_text(SectionKind::Rule, "results", Some(NOTED), &rule(NOTED)).unwrap();
    assert_eq!(text, NOTED.replace("rule.r", "rule.results"));
}

#[test]
fn other_ways_to_write_the_same_are_changed_too() {
    for text in [
        "[rule.r]\nstarts.arrival.place = \"office\"\nstarts.arrival.folder = \"in\"\n[[rule.r.branch]]\nsteps = [ { delete = {} } ]\n",
        "[rule.r.starts.arrival]\nplace = \"office\"\nfolder = \"in\"\n[[rule.r.branch]]\nsteps = [ { delete = {} } ]\n",
        "[rule.r]\nbranch = [ { steps = [ { delete = {} } ] } ]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n",
        "[[rule.r.branch]]\n[[rule.r.branch.steps]]\ndelete = {}\n[rule.r.starts]\narrival = { place = 'office', folder = 'in' }\n",
        "[rule]\nr = { starts = { arrival = { place = \"office\", folder = \"in\" } }, branch = [ { steps = [ { delete = {} } ] } ] }\n",
    ] {
        let text = changed(text, |rule| {
            rule["starts"]["arrival"]["below"] = json!(true);
            rule["starts"]["arrival"]["folder"] = json!("out");
            rule["branch"][0]["title"] = json!("All");
            rule["branch"].as_array_mut().unwrap().insert(0, json!({ "steps": [ { "hold": { "why": "?" } } ] }));
        });
        assert!(text.contains("\"out\""), "{text}");
    }
}

#[test]
fn nested_tables_go_with_the_branch_that_they_belong_to() {
    let text = "[rule.r]\nstarts = { hand = {} }\n[[rule.r.branch]]\ntitle = \"A\"\nsteps = []\n[rule.r.branch.if]\nfile = \"name\"\n\
                is = \"a\"\n[[rule.r.branch]]\ntitle = \"B\"\nsteps = []\n[rule.r.branch.if]\nfile = \"name\"\nis = \"b\"\n";
    changed(text, |rule| rule["branch"].as_array_mut().unwrap().reverse());
    changed(text, |rule| rule["branch"].as_array_mut().unwrap().insert(1, json!({ "title": "C", "steps": [] })));
    changed(text, |rule| _ = rule["branch"].as_array_mut().unwrap().remove(0));
}

#[test]
fn what_no_book_can_hold_and_what_is_no_section_is_refused() {
    let wanted = |value: Value| value.as_object().unwrap().clone();
    let error = section_text(SectionKind::Rule, "r", None, &wanted(json!({ "a": u64::MAX }))).unwrap_err();
    assert!(error.to_string().contains("rule.a"), "{error}");
    assert!(section_text(SectionKind::Rule, "r", None, &wanted(json!({ "a": [null] }))).is_err());
    for text in ["", "[place.p]\n", "[rule.r]\n[rule.s]\n", "[rule.r]\n[place.p]\n", "rule = 7\n", "[rule.r\n"] {
        assert!(section_value(SectionKind::Rule, text).is_err(), "{text}");
        assert!(section_text(SectionKind::Rule, "r", Some(text), &Map::new()).is_err(), "{text}");
    }
}

#[test]
fn hostile_texts_stay_texts() {
    for hostile in
        ["\"\n[rule.evil]\nx = 1", "'''", "\"\"\"", "a\\b", "\u{0}\u{7}", "{{ file.name }}", "# no note", "ünï\u{202e}"]
    {
        changed(NOTED, |rule| {
            rule["title"] = json!(hostile);
            rule["branch"][0]["steps"][2]["note"]["text"] = json!(hostile);
        });
    }
}

/// Numbers that follow from one another, so that a case that failed can be made again.
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % most.max(1)
    }

    fn pick<'a, T>(&mut self, of: &'a [T]) -> Option<&'a T> {
        if of.is_empty() { None } else { Some(&of[self.below(of.len())]) }
    }
}

/// Some value that the schema allows.
fn some(schema: &Value, shape: &Value, depth: usize, dice: &mut Dice) -> Value {
    if let Some(name) = shape["$ref"].as_str().and_then(|to| to.strip_prefix("#/$defs/")) {
        return some(schema, &schema["$defs"][name], depth, dice);
    }
    if !shape["const"].is_null() {
        return shape["const"].clone();
    }
    for list in ["oneOf", "anyOf"] {
        let variants: Vec<&Value> =
            shape[list].as_array().into_iter().flatten().filter(|one| one["type"] != "null").collect();
        if let Some(variant) = dice.pick(&variants) {
            return some(schema, variant, depth, dice);
        }
    }
    if let Some(word) = shape["enum"].as_array().and_then(|words| dice.pick(words)) {
        return word.clone();
    }
    if let Some(properties) = shape["properties"].as_object() {
        let needed: Vec<&str> = shape["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
        let wanted =
            properties.iter().filter(|(key, _)| needed.contains(&key.as_str()) || depth < 6 && dice.below(3) == 0);
        let wanted: Vec<_> = wanted.collect();
        return Value::Object(
            wanted.into_iter().map(|(key, inner)| (key.clone(), some(schema, inner, depth + 1, dice))).collect(),
        );
    }
    let kind = match &shape["type"] {
        Value::Array(kinds) => kinds[0].as_str(),
        kind => kind.as_str(),
    };
    match kind {
        Some("array") => {
            let count = if depth > 5 { 0 } else { dice.below(4) };
            (0..count).map(|_| some(schema, &shape["items"], depth + 1, dice)).collect()
        }
        Some("object") => {
            let keys = ["day", "a.b", "ä ö"].into_iter().take(dice.below(4));
            Value::Object(
                keys.map(|key| (key.to_owned(), some(schema, &shape["additionalProperties"], depth + 1, dice)))
                    .collect(),
            )
        }
        Some("boolean") => Value::Bool(dice.below(2) == 0),
        Some("integer" | "number") => json!(dice.below(200)),
        _ => json!(["in", "2026/out", "{{ file.name }}", "say \"so\"", "two\nlines", "#", "", "ß"][dice.below(8)]),
    }
}

/// Changes something somewhere in a value.
fn change(value: &mut Value, dice: &mut Dice) {
    match value {
        Value::Object(map) if !map.is_empty() && dice.below(5) > 0 => {
            let keys: Vec<String> = map.keys().cloned().collect();
            let key = dice.pick(&keys).unwrap();
            if dice.below(5) == 0 {
                map.remove(key);
            } else {
                change(map.get_mut(key).unwrap(), dice);
            }
        }
        Value::Array(list) if !list.is_empty() => {
            let at = dice.below(list.len());
            match dice.below(5) {
                0 => _ = list.remove(at),
                1 => list.rotate_left(at),
                2 => list.insert(at, list[0].clone()),
                _ => change(&mut list[at], dice),
            }
        }
        Value::String(text) => text.push('x'),
        Value::Bool(is) => *is = !*is,
        Value::Number(_) => *value = json!(dice.below(1000)),
        other => *other = json!("new"),
    }
}

/// A text with notes above and behind some of its lines, and the notes each with the line that it is about.
fn noted(text: &str, dice: &mut Dice) -> (String, Vec<(String, String)>) {
    let (mut with, mut notes) = (String::new(), Vec::new());
    // A text of several lines holds no notes.
    let mut in_text = false;
    for (number, line) in text.lines().enumerate() {
        let begins_or_ends = line.matches("\"\"\"").count() % 2 == 1;
        let is_whole = !in_text && !begins_or_ends && !line.is_empty();
        let begins = is_whole && !line.starts_with(']');
        if begins && dice.below(3) == 0 {
            let indent = &line[..line.len() - line.trim_start().len()];
            with.push_str(&format!("{indent}# above {number}\n"));
            notes.push((format!("# above {number}"), line.to_owned()));
        }
        with.push_str(line);
        if is_whole && !line.ends_with('[') && dice.below(4) == 0 {
            with.push_str(&format!("  # behind {number}"));
            notes.push((format!("# behind {number}"), line.to_owned()));
        }
        with.push('\n');
        in_text ^= begins_or_ends;
    }
    (with, notes)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn whatever_a_section_is_changed_to_its_text_says_so_and_keeps_the_notes(seed in any::<u64>(), which in 0usize..5) {
        let (kind, dice) = (SectionKind::ALL[which], &mut Dice(seed));
        let schema = schema();
        let shape = &schema["properties"][kind.as_str()]["additionalProperties"];
        let value = some(schema, shape, 0, dice);
        let value = value.as_object().unwrap();
        let fresh = section_text(kind, "x", None, value).unwrap();
        let (name, read) = section_value(kind, &fresh).unwrap();
        prop_assert_eq!((name.as_str(), &read), ("x", value), "{}", fresh);
        let (text, notes) = noted(&fresh, dice);
        prop_assert_eq!(&section_value(kind, &text).unwrap().1, value, "{}", text);
        prop_assert_eq!(&section_text(kind, "x", Some(&text), value).unwrap(), &text);
        let mut wanted = Value::Object(value.clone());
        for _ in 0..=dice.below(3) {
            change(&mut wanted, dice);
        }
        let Value::Object(wanted) = wanted else { return Ok(()) };
        let written = section_text(kind, "x", Some(&text), &wanted).unwrap();
        prop_assert_eq!(&section_value(kind, &written).unwrap().1, &wanted, "{}\n->\n{}", text, written);
        // The line that it is about is still there: so is the note.
        let lines: Vec<&str> = written.lines().collect();
        // A bracket by itself may be the end of another list than before.
        let is_bracket = |line: &str| line.trim_matches(['[', ']', '{', '}', ',', ' ']).is_empty();
        for (note, line) in notes.into_iter().filter(|(_, line)| !is_bracket(line)) {
            let count = |text: &str| text.lines().filter(|one| one.split("  # behind").next() == Some(line.as_str())).count();
            if lines.iter().any(|one| one.split("  # behind").next() == Some(line.as_str())) && count(&text) == 1 && count(&written) == 1 {
                prop_assert!(written.contains(&note), "{note} of {line} is gone:\n{text}\n->\n{written}");
            }
        }
    }
}
