//! What the schema of the book tells: forms and the reference are made of it, so nothing may be missing.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use serde_json::Value;
use wetbank_core::{PlaceKind, book_schema, place_keys};

/// Every key of every table in a schema, with the way to it.
fn keys(at: &str, schema: &Value, found: &mut Vec<(String, Value)>) {
    if let Some(properties) = schema["properties"].as_object() {
        for (key, value) in properties {
            found.push((format!("{at}.{key}"), value.clone()));
            keys(&format!("{at}.{key}"), value, found);
        }
    }
    for list in ["oneOf", "anyOf"] {
        for variant in schema[list].as_array().into_iter().flatten() {
            let title = variant["title"].as_str().unwrap_or_default();
            keys(&format!("{at}({title})"), variant, found);
        }
    }
    for inner in ["items", "additionalProperties"] {
        if schema[inner].is_object() {
            keys(at, &schema[inner], found);
        }
    }
}

#[test]
fn every_key_of_the_book_has_a_title_and_says_what_it_is() {
    let schema = book_schema();
    let mut found = Vec::new();
    keys("book", &schema, &mut found);
    for (name, definition) in schema["$defs"].as_object().unwrap() {
        keys(name, definition, &mut found);
    }
    assert!(found.len() > 250, "{}", found.len());
    let untold: Vec<&str> = found
        .iter()
        .filter(|(at, key)| {
            // The word of a kind is told by the variant as a whole; of the words of a choice each tells itself.
            let is_word = key.get("const").is_some() || (at.starts_with("Step(") && at.matches('.').count() == 1);
            let is_choice = at.starts_with("Gather(") || at.starts_with("Original(");
            let told = |what: &str| key[what].as_str().is_some_and(|text| !text.trim().is_empty());
            !(is_word || is_choice || told("title") && told("description"))
        })
        .map(|(at, _)| at.as_str())
        .collect();
    assert!(untold.is_empty(), "{untold:#?}");
}

#[test]
fn a_place_has_one_variant_a_kind_with_its_own_keys_and_no_others() {
    let schema = book_schema();
    let variants = schema["$defs"]["Place"]["oneOf"].as_array().unwrap();
    assert_eq!(variants.len(), PlaceKind::ALL.len());
    for (variant, kind) in variants.iter().zip(PlaceKind::ALL) {
        let keys: Vec<&String> = variant["properties"].as_object().unwrap().keys().collect();
        assert_eq!(variant["properties"]["kind"]["const"], kind.as_str());
        assert_eq!(keys[0], "kind");
        let own = place_keys(kind.as_str()).unwrap();
        assert_eq!(keys[1..=own.len()], own.iter().collect::<Vec<_>>());
        assert_eq!(variant["additionalProperties"], false);
    }
    assert_eq!(place_keys("pigeon"), None);
}
