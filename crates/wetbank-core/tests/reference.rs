//! The tables of `docs/book.md` are what the keys of the book tell of themselves.
//!
//! `WETBANK_WRITE=1 cargo test -p wetbank-core --test reference` writes them anew.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{fs, path::Path};

use wetbank_core::{book_reference, with_place_kinds, with_step_kinds};

/// Puts the tables of each part between the marks for it.
fn with_tables(text: &str) -> String {
    let mut new = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once("<!-- keys: ") {
        let (part, after) = after.split_once(" -->\n").unwrap();
        let (_, after) = after.split_once("<!-- end -->").unwrap_or_else(|| panic!("{part} has no end"));
        let tables = book_reference(part).unwrap_or_else(|| panic!("there is no part {part}"));
        new.push_str(&format!("{before}<!-- keys: {part} -->\n\n{tables}\n<!-- end -->"));
        rest = after;
    }
    new + rest
}

macro_rules! words {
    ($($kind:ident $($spec:ident)? $word:literal;)*) => { vec![$($word),*] };
}

#[test]
fn the_reference_tells_every_key_as_it_is() {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/book.md");
    let text = fs::read_to_string(&file).unwrap();
    let new = with_tables(&text);
    if std::env::var_os("WETBANK_WRITE").is_some() {
        fs::write(&file, &new).unwrap();
    } else {
        assert!(new == text, "docs/book.md is stale; write it anew with WETBANK_WRITE=1 and this test");
    }
    let (steps, places) = (with_step_kinds!(words), with_place_kinds!(words));
    for word in steps.into_iter().chain(places) {
        assert!(new.contains(&format!("`{word}`:")), "{word} is not told");
    }
}

#[test]
fn a_part_that_there_is_not_has_no_reference() {
    assert_eq!(book_reference("pigeons"), None);
}
