//! What is done with keys, taken back, or set on the way while something is arranged in the console.

use std::fs;

use thirtyfour::prelude::*;

use crate::support::{Office, browser::Browser};

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
steps = [ { compress = {} }, { note = { text = "seen" } }, { copy = { folder = "archive/levels" } } ]

[[rule.sheets.branch]]
title = "Anything else"
steps = [ { copy = { folder = "archive" } } ]

[rule.also]
title  = "Also kept"
starts = { hand = {} }
finds  = [ { place = "office", folder = "in" } ]

[[rule.also.branch]]
steps = [ { copy = { folder = "kept" } } ]
"#;

async fn office() -> (Office, Browser) {
    let (office, browser) = (Office::open(), Browser::open().await);
    fs::create_dir_all(office.path("office/in")).unwrap();
    office.book(BOOK);
    browser.sign_in(&office).await;
    (office, browser)
}

/// The stone that has the focus.
async fn stone(browser: &Browser) -> String {
    let words = "return (document.activeElement.closest('[data-stone]')?.textContent ?? '').replace(/\\s+/g, ' ')";
    browser.driver.execute(words, Vec::new()).await.unwrap().json().as_str().unwrap().to_owned()
}

async fn send(browser: &Browser, keys: impl Into<TypingData>) {
    browser.driver.active_element().await.unwrap().send_keys(keys).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_few_letters_lead_to_any_rule_place_or_page() {
    let (office, browser) = office().await;
    browser.go(&office, "/runs").await;
    browser.find("//h1[text()='Runs']").await;
    send(&browser, Key::Control + "k").await;
    browser.find("//dialog[@aria-label='Go to']").await;
    send(&browser, "into arch").await;
    browser.find("//*[@role='option' and @aria-selected='true' and contains(., 'Sheets into the archive')]").await;
    send(&browser, Key::Enter + "").await;
    browser.find("//h1[text()='Sheets into the archive']").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn arrow_keys_go_along_the_stones_and_with_alt_a_step_is_moved_and_delete_asks() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules/sheets").await;
    browser.press("Branch 1, step 1: Compress").await;
    send(&browser, Key::Right + "").await;
    assert!(stone(&browser).await.contains("Branch 1, step 2"), "{}", stone(&browser).await);
    send(&browser, Key::Down + "").await;
    assert!(stone(&browser).await.contains("Branch 2"), "{}", stone(&browser).await);
    send(&browser, Key::Up + "").await;
    assert!(stone(&browser).await.contains("Branch 1, step 2"));
    send(&browser, Key::Alt + Key::Right).await;
    browser.find("//button[starts-with(normalize-space(.), 'Branch 1, step 3: Note')]").await;
    browser.until("return document.activeElement.textContent.includes('step 3');").await;
    send(&browser, Key::Delete + "").await;
    browser.find("//dialog[@open and contains(@aria-label, 'Take step 3, Note, out of branch 1')]").await;
    browser.press("Take it out").await;
    browser.find("//section[@aria-label='Not in force yet']//*[contains(., 'Note')]").await;
    browser.press("Put in force").await;
    browser.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
    let text = office.json(&["rule", "show", "sheets"])["text"].as_str().unwrap().to_owned();
    assert!(!text.contains("note") && text.contains("compress"), "{text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_differs_from_what_is_in_force_says_so_and_is_taken_back() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules/sheets").await;
    browser.press("Branch 2, step 1: A copy").await;
    browser.fill("Folder", "elsewhere").await;
    browser.find("//p[contains(., 'changed; in force:') and contains(., 'archive')]").await;
    browser.press("Take back the change of Folder").await;
    browser.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
    browser.find("//p/a[contains(., 'copy it to office › archive')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_asked_in_the_order_that_somebody_gives_them_by_form() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules").await;
    browser.press("change it").await;
    browser.press("Ask Also kept earlier").await;
    browser.press("Put in force").await;
    browser.find("//span[contains(., 'Asked in this order')]").await;
    let names: Vec<_> = office.json(&["rule", "list"]).as_array().unwrap().iter().map(|r| r["name"].clone()).collect();
    assert_eq!(names, ["also", "sheets"]);
    assert!(office.wetbank(&["rule", "move", "also"]).status.success());
    assert_eq!(office.json(&["rule", "list"])[0]["name"], "sheets");
    let unknown = office.wetbank(&["rule", "move", "also", "--before", "none"]);
    assert_eq!(unknown.status.code(), Some(2));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_made_while_one_browses_for_it() {
    let (office, browser) = office().await;
    browser.go(&office, "/rules/sheets").await;
    browser.press("Branch 2, step 1: A copy").await;
    browser.press("Browse for Folder").await;
    browser.fill("Name of a new folder", "for the year").await;
    browser.press("Make it here").await;
    browser.click("//dialog[@open]//button[contains(., 'Take') and contains(., 'for the year')]").await;
    browser.find("//p/a[contains(., 'copy it to office › for the year')]").await;
    assert!(office.path("office/for the year").is_dir());
}
