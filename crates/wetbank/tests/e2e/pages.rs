//! Every page of the console: what holds of all of them, and what each tells.

use std::{
    fs,
    time::{Duration, Instant},
};

use serde_json::Value;
use thirtyfour::{Key, cdp::domains::network::NetworkConditions, prelude::*};
use tokio_util::sync::CancellationToken;

use crate::support::{Office, browser::Browser, wait_for};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[place.archive]
kind = "folder"
root = "@/archive"

[partner.skerrow]
title = "Skerrow Harbour Office"
delivery = { to = "archive", folder = "skerrow" }

[account.skerrow-desk]
partner = "skerrow"
place = "office"
folder = "in"
may = "both"
password = true
until = "2099-12-31"

[rule.levels]
title = "Levels into the archive"
starts = { arrival = { place = "office", folder = "levels", names = ["*.csv"] } }
[[rule.levels.branch]]
steps = [ { copy = { to = "archive" } } ]

[rule.bulletins]
title = "Bulletins into the archive"
starts = { arrival = { place = "office", folder = "bulletins" } }
[[rule.bulletins.branch]]
steps = [ { copy = { to = "archive", folder = "bulletins" } } ]
"#;

/// Pages that there are in every office; the second word is what their heading begins with.
const PAGES: [(&str, &str); 29] = [
    ("/settings?tab=people", "Settings"),
    ("/settings?tab=audit", "Settings"),
    ("/settings?tab=you", "Settings"),
    ("/", "Nothing waits for you"),
    ("/rules", "Rules"),
    ("/rules/new", "New rule"),
    ("/rules/new?from=nothing", "New rule"),
    ("/rules/new?from=sort-by-name", "New rule"),
    ("/rules/levels", "Levels into the archive"),
    ("/rules/levels?tab=text", "Levels into the archive"),
    ("/rules/levels?tab=rehearse&days=30", "Levels into the archive"),
    ("/rules/levels?tab=changes", "Levels into the archive"),
    ("/explain?file=office:/levels/gauge-07.csv", "What would happen to it?"),
    ("/runs", "Runs"),
    ("/runs/1", "Levels into the archive"),
    ("/places", "Places"),
    ("/places/side-by-side", "Side by side"),
    ("/places/new", "Add a place"),
    ("/places/office", "office"),
    ("/partners", "Partners"),
    ("/partners/new", "Add a partner"),
    ("/partners/skerrow", "Skerrow Harbour Office"),
    ("/accounts/new?partner=skerrow", "Add an account"),
    ("/accounts/skerrow-desk", "skerrow-desk"),
    ("/settings", "Settings"),
    ("/settings/calendars/new", "Add a calendar"),
    ("/settings/databases/new", "Add a database"),
    ("/trace", "Trace"),
    ("/trace?text=gauge", "Trace gauge"),
];

fn office() -> Office {
    let office = Office::open();
    for folder in ["office/levels", "office/bulletins", "archive"] {
        fs::create_dir_all(office.path(folder)).unwrap();
    }
    office.book(BOOK);
    office
}

/// Puts a file in and waits for its run to end.
fn ran(office: &Office, folder: &str, name: &str) {
    let before = office.json(&["run", "list"])["runs"].as_array().unwrap().len();
    office.put(&format!("office/{folder}/{name}"), name.as_bytes());
    wait_for("the run ends", || {
        let runs = office.json(&["run", "list"]);
        let runs = runs["runs"].as_array().unwrap();
        (runs.len() > before && runs.iter().all(|run| run["state"] != "running")).then_some(())
    });
}

impl Browser {
    /// Opens a page and waits until it shows what it has.
    async fn page(&self, office: &Office, path: &str) {
        self.driver.goto(format!("{}{path}", office.url())).await.unwrap();
        self.find("//main").await;
        let loaded = "return !document.querySelector('main .animate-spin') && document.querySelector('main').innerText.length > 3;";
        self.until(loaded).await;
    }

    /// Waits until the page has these words.
    async fn shows(&self, words: &str) {
        self.until(&format!("return document.querySelector('main').innerText.includes({words:?});")).await;
    }

    /// Waits until a script of the page answers yes.
    pub async fn until(&self, script: &str) {
        let end = Instant::now() + Duration::from_secs(30);
        while self.asked(script).await != Value::Bool(true) {
            assert!(Instant::now() < end, "never: {script}\n{}", self.text().await);
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
    }

    /// What a script of the page answers.
    pub async fn asked(&self, script: &str) -> Value {
        self.driver.execute(script, Vec::new()).await.unwrap().json().clone()
    }

    async fn wide(&self, width: u32) {
        self.driver.set_window_rect(0, 0, width, 800).await.unwrap();
    }
}

/// What those who cannot see the page, or use no mouse, would miss.
const MISSING: &str = r"
const missing = [];
const told = (one) => one.outerHTML.slice(0, 120);
const named = (one) => one.getAttribute('aria-label') || one.getAttribute('title') || one.textContent.trim()
  || (one.getAttribute('aria-labelledby') || '').split(' ').some((id) => id && document.getElementById(id));
const headings = document.querySelectorAll('h1');
if (headings.length !== 1) missing.push(`${headings.length} headings of the page`);
if (!document.documentElement.lang) missing.push('its language');
if (!document.title) missing.push('its title');
for (const one of document.querySelectorAll('button, a[href], summary')) if (!named(one)) missing.push(`a name: ${told(one)}`);
for (const one of document.querySelectorAll('input, select, textarea'))
  if (!named(one) && !(one.labels && one.labels.length)) missing.push(`a label: ${told(one)}`);
for (const one of document.querySelectorAll('img')) if (!one.hasAttribute('alt')) missing.push(`words: ${told(one)}`);
for (const one of document.querySelectorAll('table')) if (!one.caption && !named(one)) missing.push(`a caption: ${told(one)}`);
const ids = [...document.querySelectorAll('[id]')].map((one) => one.id);
for (const id of ids) if (ids.indexOf(id) !== ids.lastIndexOf(id)) missing.push(`an id of its own: ${id}`);
for (const one of document.querySelectorAll('[tabindex]')) if (one.tabIndex > 0) missing.push(`its turn: ${told(one)}`);
return missing;
";

/// How far the page is wider than its window, and which element is to blame.
const TOO_WIDE: &str = r"
const room = document.documentElement.clientWidth;
if (document.documentElement.scrollWidth <= room) return null;
const wide = [...document.querySelectorAll('body *')].filter((one) => one.getBoundingClientRect().right > room + 1);
return wide.map((one) => one.outerHTML.slice(0, 100)).slice(-3);
";

/// What a checker of accessibility finds that is serious: everything in the one theme, colours in the other.
const SERIOUS: &str = r"
const done = arguments[arguments.length - 1];
const serious = (found) => found.violations
  .filter((one) => ['serious', 'critical'].includes(one.impact))
  .flatMap((one) => one.nodes.map((node) => `${one.id}: ${node.html.slice(0, 140)}: ${node.failureSummary.slice(0, 300)}`));
const check = async () => {
  const root = document.documentElement;
  const theme = root.dataset.theme;
  const found = serious(await axe.run(document, { resultTypes: ['violations'] }));
  root.dataset.theme = theme === 'lamplight' ? 'reedbed' : 'lamplight';
  // Colours change in a moment, not at once, and later where much is to be done.
  await new Promise((then) => setTimeout(then, 300));
  const changing = document.getAnimations().filter((one) => one instanceof CSSTransition);
  await Promise.all(changing.map((one) => one.finished.catch(() => null)));
  const colours = { runOnly: ['color-contrast'], resultTypes: ['violations'] };
  return [...found, ...serious(await axe.run(document, colours)).map((one) => `in ${root.dataset.theme}: ${one}`)];
};
check().then(done, (error) => done([String(error)]));
";

#[tokio::test(flavor = "multi_thread")]
async fn every_page_fits_its_window_and_nothing_serious_is_found_on_it_in_either_theme() {
    let (office, browser) = (office(), Browser::open().await);
    ran(&office, "levels", "gauge-04.csv");
    browser.sign_in(&office).await;
    let checker = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
    let checker = fs::read_to_string(checker).unwrap();
    let mut complaints = Vec::new();
    for width in [1280, 420] {
        browser.wide(width).await;
        for (path, heading) in PAGES {
            browser.page(&office, path).await;
            browser.find(&format!("//h1[starts-with(normalize-space(.), '{heading}')]")).await;
            browser.until("return document.querySelector('.animate-spin') === null;").await;
            let missing = browser.asked(MISSING).await;
            if missing != Value::Array(Vec::new()) {
                complaints.push(format!("{path} lacks {missing:#}"));
            }
            let wide = browser.asked(TOO_WIDE).await;
            if !wide.is_null() {
                complaints.push(format!("{path} is too wide at {width}: {wide:#}"));
            }
            if width == 1280 {
                browser.asked(&format!("{checker}; return null;")).await;
                let found = browser.driver.execute_async(SERIOUS, Vec::new()).await.unwrap();
                let found = found.json().as_array().unwrap();
                complaints.extend(found.iter().map(|one| format!("{path}: {one}")));
            }
        }
    }
    assert!(complaints.is_empty(), "{}", complaints.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_office_in_which_nothing_is_arranged_says_what_to_do_first() {
    let (office, browser) = (Office::open(), Browser::open().await);
    browser.sign_in(&office).await;
    for (path, words) in [
        ("/", "No rule is on yet"),
        ("/", "Connect where files come from"),
        ("/rules", "Choose from ready arrangements"),
        ("/runs", "Nothing ran yet"),
        ("/places", "place"),
        ("/partners", "partner"),
        ("/trace", "Which file?"),
        ("/nothing/here", "There is no such page"),
    ] {
        browser.page(&office, path).await;
        browser.shows(words).await;
        let text = browser.text().await;
        assert!(!text.contains("undefined") && !text.contains("NaN") && !text.contains("null"), "{path}: {text}");
    }
    for (path, name) in
        [("/rules/none", "none"), ("/runs/99", "99"), ("/places/none", "none"), ("/partners/none", "none")]
    {
        browser.page(&office, path).await;
        browser.shows("no ").await;
        browser.shows(name).await;
        browser.shows("See all ").await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_are_chosen_by_state_and_rule_and_the_address_keeps_the_choice() {
    let (office, browser) = (office(), Browser::open().await);
    fs::create_dir_all(office.path("archive/bulletins")).unwrap();
    fs::write(office.path("archive/bulletins/week-10.pdf"), b"another edition").unwrap();
    ran(&office, "levels", "gauge-04.csv");
    ran(&office, "bulletins", "week-10.pdf");
    browser.sign_in(&office).await;
    browser.page(&office, "/runs").await;
    browser.click("//fieldset[@aria-label='State']/button[text()='held']").await;
    browser.find("//td//*[contains(., 'week-10.pdf')]").await;
    browser.until("return !document.querySelector('main').innerText.includes('gauge-04.csv');").await;
    assert!(browser.driver.current_url().await.unwrap().as_str().ends_with("/runs?state=held"));
    browser.driver.refresh().await.unwrap();
    browser.find("//button[text()='held' and @aria-pressed='true']").await;
    browser.find("//td//*[contains(., 'the name is taken')]").await;
    browser.page(&office, "/runs?rule=levels").await;
    browser.shows("gauge-04.csv").await;
    assert!(!browser.text().await.contains("week-10.pdf"));
    browser.click("//fieldset[@aria-label='State']/button[text()='held']").await;
    browser.find("//*[text()='No run is like that']").await;
    browser.click("//button[contains(., 'only levels')]").await;
    browser.find("//td//*[contains(., 'week-10.pdf')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn older_runs_come_when_they_are_asked_for_however_much_happens_meanwhile() {
    let office = office();
    assert!(office.wetbank(&["rule", "off", "levels"]).status.success());
    for number in 0..120 {
        office.put(&format!("office/levels/gauge-{number:03}.csv"), b"level");
    }
    assert!(office.wetbank(&["rule", "on", "levels"]).status.success());
    wait_for("all of them", || (fs::read_dir(office.path("archive")).unwrap().count() == 120).then_some(()));
    let browser = Browser::open().await;
    browser.sign_in(&office).await;
    browser.page(&office, "/runs").await;
    browser.until("return document.querySelectorAll('tbody tr').length === 50;").await;
    let more = CancellationToken::new();
    let (into, until) = (office.path("office/levels"), more.clone());
    let busy = tokio::spawn(async move {
        for number in 0.. {
            if until.run_until_cancelled(tokio::time::sleep(Duration::from_millis(40))).await.is_none() {
                return;
            }
            fs::write(into.join(format!("new-{number}.csv")), b"level").unwrap();
        }
    });
    browser.find("//td//*[contains(., 'new-3.csv')]").await;
    // Each answer takes longer than there is peace between two events.
    let tools = browser.driver.cdp();
    let network = tools.network();
    network.enable().await.unwrap();
    network
        .emulate_network_conditions(NetworkConditions { latency: 700, ..NetworkConditions::default() })
        .await
        .unwrap();
    for pages in [2, 3] {
        browser.click("//button[text()='Older runs']").await;
        browser.until(&format!("return document.querySelectorAll('tbody tr').length === {};", pages * 50)).await;
    }
    more.cancel();
    busy.await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn several_rules_are_switched_at_once() {
    let (office, browser) = (office(), Browser::open().await);
    browser.sign_in(&office).await;
    browser.page(&office, "/rules").await;
    for title in ["Levels into the archive", "Bulletins into the archive"] {
        browser.click(&format!("//input[@aria-label='Choose {title}']")).await;
    }
    browser.find("//span[normalize-space()='2 chosen']").await;
    browser.click("//button[text()='Switch off']").await;
    browser.find("//*[starts-with(normalize-space(), '0 on, 2 off')]").await;
    let on = |rule: &str| office.json(&["rule", "show", rule])["on"].clone();
    assert_eq!((on("levels"), on("bulletins")), (Value::Bool(false), Value::Bool(false)));
    office.put("office/levels/gauge-04.csv", b"level");
    browser.click("//input[@aria-label='Choose Levels into the archive']").await;
    browser.click("//button[text()='Switch on']").await;
    // What came while it was off is taken when it is on.
    wait_for("the file", || office.path("archive/gauge-04.csv").exists().then_some(()));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_that_goes_and_comes_back_is_told_while_one_looks() {
    let (office, browser) = (office(), Browser::open().await);
    browser.sign_in(&office).await;
    browser.find("//h1[text()='Nothing waits for you']").await;
    fs::rename(office.path("office"), office.path("elsewhere")).unwrap();
    browser.find("//h1[text()='One place is not reachable']").await;
    browser.find("//aside//*[contains(., '✕')]").await;
    fs::rename(office.path("elsewhere"), office.path("office")).unwrap();
    browser.find("//h1[text()='Nothing waits for you']").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_is_away_is_told_and_the_page_goes_on_when_it_is_back() {
    let (mut office, browser) = (office(), Browser::open().await);
    office.keep_address();
    browser.sign_in(&office).await;
    browser.page(&office, "/").await;
    office.stop();
    browser.find("//output[contains(., 'The service does not answer')]").await;
    // What was shown stays to be read.
    browser.find("//h1[text()='Nothing waits for you']").await;
    fs::create_dir_all(office.path("archive/bulletins")).unwrap();
    fs::write(office.path("archive/bulletins/week-10.pdf"), b"another edition").unwrap();
    office.put("office/bulletins/week-10.pdf", b"this edition");
    office.start();
    browser.find("//h1[text()='One file waits for you']").await;
    browser.until("return !document.body.innerText.includes('does not answer');").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_traced_from_the_keyboard() {
    let (office, browser) = (office(), Browser::open().await);
    ran(&office, "levels", "gauge-04.csv");
    browser.sign_in(&office).await;
    browser.page(&office, "/").await;
    let type_in = |words: String| async move {
        let body = browser.driver.find(By::Tag("body")).await.unwrap();
        body.send_keys("/").await.unwrap();
        let field = browser.driver.active_element().await.unwrap();
        assert_eq!(field.attr("aria-label").await.unwrap().as_deref(), Some("Trace a file"));
        field.clear().await.unwrap();
        field.send_keys(words + Key::Enter).await.unwrap();
        browser
    };
    let browser = type_in("gauge".to_owned()).await;
    browser.find("//article//a[contains(., 'gauge-04.csv')]").await;
    let text = browser.text().await;
    assert!(text.contains("copy") && text.contains("Levels into the archive"), "{text}");
    let sum = office.json(&["trace", "gauge-04.csv"])["items"][0].to_string();
    let digest = sum.split(|c: char| !c.is_ascii_hexdigit()).find(|word| word.len() == 64).unwrap().to_owned();
    browser.driver.goto(format!("{}/trace?text={}", office.url(), &digest[..12])).await.unwrap();
    browser.find("//article//a[contains(., 'gauge-04.csv')]").await;
    browser.driver.goto(format!("{}/trace?text=no-such-file", office.url())).await.unwrap();
    browser.find("//*[text()='No such file was ever taken']").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_theme_that_was_chosen_stays() {
    let (office, browser) = (office(), Browser::open().await);
    browser.sign_in(&office).await;
    let theme = "return document.documentElement.dataset.theme;";
    let paper = "return getComputedStyle(document.body).backgroundColor;";
    let (before, light) = (browser.asked(theme).await, browser.asked(paper).await);
    browser.click("//button[starts-with(@aria-label, 'Change to the')]").await;
    let after = browser.asked(theme).await;
    assert_ne!(before, after);
    browser.page(&office, "/runs").await;
    assert_eq!(browser.asked(theme).await, after);
    assert_ne!(browser.asked(paper).await, light);
}

#[tokio::test(flavor = "multi_thread")]
async fn hostile_and_long_names_are_text_and_break_no_page() {
    let (office, browser) = (office(), Browser::open().await);
    let script = "<img src=x onerror=document.title='taken'>.csv";
    let long = format!("{}.csv", "profile-of-the-estuary-".repeat(10));
    let turned = "gauge-\u{202e}vsc.exe.csv";
    for name in [script, &long, turned, "{{ file.name }}.csv"] {
        ran(&office, "levels", name);
    }
    browser.sign_in(&office).await;
    for width in [1280, 420] {
        browser.wide(width).await;
        for path in ["/", "/runs", "/runs/1", "/runs/2", "/runs/3", "/trace?text=csv", "/places/office"] {
            browser.page(&office, path).await;
            assert_eq!(browser.asked("return document.querySelectorAll('main img').length;").await, 0, "{path}");
            assert_ne!(browser.asked("return document.title;").await, "taken", "{path}");
            assert_eq!(browser.asked(TOO_WIDE).await, Value::Null, "{path} at {width}");
        }
    }
    browser.page(&office, "/runs/1").await;
    browser.shows(script).await;
}
