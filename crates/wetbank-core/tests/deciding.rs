//! Which files a rule sees, and which of its branches takes one.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use jiff::Timestamp;
use proptest::prelude::*;
use wetbank_core::{Decision, FileFacts, FilePath, Fingerprint, Known, Rule, decide, explain, parse_book};

const PLACES: &str = "[place.office]\nkind = 'folder'\nroot = '/srv/office'\n\
                      [place.archive]\nkind = 'folder'\nroot = '/srv/archive'\n";

/// A rule that starts like this, with a branch for large files and one for the rest.
fn rule(starts: &str) -> Rule {
    let text = format!(
        "{PLACES}[rule.other]\nstarts = {{ arrival = {{ place = 'archive' }} }}\n\
         [[rule.other.branch]]\nsteps = [ {{ delete = {{}} }} ]\n\
         [rule.r]\n{starts}\n[[rule.r.branch]]\ntitle = 'Large'\nif = {{ file = 'size', over = '1 MB' }}\n\
         steps = [ {{ delete = {{}} }} ]\n[[rule.r.branch]]\ntitle = 'Rest'\nsteps = [ {{ delete = {{}} }} ]\n"
    );
    let book =
        parse_book(&[("book".to_owned(), text)], &Known::default()).unwrap_or_else(|e| panic!("{starts}: {e:?}"));
    book.rules.into_iter().find(|rule| rule.name.as_str() == "r").unwrap()
}

fn file(path: &str, size: u64) -> FileFacts {
    let state = Fingerprint { size, modified: 1_773_468_000_000_000_000, inode: None, tag: None };
    FileFacts::new(&FilePath::parse(path).unwrap(), &state)
}

fn now() -> Timestamp {
    Timestamp::from_second(1_773_500_000).unwrap()
}

fn takes(rule: &Rule, path: &str) -> bool {
    explain(rule, &file(path, 10), now()).taken_by.is_some()
}

#[test]
fn an_arrival_sees_its_folder_and_what_is_below_only_where_it_is_told_to() {
    let flat = rule("starts = { arrival = { place = 'office', folder = 'in' } }");
    let deep = rule("starts = { arrival = { place = 'office', folder = 'in', below = true } }");
    for (path, seen, seen_deep) in [
        ("office:/in/a.csv", true, true),
        ("office:/in/2026/a.csv", false, true),
        ("office:/in/2026/11/a.csv", false, true),
        ("office:/a.csv", false, false),
        ("office:/inner/a.csv", false, false),
        ("office:/other/in/a.csv", false, false),
        ("archive:/in/a.csv", false, false),
    ] {
        assert_eq!((takes(&flat, path), takes(&deep, path)), (seen, seen_deep), "{path}");
    }
}

#[test]
fn names_and_exceptions_are_asked_of_the_name_alone() {
    let named = rule(
        "starts = { arrival = { place = 'office', folder = 'in', below = true, names = ['*.csv', '*.xyz'], except = ['draft-*'] } }",
    );
    for (path, seen) in [
        ("office:/in/a.csv", true),
        ("office:/in/b.xyz", true),
        ("office:/in/a.txt", false),
        ("office:/in/draft-a.csv", false),
        ("office:/in/draft-folder/a.csv", true),
        ("office:/in/a.csv.part", false),
        ("office:/in/A.CSV", false),
    ] {
        assert_eq!(takes(&named, path), seen, "{path}");
    }
}

#[test]
fn our_own_unfinished_files_are_never_taken() {
    let all = rule("starts = { arrival = { place = 'office', folder = 'in' } }");
    let explanation = explain(&all, &file("office:/in/.wetbank-41-a.csv", 10), now());
    assert_eq!(explanation.taken_by, None);
    assert!(explanation.outcome.contains("complete") && explanation.outcome.contains("unfinished"), "{explanation:?}");
}

#[test]
fn a_file_of_any_of_a_rules_searches_is_taken() {
    let searches = rule(
        "starts = { schedule = { at = ['07:30'] } }\n\
         finds = [ { place = 'office', folder = 'in', names = ['*.csv'] }, { place = 'archive', folder = 'tables' } ]",
    );
    assert!(takes(&searches, "office:/in/a.csv") && takes(&searches, "archive:/tables/anything"));
    assert!(!takes(&searches, "office:/in/a.txt") && !takes(&searches, "archive:/in/a.csv"));
    let explanation = explain(&searches, &file("office:/else/a.csv", 10), now());
    assert_eq!(explanation.outcome, "not taken: the rule looks for it nowhere here");
    // Each search tells by itself what did not fit.
    let parts = &explanation.trigger[0].parts;
    assert_eq!(parts.len(), 2);
    assert!(parts.iter().all(|part| !part.holds && !part.parts.is_empty()), "{parts:#?}");
}

#[test]
fn a_rule_that_another_one_starts_is_not_asked_where_its_file_lies() {
    let chained = rule("starts = { chain = { after = ['copied'], rules = ['other'] } }");
    let explanation = explain(&chained, &file("archive:/anywhere/a.csv", 10), now());
    assert_eq!(explanation.taken_by, Some(1), "{explanation:?}");
    assert_eq!(explanation.trigger[0].asked, "another rule hands it on");
}

#[test]
fn the_words_of_an_outcome_name_the_branch_by_number_and_title() {
    let both = rule("starts = { arrival = { place = 'office', folder = 'in' } }");
    let outcome = |size| explain(&both, &file("office:/in/a.csv", size), now()).outcome;
    assert_eq!(outcome(2_000_000), "taken by branch 1 \"Large\"");
    assert_eq!(outcome(10), "taken by branch 2 \"Rest\"");
}

fn path() -> impl Strategy<Value = String> {
    let part = prop::sample::select(vec!["in", "a", "2026", "draft-x", ".hidden"]);
    let name = prop::sample::select(vec!["a.csv", "draft-a.csv", "b.txt", ".wetbank-1-a.csv", ".csv", "a.csv.gz"]);
    let place = prop::sample::select(vec!["office", "archive"]);
    (place, prop::collection::vec(part, 0..4), name).prop_map(|(place, parts, name)| {
        let folders: String = parts.iter().map(|part| format!("/{part}")).collect();
        format!("{place}:{folders}/{name}")
    })
}

proptest! {
    /// Against the plainest way to say the same.
    #[test]
    fn a_rule_sees_what_its_words_say(path in path(), deep in any::<bool>(), size in 0u64..2_000_000) {
        let starts = format!(
            "starts = {{ arrival = {{ place = 'office', folder = 'in', below = {deep}, names = ['*.csv'], except = ['draft-*'] }} }}"
        );
        let rule = rule(&starts);
        let file = file(&path, size);
        let (place, below) = path.split_once(":/").unwrap();
        let (folder, name) = below.rsplit_once('/').unwrap_or(("", below));
        let is_inside = folder == "in" || deep && folder.starts_with("in/");
        let is_named = name.ends_with(".csv") && !name.starts_with("draft-") && !name.starts_with(".wetbank-");
        let seen = place == "office" && is_inside && is_named;
        let explanation = explain(&rule, &file, now());
        let branch = usize::from(size <= 1_000_000);
        prop_assert_eq!(explanation.taken_by, seen.then_some(branch), "{}: {}", path, explanation.outcome);
        // What is explained is what is done with a file that a run has.
        prop_assert_eq!(decide(&rule, &file, now()), Decision::Branch(branch));
        prop_assert_eq!(explanation.trigger.iter().all(|verdict| verdict.holds), seen);
    }
}
