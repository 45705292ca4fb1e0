//! What a rule would do: by command and in the console, over one file, what lies there, and what came.

use std::fs;

use crate::support::{Archive, Office, browser::Browser, names, wait_for};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[rule.sheets]
title  = "Sheets into the archive"
starts = { arrival = { place = "office", folder = "in", names = ["*.csv"] } }

[[rule.sheets.branch]]
title = "Levels"
if    = { file = "name", starts-with = "levels-" }
steps = [ { copy = { folder = "archive/levels", as = "{{ file.stem }}.txt" } } ]

[[rule.sheets.branch]]
title = "Anything else"
steps = [ { copy = { folder = "archive" } } ]
"#;

/// An office to which three files came, one of which no rule takes.
fn office() -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("office/in")).unwrap();
    office.book(BOOK);
    for name in ["levels-07.csv", "other.csv", "notes.txt"] {
        office.put(&format!("office/in/{name}"), name.as_bytes());
    }
    wait_for("both copies", || {
        (office.path("office/archive/levels/levels-07.txt").exists()
            && office.path("office/archive/other.csv").exists())
        .then_some(())
    });
    office.wait_idle();
    wait_for("three arrivals on record", || {
        (office.json(&["arrival", "list"]).as_array().unwrap().len() == 3).then_some(())
    });
    office
}

fn said(office: &Office, words: &[&str]) -> String {
    let done = office.wetbank(words);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8(done.stdout).unwrap()
}

#[test]
fn a_command_tells_what_would_become_of_one_file_of_what_lies_there_and_of_what_came() {
    let office = office();
    let one = said(&office, &["rule", "rehearse", "sheets", "--file", "office:/in/levels-07.csv"]);
    assert!(one.contains("→ office:/archive/levels/levels-07.txt"), "{one}");
    assert!(one.contains("the name is taken (13 B"), "{one}");
    assert!(one.contains("nothing was touched"), "{one}");
    let here = said(&office, &["rule", "rehearse", "sheets", "--here"]);
    assert!(here.contains("2 of 3 files would be taken"), "{here}");
    let came = office.json(&["rule", "rehearse", "sheets", "--since", "2d"]);
    assert_eq!((came["files"].as_u64(), came["shown"][0]["arrival"].is_i64()), (Some(3), true), "{came}");
    // A draft in a file, against what is in force.
    let draft = office.path("draft.toml");
    let text = BOOK[BOOK.find("[rule.sheets]").unwrap()..].replace("archive/levels", "archive/tides");
    fs::write(&draft, text.replace("\"*.csv\"", "\"*.csv\", \"*.txt\"")).unwrap();
    let draft = draft.display().to_string();
    let compared = said(&office, &["rule", "rehearse", "--draft", &draft]);
    assert!(compared.contains("2 of 3 files would go otherwise"), "{compared}");
    assert!(compared.contains("1 that stays lying today would be taken"), "{compared}");
    assert_eq!(names(&office.path("office/archive")), ["levels", "other.csv"], "nothing was touched");
    let wrong = office.wetbank(&["rule", "rehearse", "sheets", "--since", "soon"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("--since 30d"));
}

#[test]
fn how_long_what_came_stays_on_record_is_said_by_command() {
    let office = office();
    let kept = said(&office, &["arrival", "keep", "--days", "7", "--most", "2"]);
    assert!(kept.contains("kept for 7 days, 2 files at most") && kept.contains("on record: 2"), "{kept}");
    let wrong = office.wetbank(&["arrival", "keep", "--days", "0"]);
    assert!(!wrong.status.success());
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("1 to 3,650 days"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_rehearsed_in_the_console_before_it_is_put_in_force() {
    let office = tokio::task::spawn_blocking(office).await.unwrap();
    let browser = Browser::open().await;
    browser.sign_in(&office).await;
    browser.go(&office, "/rules/sheets").await;
    browser.press("Branch 1, step 1: A copy").await;
    browser.fill("Folder", "archive/tides").await;
    browser.find("//p[contains(., 'archive/tides')]").await;
    browser.click("//button[@role='tab' and text()='Rehearse']").await;
    browser.find("//h2[text()='1 of 3 files would go otherwise']").await;
    browser.press("what came").await;
    browser.find("//section[@aria-label='Arrivals by day']").await;
    browser.find("//td[contains(., 'archive/tides') and contains(., 'instead of')]").await;
    browser.press("levels-07.csv").await;
    browser
        .find("//section[@aria-label='In force']//span[normalize-space(.)='→ office:/archive/levels/levels-07.txt']")
        .await;
    browser
        .find("//section[@aria-label='Would be']//span[normalize-space(.)='→ office:/archive/tides/levels-07.txt']")
        .await;
    browser.press("2 as before").await;
    browser.find("//button[text()='notes.txt']").await;
    assert!(!office.path("office/archive/tides").exists());
    browser.press("Put in force").await;
    browser.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
    browser.find("//h2[contains(text(), 'files would be taken')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn from_browsing_one_learns_what_would_happen_to_a_file_and_why_nothing_did() {
    let office = tokio::task::spawn_blocking(office).await.unwrap();
    let browser = Browser::open().await;
    browser.sign_in(&office).await;
    browser.go(&office, "/places/office?folder=in").await;
    browser.click("//a[@aria-label='What would happen to notes.txt?']").await;
    browser.find("//p[text()='No rule takes this file.']").await;
    browser.click("//summary[contains(., 'leaves it alone, and why')]").await;
    browser.find("//li[contains(., 'name is like *.csv')]").await;
    browser.go(&office, "/explain?file=office:/in/other.csv").await;
    browser.find("//li[contains(., 'the rule took this very file before')]").await;
    browser.find("//span[normalize-space(.)='→ office:/archive/other.csv']").await;
}

#[test]
fn of_a_file_that_just_came_to_a_server_it_is_told_that_it_must_stay_the_same_for_a_while() {
    let (office, archive) = (Office::open(), Archive::open());
    let place = archive.place(&office, "cloud");
    let rule = "[rule.keep]\nstarts = { arrival = { place = \"cloud\", folder = \"in\", settle = \"1h\", look-every = \"200ms\" } }\n\
        [[rule.keep.branch]]\nsteps = [ { move = { folder = \"kept\" } } ]\n";
    office.book(&format!("{place}{rule}"));
    archive.put("in/levels.csv", "1.9");
    wait_for("it to be seen", || (office.json(&["arrival", "list"]).as_array().unwrap().len() == 1).then_some(()));
    let told = said(&office, &["rule", "explain", "cloud:/in/levels.csv"]);
    assert!(told.contains("on a server it must stay the same for 1 h"), "{told}");
}
