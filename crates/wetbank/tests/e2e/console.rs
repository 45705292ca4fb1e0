//! The console in a real browser, on a real service.

use std::{
    fs,
    time::{Duration, Instant},
};

use crate::support::{Office, browser::Browser, wait_for};
use thirtyfour::prelude::*;
use wetbank_standins::{DriveStandin, DriveStandinOptions, DriveUser};
use wetbank_testbed::{Apache, WEBDAV_USER};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[rule.bulletins]
title = "Bulletins into the archive"
why = "No edition may be lost."
starts = { arrival = { place = "office", folder = "in", names = ["*.pdf"] } }
[[rule.bulletins.branch]]
title = "Every bulletin"
steps = [ { copy = { folder = "archive" } } ]
"#;

fn office() -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("office/in")).unwrap();
    office.book(BOOK);
    office
}

#[tokio::test(flavor = "multi_thread")]
async fn a_held_file_is_seen_live_released_and_seen_done() {
    let (office, browser) = (office(), Browser::open().await);
    browser.sign_in(&office).await;
    browser.find("//h1[text()='Nothing waits for you']").await;
    office.put("office/archive/bulletin-week11.pdf", b"the first edition");
    office.put("office/in/bulletin-week11.pdf", b"the second edition");
    // No reload: the page learns it by itself.
    browser.find("//h1[text()='One file waits for you']").await;
    assert!(browser.text().await.contains("the name is taken"));
    fs::remove_file(office.path("office/archive/bulletin-week11.pdf")).unwrap();
    browser.click("//button[text()='Release']").await;
    browser.find("//h1[text()='Nothing waits for you']").await;
    wait_for("the file", || office.path("office/archive/bulletin-week11.pdf").exists().then_some(()));
    browser.click("//a[text()='Runs']").await;
    browser.click("//a[contains(., 'bulletin-week11.pdf')]").await;
    browser.find("//*[contains(text(), 'SHA-256')]").await;
    browser.find("//*[contains(text(), 'arrived, checksum on record')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_still_to_come_is_told_as_such() {
    let (office, browser) = (office(), Browser::open().await);
    office.book(&format!(
        "{BOOK}\n[rule.sweep]\ntitle = \"Sweep\"\nstarts = {{ schedule = {{ every = \"40 min\" }} }}\n\
         finds = [ {{ place = \"office\", folder = \"in\" }} ]\n\
         [[rule.sweep.branch]]\nsteps = [ {{ note = {{ text = \"seen\" }} }} ]\n"
    ));
    browser.sign_in(&office).await;
    let due = "time[starts-with(text(), 'in ') and (contains(text(), ' min') or contains(text(), ' s'))]";
    browser.find(&format!("//li[contains(., 'Sweep')]//{due}")).await;
    browser.click("//a[text()='Sweep']").await;
    browser.find(&format!("//*[contains(text(), 'next')]//{due}")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_given_up_only_with_a_reason() {
    let (office, browser) = (office(), Browser::open().await);
    office.put("office/archive/b.pdf", b"one");
    office.put("office/in/b.pdf", b"two");
    browser.sign_in(&office).await;
    browser.click("//button[text()='Dismiss…']").await;
    let button = browser.find("//dialog//button[text()='Dismiss']").await;
    assert!(!button.is_enabled().await.unwrap());
    browser.find("//dialog//input").await.send_keys("sent by hand").await.unwrap();
    browser.click("//dialog//button[text()='Dismiss']").await;
    browser.find("//h1[text()='Nothing waits for you']").await;
    assert_eq!(office.runs()[0]["why"], "dismissed: sent by hand");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_is_edited_as_text_checked_compared_and_put_in_force() {
    let (office, browser) = (office(), Browser::open().await);
    browser.sign_in(&office).await;
    browser.click("//a[text()='Rules']").await;
    browser.click("//a[text()='Bulletins into the archive']").await;
    browser.click("//button[@role='tab' and text()='Text']").await;
    let edit = async |with: &str| browser.type_book("The rule as text", with).await;
    edit("[rule.bulletins]\ntitel = \"x\"").await;
    // It is checked while it is typed.
    browser.find("//*[@role='alert' and contains(., 'did you mean \"title\"')]").await;
    let wanted = BOOK[BOOK.find("[rule.").unwrap()..].replace("No edition may be lost.", "Agreed with the archive.");
    edit(&wanted).await;
    browser.press("Compare").await;
    browser.find("//section[contains(., 'rule bulletins: changed')]").await;
    browser.press("Close").await;
    browser.press("Put in force").await;
    browser.find("//p[contains(., 'Why: Agreed with the archive.')]").await;
    assert_eq!(office.json(&["rule", "show", "bulletins"])["version"], 2);
    browser.click("//button[text()='Changes']").await;
    browser.find("//li[contains(., 'Version 1') and contains(., 'Added')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_is_switched_explained_and_run_on_a_chosen_file() {
    let (office, browser) = (office(), Browser::open().await);
    office.put("office/in/readme.txt", b"x");
    browser.sign_in(&office).await;
    browser.driver.goto(format!("{}/rules/bulletins?tab=explain", office.url())).await.unwrap();
    let field = browser.find("//input[@aria-label='A file, as PLACE:/PATH']").await;
    field.send_keys("readme.txt").await.unwrap();
    browser.click("//button[text()='Explain']").await;
    browser.find("//li[contains(., 'name is like *.pdf') and contains(., 'readme.txt')]").await;
    browser.click("//input[contains(@class, 'toggle')]").await;
    browser.find("//label[contains(., 'off')]").await;
    office.put("office/in/later.pdf", b"x");
    browser.click("//button[text()='Run now…']").await;
    browser.click("//dialog//button[text()='later.pdf']").await;
    browser.find("//p[contains(., 'Started by hand')]").await;
    wait_for("the copy", || office.path("office/archive/later.pdf").exists().then_some(()));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_place_is_tested_and_browsed_and_a_file_traced() {
    let (office, browser) = (office(), Browser::open().await);
    office.put("office/in/bulletin-week12.pdf", b"x");
    office.wait_idle();
    browser.sign_in(&office).await;
    browser.click("//nav//a[text()='Places']").await;
    browser.click("//a[text()='office']").await;
    browser.click("//input[@type='checkbox']").await;
    browser.click("//button[text()='Test']").await;
    browser.find("//li[contains(., 'delete it')]").await;
    browser.click("//button[contains(., 'archive')]").await;
    browser.find("//td[contains(., 'bulletin-week12.pdf')]").await;
    browser.find("//body").await.send_keys("/").await.unwrap();
    let field = browser.find("//input[@type='search']").await;
    field.send_keys("week12" + Key::Enter).await.unwrap();
    browser.find("//article[contains(., 'office:/in/bulletin-week12.pdf')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn without_signing_in_nothing_is_told_and_other_sites_change_nothing() {
    let office = office();
    let http = reqwest::Client::new();
    let api = |path: &str| format!("{}/api/v1{path}", office.url());
    for path in ["/status", "/rules", "/runs", "/holds", "/places", "/book", "/secrets", "/keys", "/events"] {
        assert_eq!(http.get(api(path)).send().await.unwrap().status(), 401, "{path}");
    }
    let wrong = http.get(api("/status")).bearer_auth("0".repeat(64)).send().await.unwrap();
    assert_eq!(wrong.status(), 401);
    assert_eq!(wrong.headers()["content-type"], "application/problem+json");
    let foreign =
        http.get(api("/status")).bearer_auth(office.token()).header("host", "evil.example").send().await.unwrap();
    assert_eq!(foreign.status(), 403, "a foreign host name is refused");
    let body = format!("{{\"token\":\"{}\"}}", office.token());
    let signed = http.post(api("/session")).header("content-type", "application/json").body(body).send().await.unwrap();
    let cookie = signed.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"));
    let cookie = cookie.split(';').next().unwrap();
    let switch = |site: &'static str| {
        http.post(api("/rules/bulletins/switch"))
            .header("cookie", cookie)
            .header("sec-fetch-site", site)
            .header("content-type", "application/json")
            .body("{\"on\":false}")
            .send()
    };
    assert_eq!(switch("cross-site").await.unwrap().status(), 403);
    assert_eq!(switch("same-site").await.unwrap().status(), 403);
    assert_eq!(switch("same-origin").await.unwrap().status(), 204);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_place_is_added_with_a_form_and_its_certificate_confirmed_before_it_is_used() {
    let (office, apache, browser) = (Office::open(), Apache::start(true), Browser::open().await);
    browser.sign_in(&office).await;
    browser.click("//nav//a[text()='Places']").await;
    browser.click("//a[text()='Add the first one']").await;
    browser.click("//label[contains(., 'A WebDAV folder')]//input").await;
    for (label, value) in
        [("Name", "cloud"), ("Address", &apache.url), ("User", WEBDAV_USER.0), ("Password", WEBDAV_USER.1)]
    {
        browser.fill(label, value).await;
    }
    browser.click("//button[text()='Add and test']").await;
    let fingerprint = &apache.certificate.as_ref().unwrap().fingerprint;
    browser.find(&format!("//section[@aria-label='Test']//span[text()='{fingerprint}']")).await;
    browser.click("//button[contains(., 'Confirm this')]").await;
    browser.find("//section[@aria-label='Test']//li[contains(., 'signed in as merrow')]").await;
    let place = &office.json(&["place", "list"])[0];
    assert_eq!((place["name"].as_str(), place["state"].as_str()), (Some("cloud"), Some("well")));
    assert!(!place["text"].as_str().unwrap().contains(WEBDAV_USER.1));
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_moved_by_hand_between_two_places_side_by_side_and_seen_as_a_run() {
    let (office, browser) = (Office::open(), Browser::open().await);
    let partner = "\n[partner.skerrow]\ntitle = \"Skerrow Harbour Office\"\nplaces = [\"harbour\"]\n";
    office.book(&format!("{BOOK}[place.harbour]\nkind = \"folder\"\nroot = \"@/harbour\"\n{partner}"));
    fs::create_dir_all(office.path("harbour/incoming")).unwrap();
    office.put("office/out/tide.csv", b"levels");
    office.put("office/out/stays.csv", b"levels");
    browser.sign_in(&office).await;
    browser.click("//nav//a[text()='Places']").await;
    browser.click("//a[text()='Side by side']").await;
    let (near, far) = ("//section[@aria-label='Near bank']", "//section[@aria-label='Far bank']");
    browser.click(&format!("{near}//option[@value='office']")).await;
    browser.click(&format!("{far}//option[@value='harbour']")).await;
    browser.click(&format!("{far}//button[contains(., 'incoming')]")).await;
    browser.click(&format!("{near}//button[contains(., 'out')]")).await;
    browser.click("//input[@aria-label='Pick tide.csv']").await;
    browser.click("//button[@aria-label='Move to the far bank']").await;
    browser.find(&format!("{far}//td[contains(., 'tide.csv')]")).await;
    assert_eq!(fs::read(office.path("harbour/incoming/tide.csv")).unwrap(), b"levels");
    assert!(office.path("office/out/stays.csv").exists() && !office.path("office/out/tide.csv").exists());
    browser.click("//a[.='See its run']").await;
    browser.find("//main//span[text()='By hand']").await;
    // The partner on record says where its places are and that no rule delivers to it.
    browser.click("//nav//a[text()='Partners']").await;
    browser.click("//a[text()='Skerrow Harbour Office']").await;
    browser.find("//section[@aria-label='Places']//a[text()='harbour']").await;
    browser.fill("Note", "Call before noon.").await;
    browser.press("Put in force").await;
    browser.find("//p[text()='Call before noon.']").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_folder_is_loaded_as_one_scrolls() {
    let (office, browser) = (office(), Browser::open().await);
    for number in 0..1200 {
        office.put(&format!("office/many/gauge-{number:04}.csv"), b"x");
    }
    browser.sign_in(&office).await;
    browser.driver.goto(format!("{}/places/office?folder=many", office.url())).await.unwrap();
    browser.find("//td[contains(., 'gauge-')]").await;
    let rows = async || browser.driver.find_all(By::Css("tbody tr")).await.unwrap().len();
    assert_eq!(rows().await, 500);
    let end = Instant::now() + Duration::from_secs(30);
    while rows().await < 1200 {
        assert!(Instant::now() < end, "{} rows", rows().await);
        browser.driver.execute("window.scrollTo(0, document.body.scrollHeight)", Vec::new()).await.unwrap();
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(rows().await, 1200);
}

#[tokio::test(flavor = "multi_thread")]
async fn many_pages_one_after_the_other_and_in_many_tabs_do_not_use_up_the_connections() {
    let (office, browser) = (office(), Browser::open().await);
    browser.sign_in(&office).await;
    // A browser allows six connections to a service; each page listens for what happens.
    for page in ["", "rules", "runs", "places", "rules/bulletins", "places/office", "runs", "rules", "places"] {
        browser.driver.goto(format!("{}/{page}", office.url())).await.unwrap();
        browser.find("//main//h1").await;
    }
    for _ in 0..8 {
        let tab = browser.driver.new_tab().await.unwrap();
        browser.driver.switch_to_window(tab).await.unwrap();
        browser.driver.goto(format!("{}/rules", office.url())).await.unwrap();
        browser.find("//main//a[contains(., 'Bulletins into the archive')]").await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_never_comes_out_again() {
    let office = office();
    assert!(office.wetbank_with(&["secret", "set", "harbour"], "grey-heron-1\n").status.success());
    let listed = office.wetbank(&["--json", "secret", "list"]);
    assert!(!String::from_utf8_lossy(&listed.stdout).contains("heron"));
    assert!(!String::from_utf8_lossy(&office.wetbank(&["book", "export"]).stdout).contains("heron"));
    for file in ["journal.db", "journal.db-wal"] {
        let bytes = fs::read(office.data().join(file)).unwrap_or_default();
        assert!(!bytes.windows(10).any(|w| w == b"grey-heron"), "{file}");
    }
    let log = fs::read_to_string(office.path("log")).unwrap();
    assert!(!log.contains("heron"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cloud_drive_is_added_shown_what_it_allows_refused_and_then_agreed_to() {
    let (office, page) = (office(), Browser::open().await);
    let user = DriveUser { tenant: "merrow".to_owned(), name: "tove".to_owned(), password: "grey heron".to_owned() };
    let drive = DriveStandin::start(DriveStandinOptions::new(vec![user])).await.unwrap();
    drive.put("merrow", "in/proof.pdf", "pages", "Åse Lunde");
    page.sign_in(&office).await;
    page.driver.goto(format!("{}/places/new", office.url())).await.unwrap();
    page.click("//label[contains(., 'A WebDAV folder')]/input").await;
    page.click("//label[contains(., 'by agreeing')]/input").await;
    for (label, text) in [
        ("Name", "drive".to_owned()),
        ("Address", drive.files("merrow")),
        ("Who is asked", drive.url()),
        ("Registered as", "wetbank".to_owned()),
        ("Rights", "files.read".to_owned()),
    ] {
        page.fill(label, &text).await;
    }
    page.click("//button[text()='Add, then sign in']").await;
    page.find("//section[@aria-label='Sign in']//li[contains(., 'see and read the files')]").await;
    page.click("//button[text()='Sign in']").await;
    page.click("//button[text()='Refuse']").await;
    // The way back leads to the place, which tells why.
    page.find("//p[contains(., 'it was refused on the server')]").await;
    page.click("//button[text()='Sign in']").await;
    for (field, text) in [("user", "tove"), ("password", "grey heron")] {
        page.find(&format!("//input[@id='{field}']")).await.send_keys(text).await.unwrap();
    }
    page.click("//button[text()='Sign in and agree']").await;
    page.find("//section[@aria-label='Sign in']//h2[text()='Signed in.']").await;
    page.find("//section[@aria-label='Test']//li[contains(., 'the root can be listed')]").await;
    page.click("//button[contains(., 'in') and contains(@class, 'file')]").await;
    page.find("//td[contains(., 'Åse Lunde')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_partner_is_put_on_record_by_form() {
    let (office, page) = (office(), Browser::open().await);
    fs::create_dir_all(office.path("office/for them")).unwrap();
    page.sign_in(&office).await;
    page.driver.goto(format!("{}/partners/new", office.url())).await.unwrap();
    page.fill("Name in the book", "skerrow").await;
    page.fill("Title", "Skerrow \"Harbour\" Office").await;
    page.press("Add to People").await;
    page.fill("Name", "Ada Fenwick").await;
    page.click("//fieldset[legend='Places']//label[contains(., 'office')]/input").await;
    page.press("Add: Delivery").await;
    page.pick("To", "office").await;
    page.press("Browse for Folder").await;
    page.click("//dialog//button[contains(., 'for them')]").await;
    page.click("//dialog//button[contains(., 'Take')]").await;
    page.press("Put in force").await;
    page.find("//h1[contains(., 'Skerrow \"Harbour\" Office')]").await;
    let partners = office.json(&["partner", "list"]);
    assert_eq!(partners[0]["people"][0]["name"], "Ada Fenwick");
    let form = partners[0]["delivery"].as_str().unwrap();
    assert!(form.contains("office › for them"), "{form}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_fills_in_the_form_for_a_place_but_for_secrets_and_adds_nothing() {
    let (office, page) = (office(), Browser::open().await);
    page.sign_in(&office).await;
    let asked =
        "kind=ftp&name=print-shop&user=merrow&root=%2Fproofs&security=none&password=grey-heron&secret=grey-heron";
    page.driver.goto(format!("{}/places/new?{asked}", office.url())).await.unwrap();
    for (label, expected) in
        [("Name", "print-shop"), ("Host", ""), ("User", "merrow"), ("Folder", "/proofs"), ("Password", "")]
    {
        let field = page.field(label).await;
        assert_eq!(field.prop("value").await.unwrap().unwrap_or_default(), expected, "{label}");
    }
    assert!(page.find("//label[contains(., 'An FTP server')]/input").await.is_selected().await.unwrap());
    assert!(page.text().await.contains("can be read on the way"), "what the link asks for is warned of");
    // A kind that there is not, and names that every object has, are not taken for one.
    page.driver.goto(format!("{}/places/new?kind=toString&root=%2Fsrv", office.url())).await.unwrap();
    assert!(page.find("//label[contains(., 'A folder')]/input").await.is_selected().await.unwrap());
    let places = office.json(&["place", "list"]);
    assert!(!places.to_string().contains("print-shop"), "{places}");
}
