//! Rules made and changed by hand in the console: no text of the book is typed here.

use std::fs;

use crate::support::{Office, browser::Browser, names, wait_for};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

# Agreed with the archive.
[rule.sheets]
title  = "Sheets into the archive"   # the old title was longer
starts = { arrival = { place = "office", folder = "in", names = ["*.csv"] } }

[[rule.sheets.branch]]
title = "Levels"
if    = { file = "name", starts-with = "levels-" }
steps = [ { copy = { folder = "archive/levels" } } ]

[[rule.sheets.branch]]
title = "Anything else"
steps = [ { copy = { folder = "archive" } } ]
"#;

async fn office() -> (Office, Browser) {
    let (office, browser) = (Office::open(), Browser::open().await);
    fs::create_dir_all(office.path("office/in")).unwrap();
    office.book(BOOK);
    browser.sign_in(&office).await;
    (office, browser)
}

#[tokio::test(flavor = "multi_thread")]
async fn from_an_empty_service_a_rule_is_built_by_form_alone_and_works() {
    let (office, browser) = (Office::open(), Browser::open().await);
    fs::create_dir_all(office.path("office/assays/out")).unwrap();
    browser.sign_in(&office).await;
    browser.go(&office, "/places/new?kind=folder").await;
    browser.fill("Name", "office").await;
    browser.fill("Folder", &office.path("office").display().to_string()).await;
    browser.press("Add and test").await;
    browser.find("//h1[text()='office']").await;
    browser.go(&office, "/rules/new?from=nothing").await;
    browser.fill("Name", "assay-sheets").await;
    browser.fill("Title", "Assay sheets by month").await;
    browser.press("What starts it").await;
    browser.press("Add: A file comes").await;
    browser.pick("Place", "office").await;
    // The folder is picked where it lies.
    browser.press("Browse for Folder").await;
    browser.click("//dialog//button[contains(., 'assays')]").await;
    browser.click("//dialog//button[contains(., 'out')]").await;
    browser.click("//dialog//button[contains(., 'Take')]").await;
    browser.fill("Named", "*.csv").await;
    browser.press("Add a step to branch 1, as step 1").await;
    browser.click("//dialog//section[@aria-label='Put somewhere']//button[contains(., 'A copy')]").await;
    browser.fill("Folder", "sheets/").await;
    browser.press("Insert into Folder").await;
    browser.fill("Type to narrow", "date and time").await;
    browser.click("//dialog[@aria-label='Insert']//button[contains(., 'date and time')]").await;
    browser.click("//dialog[@aria-label='Insert']//button[contains(., '%Y-%m') and not(contains(., '%d'))]").await;
    browser.press("Branch 1: The original").await;
    browser.pick("The original", "move-to").await;
    browser.fill("move to", "sent").await;
    browser.find("//p[contains(., 'then set the original aside in sent')]").await;
    browser.press("Put in force").await;
    browser.find("//h1[text()='Assay sheets by month']").await;
    office.put("office/assays/out/assay-0412.csv", b"gold 4.1");
    wait_for("it to be set aside", || office.path("office/assays/out/sent/assay-0412.csv").exists().then_some(()));
    let months = names(&office.path("office/sheets"));
    assert!(months.len() == 1 && months[0].len() == 7, "{months:?}");
    assert_eq!(fs::read(office.path(&format!("office/sheets/{}/assay-0412.csv", months[0]))).unwrap(), b"gold 4.1");
    let text = office.json(&["rule", "show", "assay-sheets"])["text"].as_str().unwrap().to_owned();
    assert_eq!(
        text.trim_end(),
        "[rule.assay-sheets]\ntitle  = \"Assay sheets by month\"\n\
         starts = { arrival = { place = \"office\", folder = \"assays/out\", names = [\"*.csv\"] } }\n\n\
         [[rule.assay-sheets.branch]]\nsteps    = [ { copy = { folder = \"sheets/{{ now | date('%Y-%m') }}\" } } ]\n\
         original = { move-to = \"sent\" }"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_changed_by_form_keeps_the_comments_and_what_was_typed_as_text_is_in_the_form() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules/sheets").await;
    // The sentence leads to each of its parts.
    browser.click("//p/a[contains(., 'copy it to office › archive/levels')]").await;
    browser.fill("Folder", "archive/tides").await;
    browser.find("//p[contains(., 'archive/tides')]").await;
    browser.click("//button[@role='tab' and text()='Text']").await;
    let shown = browser.book_text("The rule as text").await;
    assert!(shown.contains("# Agreed with the archive.") && shown.contains("# the old title was longer"), "{shown}");
    browser.type_book("The rule as text", &shown.replace("Anything else", "The rest")).await;
    browser.click("//button[@role='tab' and text()='Build']").await;
    browser.press("Branch: 2 The rest").await;
    assert_eq!(browser.field("Title").await.value().await.unwrap().unwrap(), "The rest");
    browser.press("Put in force").await;
    browser.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
    let kept = office.json(&["rule", "show", "sheets"])["text"].as_str().unwrap().to_owned();
    let expected = BOOK[BOOK.find("# Agreed").unwrap()..]
        .replace("archive/levels", "archive/tides")
        .replace("Anything else", "The rest");
    assert_eq!(kept.trim_end(), expected.trim_end());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_outlives_its_page_and_is_gone_when_it_is_discarded() {
    let (mut office, browser) = office().await;
    office.keep_address();
    browser.go(&office, "/rules/sheets").await;
    browser.press("Title, time zone and other settings").await;
    browser.fill("Title", "Half of a new title").await;
    browser.find("//section[@aria-label='Not in force yet']").await;
    browser.find("//span[text()='Kept in this browser until then.']").await;
    office.kill();
    office.start();
    browser.driver.refresh().await.unwrap();
    browser.press("Title, time zone and other settings").await;
    assert_eq!(browser.field("Title").await.value().await.unwrap().unwrap(), "Half of a new title");
    browser.press("Discard").await;
    assert_eq!(browser.field("Title").await.value().await.unwrap().unwrap(), "Sheets into the archive");
    browser.driver.refresh().await.unwrap();
    browser.press("Title, time zone and other settings").await;
    assert_eq!(browser.field("Title").await.value().await.unwrap().unwrap(), "Sheets into the archive");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mistake_stands_at_its_field_and_leads_there() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules/sheets").await;
    browser.press("Add a step to branch 2, as step 2").await;
    browser.click("//dialog//button[contains(., 'Encrypt')]").await;
    browser.find("//p[contains(., 'Not finished yet')]").await;
    assert!(!browser.find("//button[text()='Put in force']").await.is_enabled().await.unwrap());
    browser.press("What starts it").await;
    browser.click("//section[@aria-label='Mistakes']//button").await;
    browser.find("//section[@aria-label='Branch 2 › step 2 of 2 › Encrypt']//p[contains(@class, 'text-error')]").await;
    browser.press("Remove").await;
    browser.press("What starts it").await;
    browser.fill("Unchanged for", "soonish").await;
    browser
        .find("//section[@aria-label='What starts it']//p[contains(@class, 'text-error') and contains(., 'soonish')]")
        .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_tried_with_a_file_that_lies_there_and_touches_nothing() {
    let (office, browser) = office().await;
    office.put("office/later/levels-7.csv", b"1,2,3");
    browser.go(&office, "/rules/sheets").await;
    browser.press("Branch 1, step 1: A copy").await;
    browser.fill("Folder", "archive/").await;
    browser.press("Insert into Folder").await;
    browser.click("//dialog[@aria-label='Insert']//button[contains(., 'name without its ending')]").await;
    browser.press("Choose a file to try it with").await;
    browser.click("//dialog//button[contains(., 'later')]").await;
    browser.click("//dialog//button[text()='levels-7.csv']").await;
    browser.find("//p[text()='→ archive/levels-7']").await;
    browser.find("//section[@aria-label='Try it']//p[text()='It would not be taken']").await;
    browser.press("What starts it").await;
    browser.fill("Folder", "later").await;
    browser.find("//section[@aria-label='Try it']//p[contains(., 'Branch 1, Levels, takes it')]").await;
    assert!(!office.path("office/archive").exists() && office.runs().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_rule_is_tried_with_what_came_last_to_its_folder_though_it_lies_there_no_more() {
    let (office, browser) = office().await;
    office.put("office/in/levels-7.csv", b"1,2,3");
    office.put("office/in/notes.txt", b"seen, and not taken");
    wait_for("both to be on record", || {
        let came = office.json(&["arrival", "list"]);
        (came.as_array().unwrap().len() == 2).then_some(())
    });
    fs::remove_file(office.path("office/in/levels-7.csv")).unwrap();
    browser.new_rule(&office, "other").await;
    browser.starts_when_a_file_comes("office", &["in"], "*.txt").await;
    browser.add_step(1, 1, "A copy").await;
    browser.fill("Folder", "read").await;
    browser.find("//section[@aria-label='Try it']//p[contains(., 'as it came')]").await;
    // The other one is to be had as well, as it was.
    browser.press("Choose a file to try it with").await;
    browser.click("//dialog//button[contains(., 'in')][.//*[@aria-label='folder']]").await;
    browser.click("//section[@aria-label='Files that came here last']//button[text()='levels-7.csv']").await;
    browser.find("//section[@aria-label='Try it']//p[text()='It would not be taken']").await;
    browser.press("What starts it").await;
    browser.fill("Named", "*").await;
    browser.find("//section[@aria-label='Try it']//p[contains(., 'takes it')]").await;
    browser.find("//section[@aria-label='Try it']//*[text()='the folder read would be made']").await;
    assert!(!office.path("office/read").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_another_version_of_the_page_kept_does_no_harm() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules").await;
    for kept in
        ["{", "7", "{\"name\":\"sheets\",\"value\":7,\"base\":\"\"}", "{\"name\":[],\"value\":{},\"base\":\"\"}"]
    {
        let keep =
            format!("localStorage.setItem('wetbank draft rule sheets', {}); return true;", serde_json::json!(kept));
        browser.until(&keep).await;
        browser.go(&office, "/rules/sheets").await;
        browser.find("//p[contains(., 'archive/levels')]").await;
        browser.find("//h1[text()='Sheets into the archive']").await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn steps_and_branches_are_moved_copied_and_removed_with_all_that_is_said_of_them() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules/sheets").await;
    browser.press("Branch 1, step 1: A copy").await;
    browser.press("Copy").await;
    browser.fill("Folder", "second").await;
    browser.press("← Earlier").await;
    browser.find("//section[@aria-label='Branch 1 › step 1 of 2 › A copy']").await;
    browser.find("//p[contains(., 'copy it to office › second and copy it to office › archive/levels')]").await;
    browser.press("Branch: 1 Levels").await;
    browser.press("↓ Later").await;
    browser.find("//section[@aria-label='Branch 2 of 2']").await;
    // A branch for everything comes last.
    browser.find("//section[@aria-label='Mistakes']").await;
    browser.press("↑ Earlier").await;
    browser.press("Put in force").await;
    browser.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
    office.put("office/in/levels-1.csv", b"x");
    wait_for("both copies", || {
        (office.path("office/second/levels-1.csv").exists()
            && office.path("office/archive/levels/levels-1.csv").exists())
        .then_some(())
    });
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_who_change_a_rule_at_once_the_second_sees_the_first_and_both_stay() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules/sheets").await;
    browser.press("Branch 1, step 1: A copy").await;
    browser.fill("Folder", "archive/mine").await;
    browser
        .find("//section[@aria-label='Not in force yet']//li[contains(., 'archive/levels\" becomes \"archive/mine')]")
        .await;
    let theirs = BOOK.replace("folder = \"archive\"", "folder = \"archive/theirs\"");
    office.book(&theirs);
    // It is told at once, and nothing of either is lost.
    browser.find("//section[@role='alert']//li[contains(., 'archive/theirs')]").await;
    assert!(!browser.find("//button[text()='Put in force']").await.is_enabled().await.unwrap());
    browser.press("Take theirs into mine").await;
    browser.fill("Why, if you like", "new shelves").await;
    browser.press("Put in force").await;
    browser.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
    let rule = office.json(&["rule", "show", "sheets"]);
    let text = rule["text"].as_str().unwrap();
    assert!(text.contains("archive/mine") && text.contains("archive/theirs") && text.contains("# Agreed"), "{text}");
    let changes = office.wetbank(&["rule", "changes", "sheets"]);
    let changes = String::from_utf8_lossy(&changes.stdout).into_owned();
    assert!(
        changes.contains("new shelves") && changes.contains("\"archive/levels\" becomes \"archive/mine\""),
        "{changes}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_goes_back_to_what_it_was_by_a_click_and_by_a_command() {
    let (office, browser) = office().await;
    office.book(&BOOK.replace("archive/levels", "archive/tides"));
    browser.go(&office, "/rules/sheets?tab=changes").await;
    browser.find("//li[contains(., 'Version 2') and contains(., 'in force')]").await;
    browser.press("Back to version 1").await;
    browser.find("//li[contains(., 'Version 3') and contains(., 'back to version 1')]").await;
    let text = || office.json(&["rule", "show", "sheets"])["text"].as_str().unwrap().to_owned();
    assert!(text().contains("archive/levels"));
    let undone = office.wetbank(&["rule", "undo", "sheets"]);
    assert!(undone.status.success(), "{}", String::from_utf8_lossy(&undone.stderr));
    assert!(text().contains("archive/tides"));
    assert!(office.wetbank(&["rule", "remove", "sheets"]).status.success());
    assert!(!office.wetbank(&["rule", "show", "sheets"]).status.success());
    assert!(office.wetbank(&["rule", "undo", "sheets"]).status.success());
    assert!(text().contains("archive/tides"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_leaves_files_unprotected_stands_out_before_it_is_in_force() {
    let (office, browser) = office().await;
    assert!(office.wetbank_with(&["secret", "set", "tide"], "grey heron").status.success());
    office.book(&BOOK.replace(
        "steps = [ { copy = { folder = \"archive\" } } ]",
        "steps = [ { encrypt = { passphrase = { secret = \"tide\" } } }, { copy = { folder = \"archive\" } } ]",
    ));
    browser.go(&office, "/rules/sheets").await;
    browser.press("Branch 2, step 1: Encrypt").await;
    browser.press("Remove").await;
    browser.find("//section[@aria-label='Not in force yet']//li[contains(@class, 'bg-warning') and contains(., 'files are not encrypted there any more')]").await;
    browser.press("Discard").await;
    browser.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
}
