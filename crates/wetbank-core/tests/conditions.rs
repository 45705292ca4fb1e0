//! Conditions as the book writes them, and how they come out.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use jiff::Timestamp;
use proptest::prelude::*;
use wetbank_core::{
    Condition, Decision, FileFacts, FilePath, Fingerprint, Known, Verdict, decide, explain, parse_book,
};

const NOW: i64 = 1_773_500_000;

/// The condition as the book writes it after `if =`.
fn condition(text: &str) -> Condition {
    let book = format!(
        "[place.office]\nkind = \"folder\"\nroot = \"/srv\"\n[rule.r]\nstarts = {{ arrival = {{ place = \"office\" }} }}\n\
         [[rule.r.branch]]\nif = {text}\nsteps = [ {{ delete = {{}} }} ]\n"
    );
    let book =
        parse_book(&[("book.toml".to_owned(), book)], &Known::default()).unwrap_or_else(|e| panic!("{text}: {e:?}"));
    book.rules[0].branches[0].condition.clone().unwrap()
}

/// A file modified so many seconds before now.
fn file(path: &str, size: u64, age: i64) -> FileFacts {
    let fingerprint = Fingerprint { size, modified: (NOW - age) * 1_000_000_000, inode: None, tag: None };
    FileFacts::new(&FilePath::parse(path).unwrap(), &fingerprint)
}

fn ask(text: &str, file: &FileFacts) -> Verdict {
    condition(text).ask(file, Timestamp::from_second(NOW).unwrap())
}

#[test]
fn each_comparison_holds_for_what_it_says_and_for_nothing_else() {
    let sheet = file("office:/assays/out/Assay-0412.csv", 204_800, 3600);
    for (asked, holds) in [
        (r#"{ file = "name", is = "Assay-0412.csv" }"#, true),
        (r#"{ file = "name", is = "assay-0412.csv" }"#, false),
        (r#"{ file = "name", is = "assay-0412.csv", case = "ignore" }"#, true),
        (r#"{ file = "name", is = ["other.csv", "Assay-0412.csv"] }"#, true),
        (r#"{ file = "name", is-not = ["other.csv", "Assay-0412.csv"] }"#, false),
        (r#"{ file = "name", is-not = "other.csv" }"#, true),
        (r#"{ file = "name", starts-with = "Assay-" }"#, true),
        (r#"{ file = "name", starts-with = "assay-" }"#, false),
        (r#"{ file = "name", starts-with = "assay-", case = "ignore" }"#, true),
        (r#"{ file = "name", ends-with = ".csv" }"#, true),
        (r#"{ file = "name", ends-with = ".CSV", case = "ignore" }"#, true),
        (r#"{ file = "name", contains = "04" }"#, true),
        (r#"{ file = "name", contains = "05" }"#, false),
        (r#"{ file = "name", like = "Assay-*.csv" }"#, true),
        (r#"{ file = "name", like = "Assay-{03,04}??.csv" }"#, true),
        (r#"{ file = "name", like = "assay" }"#, false),
        (r#"{ file = "name", like = "assay*", case = "ignore" }"#, true),
        (r#"{ file = "name", matches = "^Assay-\\d{4}\\.csv$" }"#, true),
        (r#"{ file = "name", matches = "^assay" }"#, false),
        (r#"{ file = "name", matches = "^assay", case = "ignore" }"#, true),
        (r#"{ file = "stem", is = "Assay-0412" }"#, true),
        (r#"{ file = "extension", is = "csv" }"#, true),
        (r#"{ file = "extension", is = ["txt", "CSV"], case = "ignore" }"#, true),
        (r#"{ file = "folder", is = "assays/out" }"#, true),
        (r#"{ file = "folder", within = "assays" }"#, true),
        (r#"{ file = "folder", within = "assay" }"#, false),
        (r#"{ file = "place", is = "office" }"#, true),
        (r#"{ file = "size", under = "200 KiB" }"#, false),
        (r#"{ file = "size", under = "201 KiB" }"#, true),
        (r#"{ file = "size", over = "200 kB" }"#, true),
        (r#"{ file = "size", over = "200 KiB" }"#, false),
        (r#"{ file = "age", over = "59 min" }"#, true),
        (r#"{ file = "age", over = "1h" }"#, false),
        (r#"{ file = "age", under = "1h 1s" }"#, true),
        (r#"{ file = "modified", before = "2026-03-14T13:53:21Z" }"#, true),
        (r#"{ file = "modified", before = "2026-03-14T13:53:20Z" }"#, false),
        (r#"{ file = "modified", after = "2026-03-14" }"#, true),
    ] {
        assert_eq!(ask(asked, &sheet).holds, holds, "{asked}");
    }
}

#[test]
fn a_file_dated_in_the_future_has_no_age() {
    let tomorrow = file("office:/a.csv", 1, -86_400);
    assert!(!ask(r#"{ file = "age", over = "1s" }"#, &tomorrow).holds);
    assert!(ask(r#"{ file = "age", under = "1s" }"#, &tomorrow).holds);
}

#[test]
fn names_without_extension_and_hidden_ones_have_none() {
    for name in ["README", ".profile", "ends."] {
        let verdict = ask(r#"{ file = "extension", is = "" }"#, &file(&format!("office:/{name}"), 1, 1));
        assert!(verdict.holds, "{name}: {}", verdict.found);
    }
}

#[test]
fn groups_nest_and_every_part_is_told_even_when_the_outcome_is_known() {
    let text = r#"{ all = [ { any = [ { file = "size", over = "1 MB" }, { file = "name", like = "*.csv" } ] },
                            { none = [ { file = "name", contains = "draft" }, { file = "name", contains = "test" } ] } ] }"#
        .replace('\n', " ");
    let verdict = ask(&text, &file("office:/draft.csv", 10, 1));
    assert!(!verdict.holds && verdict.parts[0].holds && !verdict.parts[1].holds);
    assert_eq!(verdict.parts[1].parts.len(), 2, "the second part is asked although the first decided");
    assert_eq!(verdict.parts[1].parts[0].asked, "name contains \"draft\"");
    assert_eq!(verdict.parts[1].parts[0].found, "draft.csv");
}

#[test]
fn an_empty_group_of_all_holds_and_of_any_does_not() {
    let any_file = file("office:/a", 1, 1);
    let now = Timestamp::from_second(NOW).unwrap();
    assert!(Condition::All(Vec::new()).ask(&any_file, now).holds);
    assert!(!Condition::Any(Vec::new()).ask(&any_file, now).holds);
    assert!(Condition::None(Vec::new()).ask(&any_file, now).holds);
}

/// Conditions of some depth over names made of few letters, so that both outcomes are common.
fn conditions() -> impl Strategy<Value = Condition> {
    let leaf = prop_oneof![
        "[ab]{1,2}".prop_map(|t| condition(&format!("{{ file = \"name\", contains = \"{t}\" }}"))),
        "[ab]".prop_map(|t| condition(&format!("{{ file = \"name\", starts-with = \"{t}\" }}"))),
        (1u64..20).prop_map(|n| condition(&format!("{{ file = \"size\", under = \"{n} B\" }}"))),
    ];
    leaf.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..3).prop_map(Condition::All),
            prop::collection::vec(inner.clone(), 0..3).prop_map(Condition::Any),
            prop::collection::vec(inner, 0..3).prop_map(Condition::None),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn none_of_is_the_opposite_of_any_of_and_of_all_the_opposites(
        parts in prop::collection::vec(conditions(), 0..4), name in "[abc]{1,4}", size in 0u64..20,
    ) {
        let facts = file(&format!("office:/{name}"), size, 1);
        let now = Timestamp::from_second(NOW).unwrap();
        let holds = |condition: &Condition| condition.ask(&facts, now).holds;
        let none = holds(&Condition::None(parts.clone()));
        prop_assert_eq!(none, !holds(&Condition::Any(parts.clone())));
        let opposites = parts.iter().map(|part| Condition::None(vec![part.clone()])).collect();
        prop_assert_eq!(none, holds(&Condition::All(opposites)));
    }

    #[test]
    fn what_is_explained_is_what_is_decided(branches in prop::collection::vec("[ab]{1,2}", 1..4), name in "[abc]{1,4}") {
        let mut text = "[place.office]\nkind = \"folder\"\nroot = \"/srv\"\n[rule.r]\nstarts = { arrival = { place = \"office\" } }\n".to_owned();
        for part in &branches {
            text += &format!("[[rule.r.branch]]\nif = {{ file = \"name\", contains = \"{part}\" }}\nsteps = [ {{ delete = {{}} }} ]\n");
        }
        let book = parse_book(&[("b".to_owned(), text)], &Known::default()).unwrap();
        let facts = file(&format!("office:/{name}"), 1, 1);
        let now = Timestamp::from_second(NOW).unwrap();
        let explained = explain(&book.rules[0], &facts, now);
        prop_assert_eq!(explained.taken_by, branches.iter().position(|part| name.contains(part.as_str())));
        match decide(&book.rules[0], &facts, now) {
            Decision::Branch(at) => prop_assert_eq!(explained.taken_by, Some(at)),
            Decision::NotTaken { why } => {
                prop_assert_eq!(explained.taken_by, None);
                prop_assert_eq!(why, explained.outcome);
            }
        }
    }
}
