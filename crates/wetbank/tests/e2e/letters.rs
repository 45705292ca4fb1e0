//! Letters that come and mails that go, over real mail servers.

use std::{fs, time::Duration};

use crate::support::{Office, leftovers, names, servers::mailbox, wait_for};
use base64::{Engine, engine::general_purpose::STANDARD};
use serde_json::Value;
use wetbank_testbed::{MAIL_ADDRESS, MAIL_USER, PostOffice};

/// An office with a mailbox, a folder and rules.
fn office(post: &PostOffice, rules: &str) -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("archive")).unwrap();
    assert!(office.wetbank_with(&["secret", "set", "post"], MAIL_USER.1).status.success());
    office.book(&format!("{}{rules}", places(post)));
    office
}

fn places(post: &PostOffice) -> String {
    let folders = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.archive]\nkind = \"folder\"\nroot = \"@/archive\"\n";
    format!("{}{folders}", mailbox("post", post))
}

fn letter(from: &str, subject: &str, files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut text = format!(
        "From: {from}\r\nTo: {MAIL_ADDRESS}\r\nSubject: {subject}\r\nDate: Sat, 14 Mar 2026 06:00:00 +0000\r\n\
         Message-ID: <1@lindmoor.example>\r\nContent-Type: multipart/mixed; boundary=b1\r\n\r\n--b1\r\n\r\nSee below.\r\n"
    );
    for (name, content) in files {
        let digits = STANDARD.encode(content);
        let lines: Vec<&str> = digits.as_bytes().chunks(76).map(|line| std::str::from_utf8(line).unwrap()).collect();
        text += &format!(
            "--b1\r\nContent-Disposition: attachment; filename=\"{name}\"\r\nContent-Transfer-Encoding: base64\r\n\r\n{}\r\n",
            lines.join("\r\n")
        );
    }
    text += "--b1--\r\n";
    text.into_bytes()
}

/// The items of the newest run of a rule.
fn items(office: &Office, rule: &str) -> Vec<Value> {
    let runs = office.json(&["run", "list", "--rule", rule])["runs"].as_array().unwrap().clone();
    let Some(run) = runs.first() else { return Vec::new() };
    office.json(&["run", "show", &run["id"].to_string()])["items"].as_array().unwrap().clone()
}

const SHEETS: &str = r#"
[rule.sheets]
starts = { mail = { place = "post", names = ["*.csv"], file-in = "Done", look-every = "200ms" } }
[[rule.sheets.branch]]
title = "From the laboratory"
if = { all = [ { mail = "from", ends-with = "@lindmoor.example" }, { file = "name", starts-with = "assay-" } ] }
steps = [ { copy = { to = "archive", folder = "{{ mail.date | date('%Y-%m-%d') }} {{ mail.subject }}" } } ]
[[rule.sheets.branch]]
steps = [ { copy = { to = "archive", folder = "others" } } ]
"#;

#[test]
fn attachments_of_a_letter_are_files_and_the_letter_is_filed_away_when_all_are_done() {
    let post = PostOffice::start();
    let office = office(&post, SHEETS);
    let files: [(&str, &[u8]); 3] =
        [("assay-0412.csv", b"one\r\n"), ("other.csv", b"two"), ("picture.png", b"not this")];
    post.bring("one", &letter("Desk <desk@lindmoor.example>", "Sheets", &files));
    wait_for("it is filed away", || (post.folder("Done").len() == 1).then_some(()));
    assert_eq!(fs::read(office.path("archive/2026-03-14 Sheets/assay-0412.csv")).unwrap(), b"one\r\n");
    assert_eq!(names(&office.path("archive/others")), ["other.csv"]);
    office.wait_idle();
    assert_eq!(post.folder("").len(), 0);
    let items = items(&office, "sheets");
    assert_eq!(items.len(), 3, "the letter and two files");
    assert!(items.iter().all(|item| item["state"] == "done"), "{items:?}");
    assert_eq!(office.runs()[0]["cause"], "mail");
    assert_eq!(leftovers(&office.data()).len(), 0);
    office.wait_work_cleared();
}

#[test]
fn a_letter_without_a_wanted_file_stays_and_says_why() {
    let post = PostOffice::start();
    let office = office(&post, SHEETS);
    post.bring("one", &letter("a@b.example", "Hello", &[("picture.png", b"x")]));
    post.bring("two", b"From: a@b.example\r\nSubject: Only words\r\n\r\nHow are you?\r\n");
    wait_for("both are looked at", || (office.runs().len() == 2).then_some(()));
    office.wait_idle();
    let whys: Vec<String> = office
        .runs()
        .iter()
        .map(|run| {
            office.json(&["run", "show", &run["id"].to_string()])["items"][0]["why"].as_str().unwrap().to_owned()
        })
        .collect();
    assert!(whys.iter().any(|why| why.starts_with("none of its 1 attachments")), "{whys:?}");
    assert!(whys.iter().any(|why| why.starts_with("there is no file attached")), "{whys:?}");
    let shown = office.json(&["run", "show", &office.runs()[0]["id"].to_string()]);
    let attempt = &shown["items"][0]["attempts"][0];
    assert_eq!((attempt["kind"].as_str(), attempt["outcome"].as_str()), (Some("attachments"), Some("skipped")));
    office.wait_work_cleared();
    assert_eq!(post.folder("").len(), 2);
}

#[test]
fn a_letter_that_is_damaged_is_held_and_the_others_go_on() {
    let post = PostOffice::start();
    let office = office(&post, SHEETS);
    let broken = String::from_utf8(letter("a@b.example", "x", &[("a.csv", b"some content")])).unwrap();
    post.bring("one", broken.replace("c29t", "c!9t").as_bytes());
    post.bring("two", &letter("a@b.example", "y", &[("b.csv", b"fine")]));
    wait_for("the good one is done", || office.path("archive/others/b.csv").exists().then_some(()));
    let hold = office.hold();
    assert_eq!(hold["code"], "unfit");
    assert!(hold["why"].as_str().unwrap().contains("\"a.csv\" is damaged"), "{hold}");
    assert_eq!(names(&office.path("archive/others")), ["b.csv"]);
}

#[test]
fn a_letter_with_fifty_megabytes_passes_in_little_memory() {
    let post = PostOffice::start();
    let office = office(&post, SHEETS);
    let content: Vec<u8> = (0..50_000_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    post.bring("one", &letter("a@b.example", "large", &[("large.csv", &content)]));
    let end = office.path("archive/others/large.csv");
    wait_for("it is there", || end.exists().then_some(()));
    assert!(fs::read(end).unwrap() == content);
    let peak = office.peak_memory();
    assert!(peak < 160 << 20, "{} MiB", peak >> 20);
}

#[test]
fn a_kill_while_letters_are_taken_apart_loses_none_and_doubles_none() {
    let post = PostOffice::start();
    let rule = SHEETS.replace(
        "copy = { to = \"archive\", folder = \"others\" }",
        "copy = { to = \"archive\", folder = \"others\", exists = \"keep-both\" }",
    );
    let mut office = office(&post, &rule);
    for number in 0..60 {
        let content = format!("content {number}").repeat(2_000);
        let name = format!("sheet-{number:03}.csv");
        post.bring(&format!("letter-{number:03}"), &letter("a@b.example", "x", &[(&name, content.as_bytes())]));
    }
    for round in 0..6u64 {
        std::thread::sleep(Duration::from_millis(150 + 90 * round));
        office.kill();
        office.start();
    }
    wait_for("all are filed", || (post.folder("Done").len() == 60).then_some(()));
    office.wait_idle();
    let expected: Vec<String> = (0..60).map(|number| format!("sheet-{number:03}.csv")).collect();
    assert_eq!(names(&office.path("archive/others")), expected);
    assert_eq!(office.holds(), Vec::<Value>::new());
    office.wait_work_cleared();
}

#[test]
fn everything_saved_in_a_folder_is_mailed_and_set_aside_and_counted() {
    let post = PostOffice::start();
    let rules = r#"
[rule.post-it]
zone = "Europe/London"
starts = { arrival = { place = "office", folder = "out" } }
[[rule.post-it.branch]]
steps = [ { mail = { by = "post", to = "wardens@merrow.example", subject = "No {{ count | pad(3) }}: {{ file.name }}", attach = ["*"] } } ]
original = { move-to = "done" }
"#;
    let office = office(&post, rules);
    office.put("office/out/bulletin-week11.pdf", b"%PDF one");
    wait_for("it is set aside", || office.path("office/out/done/bulletin-week11.pdf").exists().then_some(()));
    office.put("office/out/größe.csv", b"two");
    let sent = post.wait_sent(2);
    assert!(
        sent.iter()
            .any(|one| one.contains("Subject: No 001: bulletin-week11.pdf")
                && one.contains(&STANDARD.encode("%PDF one"))),
        "{sent:?}"
    );
    assert!(sent.iter().any(|one| one.contains("No") && one.contains(&STANDARD.encode("two"))), "{sent:?}");
    wait_for("the second is set aside, too", || office.path("office/out/done/größe.csv").exists().then_some(()));
}

#[test]
fn tidying_the_outbox_at_the_start_takes_nothing_that_is_put_there_meanwhile() {
    let post = PostOffice::start();
    let rules = r#"
[rule.tell]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.tell.branch]]
steps = [ { mail = { by = "post", to = "wardens@merrow.example", subject = "Here is {{ file.name }}" } } ]
original = { move-to = "done" }
"#;
    let mut office = office(&post, rules);
    for number in 0..200 {
        office.put(&format!("office/in/bulletin-{number:03}.csv"), b"text");
    }
    let done = office.path("office/in/done");
    wait_for("it is under way", || done.exists().then_some(()));
    office.kill();
    let outbox = office.data().join("outbox");
    for number in 0..20_000 {
        fs::write(outbox.join(format!("9{number:07}.eml")), b"of no use").unwrap();
    }
    office.start();
    wait_for("all are done", || (names(&done).len() == 200).then_some(()));
    wait_for("all are told of", || {
        let notices = office.json(&["notice", "list"]).as_array().unwrap().clone();
        assert!(notices.iter().all(|notice| notice["state"] != "refused"), "{notices:?}");
        notices.iter().all(|notice| notice["state"] == "sent").then_some(())
    });
    wait_for("nothing of no use is left", || names(&outbox).is_empty().then_some(()));
}

#[test]
fn a_mail_that_carries_a_file_waits_for_its_server_and_a_notice_does_not() {
    let mut post = PostOffice::start();
    let rules = r#"
[rule.carry]
starts = { arrival = { place = "office", folder = "carry" } }
[[rule.carry.branch]]
steps = [ { mail = { by = "post", to = "wardens@merrow.example", attach = ["*"] } } ]
original = { move-to = "done" }
[rule.tell]
starts = { arrival = { place = "office", folder = "tell" } }
[[rule.tell.branch]]
steps = [ { mail = { by = "post", to = ["wardens@merrow.example", "archive@tidewatch.example"], subject = "Here is {{ file.name }}" } }, { copy = { to = "archive" } } ]
original = { move-to = "done" }
"#;
    let mut office = office(&post, rules);
    post.stop_sending();
    office.put("office/carry/a.csv", b"carried");
    office.put("office/tell/b.csv", b"told of");
    wait_for("the rule goes on without the mail", || office.path("office/tell/done/b.csv").exists().then_some(()));
    assert!(office.path("archive/b.csv").exists());
    let waiting = wait_for("the notice was tried", || {
        let notices = office.json(&["notice", "list"]);
        (notices[0]["tries"].as_i64() >= Some(1)).then(|| notices[0].clone())
    });
    assert_eq!((waiting["state"].as_str(), waiting["subject"].as_str()), (Some("waiting"), Some("Here is b.csv")));
    assert!(waiting["why"].as_str().unwrap().contains("nothing listens"), "{waiting}");
    assert!(office.path("office/carry/a.csv").exists(), "what is to be carried stays until it was taken");
    // Neither is forgotten by a stop.
    office.kill();
    post.start_sending();
    office.start();
    office.wetbank(&["notice", "retry", &waiting["id"].to_string()]);
    // The one for two addresses is kept once for each of them.
    let sent = post.wait_sent(3);
    wait_for("the file is set aside", || office.path("office/carry/done/a.csv").exists().then_some(()));
    assert_eq!(sent.len(), 3, "{sent:?}");
    assert_eq!(sent.iter().filter(|one| one.contains("Here is b.csv")).count(), 2, "{sent:?}");
    assert_eq!(sent.iter().filter(|one| one.contains(&STANDARD.encode("carried"))).count(), 1, "{sent:?}");
    assert_eq!(office.json(&["notice", "list"])[0]["state"], "sent");
    assert_eq!(names(&office.data().join("outbox")), [""; 0]);
}

#[test]
fn a_mail_that_nobody_takes_or_that_is_too_large_is_held_with_the_reason() {
    let post = PostOffice::start();
    let rules = r#"
[rule.carry]
starts = { arrival = { place = "office", folder = "carry" } }
[[rule.carry.branch]]
if = { file = "name", starts-with = "large" }
steps = [ { mail = { by = "post", to = "wardens@merrow.example", attach = ["*"], most = "10 kB" } } ]
[[rule.carry.branch]]
steps = [ { mail = { by = "post", to = "nobody@merrow.example", attach = ["*"] } } ]
"#;
    let office = office(&post, rules);
    office.put("office/carry/large.csv", &[7; 20_000]);
    office.put("office/carry/small.csv", b"x");
    let holds = wait_for("both are held", || Some(office.holds()).filter(|holds| holds.len() == 2));
    let why = |name: &str| {
        let hold = holds.iter().find(|hold| hold["file"].as_str().unwrap().ends_with(name)).unwrap();
        format!("{}: {}", hold["code"].as_str().unwrap(), hold["why"].as_str().unwrap())
    };
    assert!(why("large.csv").starts_with("too-large: what is to be attached has 20"), "{}", why("large.csv"));
    assert!(
        why("small.csv").starts_with("denied:") && why("small.csv").contains("no such user here"),
        "{}",
        why("small.csv")
    );
    assert_eq!(post.sent().len(), 0);
}

#[test]
fn one_mail_tells_of_all_files_of_a_run_with_a_line_for_each() {
    let post = PostOffice::start();
    let rules = r#"
[rule.tell]
starts = { hand = {} }
finds = [ { place = "office", folder = "out", names = ["*.csv"] } ]
[[rule.tell.branch]]
steps = [ { copy = { to = "archive" } }, { mail = { by = "post", to = "wardens@merrow.example", together = true, text = "{{ files }} files:\n{{ lines }}", line = "- {{ file.name }} of {{ file.size }}" } } ]
original = { move-to = "done" }
"#;
    let office = office(&post, rules);
    for (name, content) in [("a.csv", "1"), ("b.csv", "22"), ("c.csv", "333")] {
        office.put(&format!("office/out/{name}"), content.as_bytes());
    }
    assert!(office.wetbank(&["rule", "run", "tell"]).status.success());
    let sent = post.wait_sent(1);
    for line in ["3 files:", "- a.csv of 1", "- b.csv of 2", "- c.csv of 3"] {
        assert!(sent[0].contains(line), "{line}: {}", sent[0]);
    }
    wait_for("all are set aside", || (names(&office.path("office/out/done")).len() == 3).then_some(()));
    assert_eq!(post.sent().len(), 1);
}
