use jiff::Timestamp;

use super::*;
use crate::{About, FileFacts, FilePath, Known, Rule, parse_book};

fn rule(text: &str) -> Rule {
    let places = ["office", "archive", "harbour"].iter().map(|name| crate::Name::new(name).unwrap()).collect();
    let known = Known { places, ..Known::default() };
    parse_book(&[("book".to_owned(), text.to_owned())], &known).unwrap().rules.remove(0)
}

fn file(path: &str, size: u64) -> FileFacts {
    let FilePath { place, path } = FilePath::parse(&format!("office:/{path}")).unwrap();
    FileFacts { place, path, size, modified: Timestamp::UNIX_EPOCH, about: About::default() }
}

fn now() -> Timestamp {
    "2026-03-14T06:00:00Z".parse().unwrap()
}

fn gauges(steps: &str, rest: &str) -> Rule {
    rule(&format!(
        "[rule.gauges]\nstarts = {{ arrival = {{ place = \"office\", folder = \"in\", names = [\"*.csv\"] }} }}\n\
         [[rule.gauges.branch]]\ntitle = \"Readings\"\nsteps = [ {steps} ]\n{rest}"
    ))
}

fn words(rehearsal: &Rehearsal) -> Vec<&str> {
    rehearsal.steps.iter().map(|step| step.words.as_str()).collect()
}

#[test]
fn each_step_is_told_with_its_exact_names_and_where_the_file_would_lie() {
    let rule = gauges(
        "{ compress = {} }, { copy = { to = \"archive\", folder = \"{{ today }}\", exists = \"replace\" } }",
        "original = { move-to = \"done\" }\n",
    );
    let rehearsal = rehearse(&rule, &file("in/g-07.csv", 12), now());
    assert_eq!(
        words(&rehearsal),
        ["compress it to g-07.csv.gz", "copy it to archive › 2026-03-14, replacing what is there"]
    );
    let coming = rehearsal.steps[1].comes.as_ref().unwrap();
    assert_eq!(coming.at.to_string(), "archive:/2026-03-14/g-07.csv.gz");
    assert_eq!(rehearsal.end.words(), "the original goes to office:/in/done/g-07.csv");
    assert_eq!(rehearsal.branch.as_deref(), Some("Readings"));
}

#[test]
fn what_is_left_out_held_moved_or_deleted_is_foreseen() {
    let small = "{ copy = { to = \"archive\" }, if = { file = \"size\", over = \"1 MB\" } }, { delete = {} }";
    let rehearsal = rehearse(&gauges(small, ""), &file("in/a.csv", 12), now());
    assert_eq!(rehearsal.steps[0].left_out.as_deref(), Some("it is for files where size over 1.0 MB, here it is 12 B"));
    assert_eq!(rehearsal.end, End::Deleted);
    let held = rehearse(&gauges("{ hold = { why = \"look at it\" } }", ""), &file("in/a.csv", 1), now());
    assert_eq!(held.end, End::Held { why: "look at it".to_owned() });
    let moved = gauges("{ move = { to = \"harbour\", folder = \"x\", as = \"{{ file.stem }}.txt\" } }", "");
    let moved = rehearse(&moved, &file("in/a.csv", 1), now());
    assert_eq!(moved.end.words(), "the original goes to harbour:/x/a.txt");
    let not = rehearse(&gauges("{ delete = {} }", ""), &file("in/a.txt", 1), now());
    assert_eq!((not.steps.len(), not.end.words()), (0, not.explanation.outcome.clone()));
}

#[test]
fn what_only_the_run_can_tell_is_left_open_and_the_rest_is_told() {
    let rule = gauges("{ copy = { to = \"archive\", as = \"{{ count }}.csv\" } }, { note = { text = \"x\" } }", "");
    let rehearsal = rehearse(&rule, &file("in/a.csv", 1), now());
    assert!(rehearsal.steps[0].open.is_some() && rehearsal.steps[0].comes.is_none());
    assert_eq!(rehearsal.steps[1].words, "note \"x\"");
    let made = "{ compress = {} }, { copy = { to = \"archive\" }, if = { file = \"size\", under = \"1 MB\" } }";
    assert!(rehearse(&gauges(made, ""), &file("in/a.csv", 1), now()).steps[1].open.is_some());
    let unpacked =
        rehearse(&gauges("{ unpack = {} }, { copy = { to = \"archive\" } }", ""), &file("in/a.csv", 1), now());
    assert!(matches!(unpacked.end, End::Open { .. }), "{unpacked:?}");
}

#[test]
fn a_signature_goes_the_rest_of_the_way_too() {
    let rule = gauges("{ sign = { by = \"merrow\" } }, { copy = { to = \"archive\" } }", "");
    let rehearsal = rehearse(&rule, &file("in/a.csv", 1), now());
    let mut at: Vec<_> = rehearsal.steps.iter().filter_map(|step| Some(step.comes.as_ref()?.at.to_string())).collect();
    at.sort();
    assert_eq!(at, ["archive:/a.csv", "archive:/a.csv.sig"]);
}

#[test]
fn two_versions_differ_in_the_ways_that_matter_and_only_there() {
    let before = gauges("{ copy = { to = \"archive\" } }", "");
    let compared = |after: &Rule, path: &str, size: u64| {
        let (file, now) = (file(path, size), now());
        elsewise(&rehearse(&before, &file, now), &rehearse(after, &file, now))
    };
    assert_eq!(compared(&before, "in/a.csv", 1), None);
    let doubtful = rule(
        "[rule.gauges]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n\
         [[rule.gauges.branch]]\ntitle = \"Doubtful\"\nif = { file = \"size\", under = \"2 B\" }\n\
         steps = [ { hold = { why = \"empty\" } } ]\n\
         [[rule.gauges.branch]]\ntitle = \"Readings\"\nsteps = [ { copy = { to = \"archive\" } } ]\n",
    );
    let held = compared(&doubtful, "in/a.csv", 1).unwrap();
    assert_eq!((held.kind, held.why.as_str()), (ElsewiseKind::ToAPerson, "size under 2 B, and it is 1 B"));
    assert_eq!(compared(&doubtful, "in/a.csv", 3), None, "another branch that does the same is no difference");
    assert_eq!(compared(&doubtful, "in/a.txt", 3).unwrap().kind, ElsewiseKind::NewlyTaken);
    assert_eq!(compared(&doubtful, "elsewhere/a.txt", 3), None);
    let other = gauges("{ copy = { to = \"harbour\" } }", "");
    let other = compared(&other, "in/a.csv", 3).unwrap();
    assert_eq!(other.kind, ElsewiseKind::Elsewhere);
    assert_eq!(other.why, "copy it to harbour, instead of: copy it to archive");
    let also = compared(&gauges("{ copy = { to = \"archive\" } }, { note = { text = \"x\" } }", ""), "in/a.csv", 3);
    assert_eq!(also.unwrap().kind, ElsewiseKind::Otherwise);
    let narrower = rule(
        "[rule.gauges]\nstarts = { arrival = { place = \"office\", folder = \"in\", names = [\"g*.csv\"] } }\n\
         [[rule.gauges.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n",
    );
    let gone = compared(&narrower, "in/a.csv", 3).unwrap();
    assert_eq!(gone.kind, ElsewiseKind::NoLongerTaken);
    assert_eq!(gone.why, "the rule asks that name is like g*.csv, here it is a.csv");
}
