//! Whole jobs, arranged from an empty service through the console's forms alone, then run. No text of the book is
//! typed, and no command is used but to look at what came of it.

use std::fs;

use thirtyfour::prelude::*;
use wetbank_standins::{DriveStandin, DriveStandinOptions, DriveUser};

use crate::support::{Archive, Office, browser::Browser, names, servers::shared_folder, wait_for};
use wetbank_testbed::{Apache, FTP_USER, FtpOffer, MAIL_ADDRESS, MAIL_USER, PostOffice, Proftpd, WEBDAV_USER};

/// An office to which the console is open, with a folder of its own that is no place yet.
async fn open() -> (Office, Browser) {
    let (office, browser) = (Office::open(), Browser::open().await);
    fs::create_dir_all(office.path("office")).unwrap();
    browser.sign_in(&office).await;
    (office, browser)
}

async fn add_folder(browser: &Browser, office: &Office, name: &str) {
    let path = office.path(name).display().to_string();
    browser.add_place(office, "A folder", name, &[("Folder", &path)]).await;
}

async fn add_bucket(browser: &Browser, office: &Office, name: &str, archive: &Archive) {
    let fields = [
        ("Address", archive.url()),
        ("Bucket", "survey".to_owned()),
        ("Access key", "merrow".to_owned()),
        ("Secret key", "grey heron".to_owned()),
    ];
    let fields: Vec<_> = fields.iter().map(|(label, value)| (*label, value.as_str())).collect();
    browser.add_place(office, "A bucket", name, &fields).await;
}

async fn add_ftp(browser: &Browser, office: &Office, server: &Proftpd, host: &str) {
    browser.go(office, "/places/new").await;
    browser.click("//label[contains(., 'An FTP server')]/input").await;
    browser.fill("Name", "harlan").await;
    browser.fill("Host", host).await;
    browser.fill("User", FTP_USER.0).await;
    browser.fill("Password", FTP_USER.1).await;
    browser.pick("Secured by", "none").await;
    browser.fill("Folder", &server.root.path().display().to_string()).await;
    browser.press("Add and test").await;
    browser.find("//section[@aria-label='Test']//li[contains(., 'list')]").await;
}

fn today() -> String {
    jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC).date().to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn j01_files_of_a_cloud_folder_are_sorted_by_what_their_names_contain() {
    let (office, browser) = open().await;
    let archive = tokio::task::spawn_blocking(Archive::open).await.unwrap();
    add_bucket(&browser, &office, "cloud", &archive).await;
    archive.put("in/gauge-07.csv", "gauge-07.csv");
    browser.new_rule(&office, "sort").await;
    browser.starts_when_a_file_comes("cloud", &["in"], "").await;
    browser.click("//summary[text()='More']").await;
    browser.fill("Look every", "200ms").await;
    browser.press("Branch: 1").await;
    browser.fill("Title", "Gauges").await;
    browser.press("Add a test to If").await;
    browser.pick("If: how", "contains").await;
    browser.fill("If: with what", "gauge").await;
    browser.add_step(1, 1, "Move").await;
    browser.fill("Folder", "sorted/gauges").await;
    browser.press("+ branch").await;
    browser.fill("Title", "Anything else").await;
    browser.add_step(2, 1, "Move").await;
    browser.fill("Folder", "sorted/other").await;
    // It is tried on one file before it is in force.
    browser.press("Choose a file to try it with").await;
    browser.click("//dialog[@open]//button[text()='in']").await;
    browser.click("//dialog[@open]//button[text()='gauge-07.csv']").await;
    browser
        .find("//section[@aria-label='Try it']//span[normalize-space(.)='→ cloud:/sorted/gauges/gauge-07.csv']")
        .await;
    browser.put_in_force().await;
    archive.put("in/readme.txt", "readme.txt");
    wait_for("both are sorted", || {
        (archive.keys() == ["sorted/gauges/gauge-07.csv", "sorted/other/readme.txt"]).then_some(())
    });
    tokio::task::spawn_blocking(move || drop(archive)).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn j03_one_named_file_is_fetched_each_working_day_into_a_folder_named_by_date() {
    let (office, browser) = open().await;
    let server = Proftpd::start(FtpOffer::Plain);
    shared_folder(&server.root.path().join("out"));
    fs::write(server.root.path().join("out/levels.csv"), "today's levels").unwrap();
    fs::write(server.root.path().join("out/other.csv"), "not asked for").unwrap();
    add_folder(&browser, &office, "office").await;
    add_ftp(&browser, &office, &server, &format!("127.0.0.1:{}", server.port)).await;
    browser.new_rule(&office, "fetch").await;
    browser.press("What starts it").await;
    browser.press("Add: By the clock").await;
    browser.fill("At", "07:30").await;
    browser.fill("On", "working-days").await;
    browser.looks_for("harlan", &["out"], "levels.csv").await;
    browser.add_step(1, 1, "Fetch").await;
    browser.pick("To", "office").await;
    browser.fill("Folder", "levels/").await;
    browser.insert("Folder", "today's date").await;
    browser.find("//section[@aria-label='Next firings']//li").await;
    browser.put_in_force().await;
    browser.press("Run now…").await;
    browser.press("All it is about").await;
    let folder = office.path(&format!("office/levels/{}", today()));
    wait_for("the levels", || fs::read(folder.join("levels.csv")).ok());
    assert_eq!(names(&folder), ["levels.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn j06_at_the_end_of_the_day_a_folder_named_by_date_gets_all_files() {
    let (office, browser) = open().await;
    let server = Proftpd::start(FtpOffer::Plain);
    shared_folder(&server.root.path().join("daily"));
    add_folder(&browser, &office, "office").await;
    // A host typed with a scheme and slashes is understood.
    add_ftp(&browser, &office, &server, &format!("ftp://127.0.0.1:{}//", server.port)).await;
    for name in ["a.csv", "b.csv", "sub/c.csv"] {
        office.put(&format!("office/day/{name}"), name.as_bytes());
    }
    browser.new_rule(&office, "end-of-day").await;
    browser.press("What starts it").await;
    browser.press("Add: By the clock").await;
    browser.fill("At", "18:00").await;
    browser.looks_for("office", &["day"], "").await;
    browser.add_step(1, 1, "A copy").await;
    browser.pick("To", "harlan").await;
    browser.fill("Folder", "daily/").await;
    browser.insert("Folder", "today's date").await;
    browser.pick("When the name is taken", "replace").await;
    browser.put_in_force().await;
    browser.press("Run now…").await;
    browser.press("All it is about").await;
    let folder = server.root.path().join("daily").join(today());
    wait_for("both files", || (folder.exists() && names(&folder) == ["a.csv", "b.csv"]).then_some(()));
}

#[tokio::test(flavor = "multi_thread")]
async fn j08_every_few_minutes_files_go_to_a_library_and_are_set_aside_below_their_folder() {
    let (office, browser) = open().await;
    let library = Apache::start(false);
    add_folder(&browser, &office, "office").await;
    let fields = [("Address", library.url.as_str()), ("User", WEBDAV_USER.0), ("Password", WEBDAV_USER.1)];
    browser.add_place(&office, "A WebDAV folder", "library", &fields).await;
    for name in ["a.csv", "b.csv"] {
        office.put(&format!("office/up/{name}"), name.as_bytes());
    }
    browser.new_rule(&office, "upload").await;
    browser.press("What starts it").await;
    browser.press("Add: By the clock").await;
    browser.fill("Every", "5 min").await;
    browser.looks_for("office", &["up"], "").await;
    browser.add_step(1, 1, "A copy").await;
    browser.pick("To", "library").await;
    browser.fill("Folder", "from-merrow").await;
    browser.press("Branch 1: The original").await;
    browser.pick("The original", "move-to").await;
    browser.fill("move to", "done").await;
    browser.press("Title, time zone and other settings").await;
    browser.click("//summary[text()='More']").await;
    browser.pick("When a file is held", "go-on").await;
    browser.put_in_force().await;
    browser.press("Run now…").await;
    browser.press("All it is about").await;
    let there = library.root.path().join("from-merrow");
    wait_for("both files", || (there.exists() && names(&there) == ["a.csv", "b.csv"]).then_some(()));
    office.wait_idle();
    assert_eq!(names(&office.path("office/up")), ["done"]);
    assert_eq!(names(&office.path("office/up/done")), ["a.csv", "b.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn j10_what_is_gathered_each_day_is_delivered_on_by_a_second_rule_to_a_partner_on_record() {
    let (office, browser) = open().await;
    for name in ["office", "gauges-north", "gauges-south", "harbour"] {
        fs::create_dir_all(office.path(name)).unwrap();
        add_folder(&browser, &office, name).await;
    }
    office.put("gauges-north/n.csv", b"north");
    office.put("gauges-south/s.csv", b"south");
    browser.go(&office, "/partners/new").await;
    browser.fill("Name in the book", "skerrow").await;
    browser.press("Add: Delivery").await;
    browser.pick("To", "harbour").await;
    browser.fill("Folder", "incoming").await;
    browser.put_in_force().await;
    browser.new_rule(&office, "gather").await;
    browser.press("What starts it").await;
    browser.press("Add: By the clock").await;
    browser.fill("At", "05:00").await;
    browser.looks_for("gauges-north", &[], "*.csv").await;
    browser.press("Add to Finds").await;
    browser.pick_in("Finds 2", "Place", "gauges-south").await;
    browser.add_step(1, 1, "Fetch").await;
    browser.pick("To", "office").await;
    browser.fill("Folder", "gathered").await;
    browser.put_in_force().await;
    browser.new_rule(&office, "forward").await;
    browser.press("What starts it").await;
    browser.press("Add: After another rule").await;
    browser.tick("After it was", "fetched").await;
    browser.tick("By", "gather").await;
    browser.click("//summary[text()='More']").await;
    browser.tick("Coming from", "gauges-north").await;
    browser.add_step(1, 1, "Deliver").await;
    browser.pick("Partner", "skerrow").await;
    browser.put_in_force().await;
    browser.go(&office, "/rules/gather").await;
    browser.press("Run now…").await;
    browser.press("All it is about").await;
    wait_for("what came from the north", || fs::read(office.path("harbour/incoming/n.csv")).ok());
    office.wait_idle();
    assert_eq!(names(&office.path("harbour/incoming")), ["n.csv"], "only what came from there");
    assert_eq!(names(&office.path("office/gathered")), ["n.csv", "s.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn j18_encrypted_files_are_opened_several_at_once_and_the_originals_go() {
    let (office, browser) = open().await;
    add_folder(&browser, &office, "office").await;
    for name in ["drop", "open", "plain"] {
        fs::create_dir_all(office.path("office").join(name)).unwrap();
    }
    browser.new_rule(&office, "seal").await;
    browser.starts_when_a_file_comes("office", &["plain"], "").await;
    browser.add_step(1, 1, "Encrypt").await;
    browser.press("Set a secret for Passphrase").await;
    browser.fill("Name of the secret", "tide").await;
    browser.fill("Value of the secret", "grey heron").await;
    browser.press("Set it").await;
    browser.add_step(1, 2, "A copy").await;
    browser.fill("Folder", "drop").await;
    browser.press("Branch 1: The original").await;
    browser.pick("The original", "delete").await;
    browser.put_in_force().await;
    browser.new_rule(&office, "open").await;
    browser.starts_when_a_file_comes("office", &["drop"], "*.pgp").await;
    browser.add_step(1, 1, "Decrypt").await;
    browser.pick("Passphrase", "tide").await;
    browser.add_step(1, 2, "A copy").await;
    browser.fill("Folder", "open").await;
    browser.press("Branch 1: The original").await;
    browser.pick("The original", "delete").await;
    browser.put_in_force().await;
    for number in 0..5 {
        office.put(&format!("office/plain/{number}.csv"), format!("sheet {number}").as_bytes());
    }
    wait_for("all five", || (names(&office.path("office/open")).len() == 5).then_some(()));
    office.wait_idle();
    assert!(names(&office.path("office/drop")).is_empty() && names(&office.path("office/plain")).is_empty());
    assert_eq!(fs::read(office.path("office/open/3.csv")).unwrap(), b"sheet 3");
}

#[tokio::test(flavor = "multi_thread")]
async fn j20_from_a_starter_files_of_one_cloud_go_to_another_that_was_signed_in_to() {
    let (office, browser) = open().await;
    let first = tokio::task::spawn_blocking(Archive::open).await.unwrap();
    add_bucket(&browser, &office, "first", &first).await;
    let user = DriveUser { tenant: "merrow".to_owned(), name: "tove".to_owned(), password: "grey heron".to_owned() };
    let drive = DriveStandin::start(DriveStandinOptions::new(vec![user])).await.unwrap();
    browser.go(&office, "/places/new").await;
    browser.click("//label[contains(., 'A WebDAV folder')]/input").await;
    browser.click("//label[contains(., 'by agreeing')]/input").await;
    browser.fill("Name", "second").await;
    browser.fill("Address", &drive.files("merrow")).await;
    browser.fill("Who is asked", &drive.url()).await;
    browser.fill("Registered as", "wetbank").await;
    browser.fill("Rights", "files.read\nfiles.write").await;
    browser.press("Add, then sign in").await;
    // The rights that it gives are shown before.
    browser.find("//section[@aria-label='Sign in']//li[contains(., 'see and read the files')]").await;
    browser.press("Sign in").await;
    for (field, text) in [("user", "tove"), ("password", "grey heron")] {
        browser.find(&format!("//input[@id='{field}']")).await.send_keys(text).await.unwrap();
    }
    browser.press("Sign in and agree").await;
    browser.find("//section[@aria-label='Sign in']//h2[text()='Signed in.']").await;
    first.put("out/0.csv", "0");
    browser.go(&office, "/rules/new").await;
    browser.click("//a[contains(., 'From one drive to another')]").await;
    browser.pick("From which drive and folder? The place", "first").await;
    browser.press("Browse: From which drive and folder?").await;
    browser.click("//dialog[@open]//td//button[contains(., 'out')]").await;
    browser.click("//dialog[@open]//button[contains(., 'Take')]").await;
    browser.pick("To which drive and folder? The place", "second").await;
    browser.press("Go on").await;
    browser.find("//section[@aria-label='Try it']").await;
    browser.put_in_force().await;
    for number in 1..4 {
        first.put(&format!("out/{number}.csv"), number.to_string());
    }
    wait_for("all four", || (0..4).all(|number| drive.get("merrow", format!("{number}.csv")).is_some()).then_some(()));
    office.wait_idle();
    // One run a file in the history, and a tick per step.
    assert_eq!(office.runs().len(), 4);
    browser.go(&office, "/runs").await;
    browser.click("//a[contains(., '2.csv')]").await;
    browser.find("//li[@data-state='done']").await;
    tokio::task::spawn_blocking(move || drop(first)).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn j12_a_new_service_leads_from_two_places_and_a_key_to_files_that_are_sealed_where_they_lie() {
    let (office, browser) = open().await;
    for name in ["office/desk", "sealed"] {
        fs::create_dir_all(office.path(name)).unwrap();
    }
    let key = office.make_key();
    // Each step leads to the next.
    browser.find("//section[@aria-label='First steps']").await;
    browser.click("//section[@aria-label='First steps']//a[text()='Add a place']").await;
    browser.click("//label[contains(., 'A folder')]/input").await;
    browser.fill("Name", "office").await;
    browser.fill("Folder", &office.path("office").display().to_string()).await;
    browser.press("Add and test").await;
    browser.find("//h1[contains(., 'office')]").await;
    browser.click("//nav//a[contains(., 'Today')]").await;
    browser.click("//section[@aria-label='First steps']//a[text()='Add another place']").await;
    browser.click("//label[contains(., 'A folder')]/input").await;
    browser.fill("Name", "sealed").await;
    browser.fill("Folder", &office.path("sealed").display().to_string()).await;
    browser.press("Add and test").await;
    browser.find("//h1[contains(., 'sealed')]").await;
    browser.click("//nav//a[text()='Settings']").await;
    browser.click("//summary[text()='Import a key']").await;
    let input = browser.driver.find(By::Css("input[type=file]")).await.unwrap();
    input.send_keys(key.display().to_string()).await.unwrap();
    browser.fill("Name of the key", "merrow").await;
    browser.press("Import").await;
    browser.find("//button[@aria-label='Remove the key merrow']").await;
    browser.click("//nav//a[contains(., 'Today')]").await;
    browser.click("//section[@aria-label='First steps']//a[text()='Choose an arrangement']").await;
    browser.click("//a[contains(., 'Encrypt where files lie')]").await;
    browser.pick("Where do the files come? The place", "office").await;
    browser.press("Browse: Where do the files come?").await;
    browser.click("//dialog[@open]//td//button[contains(., 'desk')]").await;
    browser.click("//dialog[@open]//button[contains(., 'Take')]").await;
    browser.pick("Encrypted to whose key?", "merrow").await;
    browser.pick("Where shall they go? The place", "sealed").await;
    browser.press("Go on").await;
    browser.put_in_force().await;
    office.put("office/desk/draft.txt", b"levels");
    wait_for("the sealed one", || office.path("sealed/draft.txt.pgp").exists().then_some(()));
    office.wait_idle();
    assert!(names(&office.path("office/desk")).is_empty());
    assert_eq!(names(&office.path("sealed")), ["draft.txt.pgp"]);
    // Once something ran nobody is led any more.
    browser.click("//nav//a[contains(., 'Today')]").await;
    browser.find("//h2[text()='Crossing now']").await;
    browser.until("return !document.querySelector('[aria-label=\"First steps\"]');").await;
}

/// Adds a mailbox and confirms what both of its servers show.
async fn add_mailbox(browser: &Browser, office: &Office, post: &PostOffice) {
    browser.go(office, "/places/new").await;
    browser.click("//label[contains(., 'A mailbox')]/input").await;
    browser.fill("Name", "post").await;
    browser.fill("Letters are read at", "127.0.0.1").await;
    browser.fill("Port", &post.imaps.to_string()).await;
    browser.fill("User", MAIL_USER.0).await;
    browser.fill("Password", MAIL_USER.1).await;
    browser.fill("Letters are handed in at", &format!("127.0.0.1:{}", post.smtp)).await;
    browser.fill("They come from", MAIL_ADDRESS).await;
    browser.click("//summary[text()='More']").await;
    browser.pick("There secured by", "tls").await;
    browser.press("Add and test").await;
    browser.confirm_identity().await;
    browser.confirm_identity().await;
    browser.find("//section[@aria-label='Test']//li[contains(., 'list')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn j13_what_is_saved_to_a_folder_is_mailed_and_put_into_a_folder_for_done_ones() {
    let (office, browser) = open().await;
    let post = PostOffice::start();
    add_folder(&browser, &office, "office").await;
    add_mailbox(&browser, &office, &post).await;
    fs::create_dir_all(office.path("office/bulletins")).unwrap();
    browser.new_rule(&office, "bulletins").await;
    browser.starts_when_a_file_comes("office", &["bulletins"], "").await;
    browser.add_step(1, 1, "Send a mail").await;
    browser.pick("By", "post").await;
    browser.fill("To", "wardens@merrow.example").await;
    browser.fill("Subject", "A bulletin: ").await;
    browser.insert("Subject", "whole name").await;
    browser.fill("Attach", "*").await;
    browser.press("Branch 1: The original").await;
    browser.pick("The original", "move-to").await;
    browser.fill("move to", "done").await;
    browser.put_in_force().await;
    for name in ["week11.pdf", "week12.pdf"] {
        office.put(&format!("office/bulletins/{name}"), name.as_bytes());
    }
    let sent = post.wait_sent(2);
    assert!(sent.iter().any(|mail| mail.contains("A bulletin: week11.pdf")), "{sent:?}");
    assert!(sent.iter().all(|mail| mail.contains("filename")), "{sent:?}");
    office.wait_idle();
    assert_eq!(names(&office.path("office/bulletins/done")), ["week11.pdf", "week12.pdf"]);
    // How often it ran stands on the rule's page.
    browser.go(&office, "/rules/bulletins?tab=runs").await;
    browser.find("//span[contains(., '2 today')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn j04_by_the_clock_files_are_copied_packed_and_mailed_and_a_failure_is_mailed_too() {
    let (office, browser) = open().await;
    let post = PostOffice::start();
    add_folder(&browser, &office, "office").await;
    add_mailbox(&browser, &office, &post).await;
    for name in ["gauge-07.csv", "gauge-11.csv", "notes.txt"] {
        office.put(&format!("office/night/{name}"), name.as_bytes());
    }
    browser.new_rule(&office, "nightly").await;
    browser.press("What starts it").await;
    browser.press("Add: By the clock").await;
    browser.fill("At", "02:00").await;
    browser.looks_for("office", &["night"], "gauge-*.csv").await;
    browser.add_step(1, 1, "A copy").await;
    browser.fill("Folder", "kept").await;
    browser.fill("Name", "night-").await;
    browser.insert("Name", "whole name").await;
    browser.add_step(1, 2, "Pack together").await;
    browser.fill("Name of the archive", "readings.zip").await;
    browser.add_step(1, 3, "Send a mail").await;
    browser.pick("By", "post").await;
    browser.fill("To", "desk@merrow.example").await;
    browser.fill("Subject", "Readings of the night").await;
    browser.fill("Attach", "*.zip").await;
    browser.press("Branch 1, step 1: A copy").await;
    browser.click("//summary[contains(., 'when it fails')]").await;
    browser.press("Add a step").await;
    browser.click("//dialog[@open]//button[contains(., 'Send a mail')]").await;
    browser.pick_in("When it fails", "By", "post").await;
    browser.fill_in("When it fails", "To", "desk@merrow.example").await;
    browser.fill_in("When it fails", "Subject", "Not copied: ").await;
    browser.insert_in("When it fails", "Subject", "why it failed").await;
    browser.put_in_force().await;
    browser.press("Run now…").await;
    browser.press("All it is about").await;
    let sent = post.wait_sent(1);
    assert!(sent[0].contains("readings.zip") && sent[0].contains("gauge-07.csv (12 bytes)"), "{}", sent[0]);
    office.wait_idle();
    assert_eq!(names(&office.path("office/kept")), ["night-gauge-07.csv", "night-gauge-11.csv"]);
    // The next night the names are taken: that is mailed, with the cause.
    office.put("office/night/gauge-07.csv", b"another");
    browser.go(&office, "/rules/nightly").await;
    browser.press("Run now…").await;
    browser.press("All it is about").await;
    let sent = post.wait_sent(2);
    assert!(sent.iter().any(|mail| mail.contains("Not copied")), "{sent:?}");
}
