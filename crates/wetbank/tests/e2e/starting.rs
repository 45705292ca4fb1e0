//! Rules that start by the clock or by hand, and runs that look for their files.

use std::fs;

use crate::support::{Office, PLACES, clock::Clock, names, office, wait_for};
use serde_json::Value;

/// The runs of a rule, newest first.
fn runs(office: &Office, rule: &str) -> Vec<Value> {
    office.json(&["run", "list", "--rule", rule])["runs"].as_array().unwrap().clone()
}

fn run_of(office: &Office, run: &Value) -> Value {
    office.json(&["run", "show", &run["id"].to_string()])
}

/// What the search of a run said.
fn found(office: &Office, run: &Value) -> String {
    let shown = run_of(office, run);
    let find = shown["items"].as_array().unwrap().iter().find(|item| item["kind"] == "find").unwrap();
    find["attempts"].as_array().unwrap().last().unwrap()["message"].as_str().unwrap_or_default().to_owned()
}

#[test]
fn a_schedule_sweeps_a_folder_again_and_again_and_its_own_results_are_left_alone() {
    let rule = r#"
[rule.sweep]
starts = { schedule = { every = "1s" } }
finds = [ { place = "office", folder = "out", names = ["*.csv"] } ]
[[rule.sweep.branch]]
steps = [ { copy = { to = "archive", exists = "keep-both" } } ]
original = { move-to = "sent" }
"#;
    let office = office(rule);
    office.put("office/out/gauge-07.csv", b"one");
    office.put("office/out/readme.txt", b"not this");
    wait_for("it is set aside", || office.path("office/out/sent/gauge-07.csv").exists().then_some(()));
    office.put("office/out/gauge-07.csv", b"two");
    wait_for("the second is set aside", || (names(&office.path("office/out/sent")).len() == 2).then_some(()));
    office.wait_idle();
    assert_eq!(names(&office.path("archive")), ["gauge-07 (2).csv", "gauge-07.csv"]);
    assert_eq!(names(&office.path("office/out")), ["readme.txt", "sent"]);
    // A run that finds nothing is on record as well, and done.
    let empty = wait_for("a run finds nothing", || {
        runs(&office, "sweep").into_iter().find(|run| run["items"] == 0 && run["state"] == "done")
    });
    assert_eq!(found(&office, &empty), "found nothing");
    assert_eq!(empty["cause"], "schedule");
    let rule = office.json(&["rule", "show", "sweep"]);
    assert_eq!(rule["firings"].as_array().unwrap().len(), 10);
    assert!(rule["sentence"].as_str().unwrap().starts_with("Every 1 s, for every *.csv in office › out, "), "{rule}");
}

#[test]
fn one_named_file_is_fetched_into_a_folder_of_the_day_and_one_that_is_missing_is_told() {
    let rule = r#"
[rule.morning]
starts = { hand = {} }
finds = [ { place = "office", folder = "{{ today }}", names = ["bulletin-{{ now | date('%G-W%V') }}.pdf"], least = 1 } ]
retry = { attempts = 1 }
[[rule.morning.branch]]
steps = [ { fetch = { to = "archive", folder = "{{ now | date('%Y/%m/%d') }}" } } ]
"#;
    let office = office(rule);
    let now = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let folder = format!("office/{}", now.date());
    let name = format!("bulletin-{}.pdf", now.strftime("%G-W%V"));
    fs::create_dir_all(office.path(&folder)).unwrap();
    let output = office.wetbank(&["rule", "run", "morning"]);
    assert_eq!(output.status.code(), Some(1), "{}", String::from_utf8_lossy(&output.stderr));
    let hold = office.hold();
    assert_eq!((hold["code"].as_str(), hold["step"].as_str()), (Some("too-few"), Some("find")));
    assert!(hold["why"].as_str().unwrap().starts_with("0 of at least 1 files lie in office:/"), "{hold}");
    office.put(&format!("{folder}/{name}"), b"week 11");
    office.put(&format!("{folder}/bulletin-other.pdf"), b"week 10");
    // Released, it looks again, and the run is brought to its end.
    office.json(&["hold", "release", &hold["item"].to_string()]);
    let fetched = office.path("archive").join(now.strftime("%Y/%m/%d").to_string());
    wait_for("it is fetched", || (names(&fetched) == [name.clone()]).then_some(()));
    office.wait_idle();
    assert_eq!(runs(&office, "morning")[0]["state"], "done");
    assert_eq!(runs(&office, "morning")[0]["items"], 1);
}

#[test]
fn by_hand_a_rule_takes_what_is_new_or_all_that_lies_there() {
    let rule = r#"
[rule.copies]
starts = { arrival = { place = "office", folder = "in", names = ["*.csv"] } }
[[rule.copies.branch]]
steps = [ { copy = { to = "archive", exists = "keep-both" } } ]
"#;
    let office = office(rule);
    office.put("office/in/a.csv", b"one");
    wait_for("it came by itself", || (names(&office.path("archive")) == ["a.csv"]).then_some(()));
    office.wait_idle();
    assert!(office.wetbank(&["rule", "run", "copies"]).status.success());
    assert_eq!(found(&office, &runs(&office, "copies")[0]), "found 1 file, 1 of them taken before");
    assert_eq!(names(&office.path("archive")), ["a.csv"]);
    assert!(office.wetbank(&["rule", "run", "copies", "--all"]).status.success());
    assert_eq!(names(&office.path("archive")), ["a (2).csv", "a.csv"]);
    let run = run_of(&office, &runs(&office, "copies")[0]);
    assert_eq!(run["cause"], "hand");
    assert_eq!(run["items"].as_array().unwrap().len(), 2, "the search and the file");
}

#[test]
fn firings_missed_while_the_service_was_away_are_made_up_for_as_the_rule_says() {
    let rule = |missed: &str| {
        format!(
            "[rule.{missed}]\nstarts = {{ schedule = {{ every = \"1h\", missed = \"{missed}\" }} }}\n\
             [[rule.{missed}.branch]]\nsteps = [ {{ note = {{ text = \"fired\" }} }} ]\n"
        )
    };
    let words = ["all", "once", "skip"];
    let clock = Clock::at("2026-03-14 05:59:57");
    let mut office = Office::open_with(&clock.environment());
    office.book(&format!("{PLACES}{}", words.map(rule).concat()));
    let fired = |office: &Office| words.map(|rule| runs(office, rule).len());
    wait_for("six o'clock", || (fired(&office) == [1, 1, 1]).then_some(()));
    office.kill();
    // Seven, eight, nine and ten o'clock go by.
    clock.put("2026-03-14 10:20:00");
    office.start();
    wait_for("what was missed is made up for", || (fired(&office)[..2] == [5, 2]).then_some(()));
    assert_eq!(fired(&office), [5, 2, 1]);
    // The next one comes as ever, and makes up for nothing.
    clock.put("2026-03-14 10:59:58");
    wait_for("eleven o'clock", || (fired(&office) == [6, 3, 2]).then_some(()));
}

#[test]
fn a_firing_during_a_run_is_left_out_or_stops_it_and_a_run_that_takes_too_long_is_held() {
    // The originals cannot be read, so that each run waits for another attempt for long.
    let rule = |name: &str, more: &str, limit: &str| {
        format!(
            "[rule.{name}]\nstarts = {{ schedule = {{ every = \"1s\"{more} }} }}\n{limit}\
             finds = [ {{ place = \"office\", folder = \"{name}\" }} ]\nretry = {{ attempts = 5, first = \"1h\" }}\n\
             [[rule.{name}.branch]]\nsteps = [ {{ copy = {{ to = \"gone\" }} }} ]\n"
        )
    };
    let office = office(&format!(
        "[place.gone]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = 1\nuser = \"nobody\"\npassword = {{ secret = \"none\" }}\n{}{}{}",
        rule("skips", ", busy = \"skip\"", ""),
        rule("stops", ", busy = \"stop\"", ""),
        rule("waits", "", "limit = \"3s\"\n"),
    ));
    for name in ["skips", "stops", "waits"] {
        office.put(&format!("office/{name}/gauge-07.csv"), b"one");
    }
    let skipped =
        wait_for("a firing is left out", || runs(&office, "skips").into_iter().find(|run| run["state"] == "skipped"));
    assert!(skipped["why"].as_str().unwrap().ends_with("of this rule was still going on"), "{skipped}");
    let hold = |code: &str| wait_for(code, || office.holds().into_iter().find(|hold| hold["code"] == code));
    assert_eq!(hold("overtaken")["rule"], "stops");
    let late = hold("time-limit");
    assert_eq!(
        (late["rule"].as_str(), late["why"].as_str()),
        (Some("waits"), Some("its run took longer than the rule allows"))
    );
    assert!(runs(&office, "waits").len() < 3, "a firing waits for the end of the run before");
}

#[test]
fn what_cannot_work_is_refused_with_its_line() {
    let office = office("");
    let table = [
        ("starts = {}\nfinds = [ { place = \"office\" } ]", "starts needs a trigger"),
        ("starts = { hand = {} }", "needs a file, and here is none: add finds"),
        (
            "starts = { schedule = { every = \"1 min\", at = \"07:30\" } }\nfinds = [ { place = \"office\" } ]",
            "one of every",
        ),
        ("starts = { schedule = { cron = \"0 0 30 feb *\" } }\nfinds = [ { place = \"office\" } ]", "would never fire"),
        (
            "starts = { schedule = { at = \"07:30\", on = \"funday\" } }\nfinds = [ { place = \"office\" } ]",
            "\"funday\" is no day",
        ),
        (
            "starts = { schedule = { at = \"07:30\", on = \"working-days\", calendar = \"ofice\" } }\nfinds = [ { place = \"office\" } ]",
            "unknown calendar \"ofice\"",
        ),
        (
            "starts = { schedule = { every = \"200ms\" } }\nfinds = [ { place = \"office\" } ]",
            "every takes whole seconds",
        ),
        (
            "starts = { hand = {} }\nfinds = [ { place = \"office\", folder = \"{{ file.name }}\" } ]",
            "is not known yet",
        ),
    ];
    for (starts, said) in table {
        let rule = format!("{PLACES}[rule.wrong]\n{starts}\n[[rule.wrong.branch]]\nsteps = [ {{ delete = {{}} }} ]\n");
        let output = office.try_book(&rule);
        let error = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(2), "{starts}: {error}");
        assert!(error.contains(said) && error.contains("book.toml:"), "{starts}: {error}");
    }
}

#[test]
fn days_off_are_imported_into_a_calendar_and_keep_what_stands_there() {
    let office = office("[calendar.merrow]\n# agreed\ntitle = \"Merrow office\"\noff = [\"2030-01-02\"]\n");
    let file = office.path("days.ics");
    let event = |title: &str, day: &str, more: &str| {
        format!("BEGIN:VEVENT\r\nUID:{title}\r\nSUMMARY:{title}\r\nDTSTART;VALUE=DATE:{day}\r\n{more}END:VEVENT\r\n")
    };
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\n{}{}{}END:VCALENDAR\r\n",
        event("Midsummer", "20300621", "DTEND;VALUE=DATE:20300623\r\n"),
        event("Again", "20300102", ""),
        event("Fourth", "20301128", "RRULE:FREQ=YEARLY;BYDAY=4TH;BYMONTH=11\r\n"),
    );
    fs::write(&file, text).unwrap();
    let output = office.wetbank(&["calendar", "import", "merrow", file.to_str().unwrap()]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(String::from_utf8_lossy(&output.stderr).contains("left out: Fourth: it comes back"));
    let shown = office.json(&["calendar", "show", "merrow"]);
    let first: Vec<_> = shown["off"].as_array().unwrap().iter().map(|span| span["first"].as_str().unwrap()).collect();
    assert_eq!(first, ["2030-01-02", "2030-06-21"]);
    assert!(String::from_utf8_lossy(&office.wetbank(&["book", "export", "-"]).stdout).contains("# agreed"));
    // A calendar that is not there is made; what is no calendar file is refused.
    assert!(office.wetbank(&["calendar", "import", "new", file.to_str().unwrap()]).status.success());
    fs::write(&file, "plain text").unwrap();
    let wrong = office.wetbank(&["calendar", "import", "new", file.to_str().unwrap()]);
    assert!(!wrong.status.success() || office.json(&["calendar", "show", "new"])["off"].as_array().unwrap().len() == 2);
    // One that a rule uses stays.
    office.book(&format!(
        "{PLACES}[calendar.merrow]\n[rule.daily]\nstarts = {{ schedule = {{ at = \"07:30\", on = \"working-days\", calendar = \"merrow\" }} }}\n\
         finds = [ {{ place = \"office\" }} ]\n[[rule.daily.branch]]\nsteps = [ {{ delete = {{}} }} ]\n"
    ));
    assert_eq!(office.json(&["calendar", "list"])[0]["rules"][0], "daily");
    assert!(!office.wetbank(&["calendar", "remove", "merrow"]).status.success());
}

#[test]
fn a_run_of_more_files_than_are_kept_in_memory_is_stopped_whole_and_goes_on_whole() {
    const FILES: usize = 2_600;
    let office = Office::open();
    let rule = r#"
[rule.sweep]
starts = { hand = {} }
finds = [ { place = "office", folder = "in" } ]
[[rule.sweep.branch]]
steps = [ { program = { run = "wait", again = true } }, { note = { text = "seen" } } ]
"#;
    let gate = office.path("gate");
    office.allow("wait", &format!("while [ ! -e {} ]; do sleep 0.1; done", gate.display()));
    fs::create_dir_all(office.path("office/in")).unwrap();
    for number in 0..FILES {
        fs::write(office.path(&format!("office/in/{number}")), b"").unwrap();
    }
    office.book(&format!("{PLACES}{rule}"));
    office.json(&["rule", "run", "sweep", "--detach"]);
    let status = |what: &str| usize::try_from(office.json(&["status"])[what].as_i64().unwrap()).unwrap();
    wait_for("all are found", || (status("queued") + status("working") >= FILES).then_some(()));
    let run = office.runs()[0]["id"].to_string();
    // Ending a hundred programs may take longer than whoever stops the run is kept waiting.
    let told = office.json(&["run", "stop", &run]);
    let count = |what: &str| usize::try_from(told[what].as_i64().unwrap()).unwrap();
    assert_eq!((count("held") + count("stopping"), count("ended")), (FILES, 0), "{told}");
    wait_for("all are held", || (status("held") == FILES).then_some(()));
    assert_eq!((status("queued"), status("working")), (0, 0), "nothing of it goes on");
    fs::write(gate, b"").unwrap();
    assert_eq!(office.json(&["run", "retry", &run])["items"], FILES);
    assert_eq!(status("held"), 0);
}
