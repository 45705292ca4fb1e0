//! What holds of every kind of step, also of one that is added tomorrow.

use serde_json::{Map, Value};

use crate::{Book, Known, Name, Telling, book_schema, parse_book};

/// A book in which every name that an example has is known, with one branch of these steps.
fn book(steps: &str) -> Book {
    let text = format!(
        "[partner.skerrow]\nkeys = [\"skerrow-harbour\"]\ndelivery = {{ to = \"archive\" }}\n\
         [rule.r]\nstarts = {{ arrival = {{ place = \"office\" }} }}\n\
         [[rule.r.branch]]\nif = {{ file = \"size\", over = \"1 MB\" }}\nsteps = [ {steps} ]\n\
         [[rule.r.branch]]\ntitle = \"Anything else\"\nsteps = [ {{ hold = {{ why = \"?\" }} }} ]\n"
    );
    let name = |name: &str| Name::new(name).unwrap();
    let known = Known {
        places: vec![name("office"), name("archive"), name("post")],
        databases: vec![name("survey")],
        twins: vec![name("volunteers")],
        ..Known::default()
    };
    parse_book(&[("book".to_owned(), text)], &known).unwrap_or_else(|e| panic!("{steps}: {e:#?}"))
}

/// The kinds as the schema tells them: word, variant, what stands behind the word.
fn kinds() -> Vec<(String, Value, Map<String, Value>)> {
    let schema = book_schema();
    let resolved = |mut shape: Value| {
        if let Some(name) = shape["$ref"].as_str().and_then(|to| to.strip_prefix("#/$defs/")) {
            shape = schema["$defs"][name].clone();
        }
        shape
    };
    let variants = schema["$defs"]["Step"]["oneOf"].as_array().unwrap();
    variants
        .iter()
        .map(|variant| {
            let word = variant["required"][0].as_str().unwrap().to_owned();
            let shape = resolved(variant["properties"][&word].clone());
            let keys = shape["properties"].as_object().cloned().unwrap_or_default();
            (word, variant.clone(), keys)
        })
        .collect()
}

#[test]
fn the_example_of_every_kind_is_one_and_tells_itself_in_words() {
    let kinds = kinds();
    assert!(kinds.len() >= 25, "{}", kinds.len());
    for (word, variant, _) in &kinds {
        let example = variant["example"].as_str().unwrap();
        let book = book(&format!("{{ {example} }}"));
        let steps = &book.rules[0].branches[0].steps;
        let step = &steps.last().unwrap().step;
        assert_eq!(step.kind(), word, "{example}");
        assert!(step.words(Telling::AsWritten).len() > 5, "{example}");
        for told in ["title", "description", "group"] {
            assert!(variant[told].as_str().is_some_and(|text| !text.is_empty()), "{word} has no {told}");
        }
    }
}

#[test]
fn what_the_schema_calls_a_default_is_what_counts_when_nothing_is_said() {
    for (word, variant, keys) in kinds() {
        let example = variant["example"].as_str().unwrap();
        let bare = format!("{:?}", book(&format!("{{ {example} }}")).rules[0].branches);
        let given: toml::Table = format!("step = {{ {example} }}").parse().unwrap();
        for (key, schema) in &keys {
            let Some(default) = schema.get("default") else { continue };
            let mut said = given.clone();
            let inner = said["step"][&word].as_table_mut().unwrap();
            if inner.contains_key(key) {
                continue;
            }
            inner.insert(key.clone(), toml::Value::try_from(default).unwrap());
            let said = format!("{:?}", book(&said["step"].to_string()).rules[0].branches);
            // That it is said makes a limit count as wanted; what it is stays the same.
            let said = said.replace("is_said: true", "is_said: false");
            assert_eq!(said, bare, "{word}: {key} = {default}");
        }
    }
}
