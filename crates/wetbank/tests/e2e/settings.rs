//! What rules need besides places and partners: keys, secrets, calendars, databases, each by form.

use std::{fs, process::Command};

use thirtyfour::prelude::*;

use crate::support::{Office, browser::Browser};

async fn office() -> (Office, Browser) {
    let (office, browser) = (Office::open(), Browser::open().await);
    fs::create_dir_all(office.path("office/in")).unwrap();
    office.book("[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n");
    browser.sign_in(&office).await;
    (office, browser)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_is_set_where_it_is_needed_and_never_shown() {
    let (office, browser) = office().await;
    office.book(
        "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n\
         [rule.seal]\nstarts = { hand = {} }\nfinds = [ { place = \"office\" } ]\n\
         [[rule.seal.branch]]\nsteps = [ { encrypt = { passphrase = { secret = \"tide\" } } }, { copy = { folder = \"out\" } } ]\n",
    );
    browser.go(&office, "/settings").await;
    browser
        .find("//div[contains(., 'tide') and contains(., 'needed, and not set') and contains(., 'rule seal')]")
        .await;
    browser.press("Set the secret tide").await;
    browser.fill("Its value", "grey heron").await;
    browser.press("Set").await;
    browser.until("return !document.body.innerText.includes('needed, and not set');").await;
    assert!(!browser.text().await.contains("grey heron"));
    let secrets = office.json(&["secret", "list"]);
    assert_eq!((&secrets[0]["name"], &secrets[0]["needed_by"][0]["name"]), (&"tide".into(), &"seal".into()));
    let refused = office.wetbank(&["secret", "remove", "tide"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("rule \"seal\" needs the secret"));
    browser.press("Add a secret").await;
    browser.fill("Name of the secret", "spare").await;
    browser.fill("Its value", "two\nlines").await;
    browser.press("Set").await;
    browser.press("Remove the secret spare").await;
    browser.until("return !document.body.innerText.includes('spare');").await;
    assert_eq!(office.json(&["secret", "list"]).as_array().unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_is_imported_from_its_file_and_removed() {
    let (office, browser) = office().await;
    office.import_key("skerrow");
    let file = office.path("Skerrow Harbour.asc");
    let exported = office.wetbank(&["key", "export", "skerrow"]);
    fs::write(&file, &exported.stdout).unwrap();
    assert!(office.wetbank(&["key", "remove", "skerrow"]).status.success());
    browser.go(&office, "/settings").await;
    browser.click("//summary[text()='Import a key']").await;
    let input = browser.driver.find(By::Css("input[type=file]")).await.unwrap();
    input.send_keys(file.display().to_string()).await.unwrap();
    browser.find("//label[contains(., 'Skerrow Harbour.asc is read')]").await;
    assert_eq!(browser.field("Name of the key").await.value().await.unwrap().unwrap(), "skerrow-harbour");
    browser.press("Import").await;
    browser.press("Remove the key skerrow-harbour").await;
    browser.find("//section[@aria-label='Keys']//p[text()='There is none yet.']").await;
    assert!(office.json(&["key", "list"]).as_array().unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn days_off_are_clicked_and_taken_from_a_calendar_file() {
    let (office, browser) = office().await;
    browser.go(&office, "/settings/calendars/new").await;
    browser.fill("Name in the book", "merrow").await;
    browser.click("//fieldset//button[normalize-space(.)='15']").await;
    browser.click("//fieldset//button[normalize-space(.)='17']").await;
    browser.click("//fieldset//button[normalize-space(.)='15']").await;
    browser.press("Put in force").await;
    browser.find("//h1[normalize-space(.)='Calendar merrow']").await;
    let off = || office.json(&["calendar", "list"])[0]["off"].as_array().unwrap().clone();
    assert_eq!(off().len(), 1, "{:?}", off());
    assert!(off()[0].to_string().contains("-17"), "{:?}", off());
    let file = office.path("holidays.ics");
    fs::write(
        &file,
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20260101T000000Z\r\n\
         DTSTART;VALUE=DATE:20270517\r\nSUMMARY:Day off\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
    )
    .unwrap();
    let input = browser.driver.find(By::Css("input[type=file]")).await.unwrap();
    input.send_keys(file.display().to_string()).await.unwrap();
    browser.find("//output[contains(., 'Added')]").await;
    assert!(off().len() == 2 && off()[1].to_string().contains("2027-05-17"), "{:?}", off());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_is_added_by_form_and_tested() {
    let (office, browser) = office().await;
    let file = office.path("survey.db").display().to_string();
    let made = Command::new("sqlite3").args([&file, "CREATE TABLE reading (gauge TEXT)"]).status().unwrap();
    assert!(made.success());
    browser.go(&office, "/settings/databases/new").await;
    browser.fill("Name in the book", "survey").await;
    browser.fill("File", &file).await;
    browser.press("Put in force").await;
    browser.find("//h1[normalize-space(.)='Database survey']").await;
    browser.press("Test").await;
    browser.find("//output[contains(., '✓')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_place_is_changed_by_form_and_a_removed_rule_put_back() {
    let (office, browser) = office().await;
    fs::create_dir_all(office.path("elsewhere")).unwrap();
    browser.go(&office, "/places/office").await;
    browser.fill("Folder", &office.path("elsewhere").display().to_string()).await;
    browser.press("Put in force").await;
    browser.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
    assert!(office.json(&["place", "show", "office"])["text"].as_str().unwrap().contains("/elsewhere"));
    office.book(
        "[place.office]\nkind = \"folder\"\nroot = \"@/elsewhere\"\n\
         [rule.keep]\nstarts = { hand = {} }\nfinds = [ { place = \"office\" } ]\n[[rule.keep.branch]]\nsteps = [ { note = { text = \"x\" } } ]\n",
    );
    assert!(office.wetbank(&["rule", "remove", "keep"]).status.success());
    browser.go(&office, "/settings").await;
    browser.press("Put keep back").await;
    browser.find("//section[@aria-label='Removed']//p[text()='None was removed.']").await;
    assert!(office.wetbank(&["rule", "show", "keep"]).status.success());
}
