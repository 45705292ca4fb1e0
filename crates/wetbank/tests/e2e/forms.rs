//! Everything that the book's schema knows has its field in the console's forms.

use std::collections::BTreeSet;

use serde_json::{Map, Value, json};

use crate::support::{Office, browser::Browser};

const BOOK: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n";

/// A part of the schema behind its references and what may be left out.
fn meant<'a>(schema: &'a Value, mut part: &'a Value) -> &'a Value {
    loop {
        let inner = part["anyOf"].as_array().and_then(|any| any.iter().find(|one| one["type"] != "null"));
        part = match (part["$ref"].as_str(), inner) {
            (Some(name), _) => schema.pointer(name.trim_start_matches('#')).unwrap(),
            (None, Some(inner)) if part["anyOf"].as_array().unwrap().iter().any(|one| one["type"] == "null") => inner,
            _ => return part,
        };
    }
}

/// The titles of the keys of a table.
fn titles(schema: &Value, table: &Value) -> BTreeSet<String> {
    let keys = meant(schema, table)["properties"].as_object();
    keys.into_iter().flatten().map(|(_, key)| key).filter_map(|key| key["title"].as_str()).map(str::to_owned).collect()
}

/// What the part of the page that is open calls its fields, with all that was folded or left out.
const SHOWN: &str = "
    const panel = document.querySelector('.fields');
    for (const more of panel.querySelectorAll('details')) more.open = true;
    return [...panel.querySelectorAll('label, legend')].map((one) => one.textContent.replace(/ needed$/, '').trim());
";

/// Adds what may be left out, until nothing more can be added.
const UNFOLDED: &str = "
    const form = document.querySelector('.fields');
    for (const more of form.querySelectorAll('details')) more.open = true;
    const adds = [...form.querySelectorAll('button[aria-label^=\"Add: \"], button[aria-label^=\"Add to \"]')].filter((one) => !one.dataset.done);
    for (const add of adds) { add.dataset.done = 'yes'; add.click(); }
    return adds.length === 0;
";

impl Browser {
    async fn shows_fields(&self, of: &str, wanted: &BTreeSet<String>) {
        let shown: Vec<String> = serde_json::from_value(self.asked(SHOWN).await).unwrap();
        let missing: Vec<_> = wanted.iter().filter(|title| !shown.contains(title)).collect();
        assert!(missing.is_empty(), "no field for {missing:?} of {of}; there are {shown:?}");
    }

    /// Puts a draft where the browser keeps it.
    async fn keep_draft(&self, kind: &str, value: Value) {
        let draft = json!({ "name": "everything", "value": value, "base": "" }).to_string();
        let words = "localStorage.setItem(`wetbank draft ${arguments[0]} `, arguments[1])";
        self.driver.execute(words, vec![kind.into(), draft.into()]).await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_key_of_a_rule_has_its_field_in_the_builder() {
    let (office, browser) = (Office::open(), Browser::open().await);
    office.book(BOOK);
    let told = reqwest::get(format!("{}/api/v1/book/schema", office.url())).await.unwrap();
    let schema: Value = told.json().await.unwrap();
    let defs = &schema["$defs"];
    let starts = defs["Starts"]["properties"].as_object().unwrap();
    let kinds: Vec<&Value> = defs["Step"]["oneOf"].as_array().unwrap().iter().collect();
    let steps: Vec<Value> =
        kinds.iter().map(|kind| json!({ kind["required"][0].as_str().unwrap(): {}, "retry": {} })).collect();
    let value = json!({
        "starts": starts.keys().map(|key| (key.clone(), json!({}))).collect::<Map<_, _>>(),
        "finds": [ {} ],
        "retry": {},
        "branch": [ { "steps": steps } ],
    });
    browser.sign_in(&office).await;
    browser.keep_draft("rule", value).await;
    browser.go(&office, "/rules/new?from=draft").await;
    browser.press("Title, time zone and other settings").await;
    let mut rule = titles(&schema, &defs["Rule"]);
    rule.extend(titles(&schema, &defs["Retry"]));
    for elsewhere in ["Starts", "Finds", "Branches"] {
        assert!(rule.remove(elsewhere));
    }
    browser.find("//h2[text()='The rule itself']").await;
    browser.shows_fields("a rule", &rule).await;
    browser.press("What starts it").await;
    browser.find("//h2[text()='What starts it']").await;
    for (key, start) in starts {
        browser.shows_fields(key, &titles(&schema, start)).await;
    }
    browser.press("Which files it looks for").await;
    browser.find("//h2[text()='Which files it looks for']").await;
    browser.shows_fields("a search", &titles(&schema, &defs["Find"])).await;
    let mut every = titles(&schema, &defs["Retry"]);
    for (at, kind) in kinds.iter().enumerate() {
        let (key, title) = (kind["required"][0].as_str().unwrap(), kind["title"].as_str().unwrap());
        let mut own = kind["properties"].as_object().unwrap().clone();
        let said = own.remove(key).unwrap();
        every.extend(own.values().map(|key| key["title"].as_str().unwrap().to_owned()));
        browser.click(&format!("//button[starts-with(normalize-space(.), 'Branch 1, step {}:')]", at + 1)).await;
        browser.find(&format!("//h2[contains(., 'step {} of {} › {title}')]", at + 1, kinds.len())).await;
        browser.shows_fields(title, &titles(&schema, &said)).await;
        browser.shows_fields(title, &every).await;
    }
    browser.press("Branch: 1 ").await;
    browser.find("//h2[text()='Branch 1 of 1']").await;
    browser.shows_fields("a branch", &["Title".to_owned(), "If".to_owned()].into()).await;
    browser.press("Add a test to If").await;
    let tests = "return [...document.querySelectorAll('section.panel select')].flatMap((one) => [...one.options].map((option) => option.value))";
    let offered: Vec<String> = serde_json::from_value(browser.asked(tests).await).unwrap();
    let mut keys: BTreeSet<&str> =
        defs["Condition"]["properties"].as_object().unwrap().keys().map(String::as_str).collect();
    for other in ["all", "any", "none", "case"] {
        assert!(keys.remove(other));
    }
    let missing: Vec<_> = keys.into_iter().filter(|key| !offered.iter().any(|one| one == key)).collect();
    assert!(missing.is_empty(), "no test can be made with {missing:?}");
}

/// The titles of a table, and of all tables in it.
fn all_titles(schema: &Value, table: &Value) -> BTreeSet<String> {
    let mut found = titles(schema, table);
    for part in meant(schema, table)["properties"].as_object().into_iter().flatten().map(|(_, part)| part) {
        let shape = meant(schema, part);
        let inner = if shape["items"].is_object() { &shape["items"] } else { shape };
        if meant(schema, inner)["holds"].is_null() && meant(schema, inner)["properties"].is_object() {
            found.extend(all_titles(schema, inner));
        }
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn every_key_of_the_other_sections_has_its_field() {
    let (office, browser) = (Office::open(), Browser::open().await);
    office.book(BOOK);
    let told = reqwest::get(format!("{}/api/v1/book/schema", office.url())).await.unwrap();
    let schema: Value = told.json().await.unwrap();
    let defs = &schema["$defs"];
    let places = [
        "kind = \"folder\"\nroot = \"/srv\"",
        "kind = \"sftp\"\nhost = \"127.0.0.1\"\nport = 9\nuser = \"u\"\npassword = { secret = \"s\" }",
        "kind = \"ftp\"\nhost = \"127.0.0.1\"\nport = 9\nuser = \"u\"\npassword = { secret = \"s\" }",
        "kind = \"share\"\nhost = \"127.0.0.1\"\nport = 9\nshare = \"s\"\nuser = \"u\"\npassword = { secret = \"s\" }",
        "kind = \"webdav\"\nurl = \"https://127.0.0.1:9/\"",
        "kind = \"bucket\"\nurl = \"https://127.0.0.1:9/\"\nbucket = \"b\"",
        "kind = \"mailbox\"\nhost = \"127.0.0.1\"\nuser = \"u\"\npassword = { secret = \"s\" }",
        "kind = \"web\"\nurl = \"https://127.0.0.1:9/\"\nfiles = [\"a.csv\"]",
    ];
    let kinds = defs["Place"]["oneOf"].as_array().unwrap();
    let kind_of = |variant: &Value| variant["properties"]["kind"]["const"].as_str().unwrap().to_owned();
    let mut book = "[database.sqlite]\nkind = \"sqlite\"\nfile = \"/srv/x.db\"\n\
        [database.postgres]\nkind = \"postgres\"\nhost = \"127.0.0.1:9\"\ndatabase = \"d\"\nuser = \"u\"\n"
        .to_owned();
    for keys in places {
        let kind = keys.split('"').nth(1).unwrap();
        assert!(kinds.iter().any(|variant| kind_of(variant) == kind), "{kind}");
        book.push_str(&format!("[place.a-{kind}]\n{keys}\n"));
    }
    office.book(&book);
    browser.sign_in(&office).await;
    let mut pages = vec![
        ("/partners/new".to_owned(), &defs["Partner"]),
        ("/settings/calendars/new".to_owned(), &defs["Calendar"]),
        ("/twins/new".to_owned(), &defs["Twin"]),
        ("/accounts/new".to_owned(), &defs["Account"]),
    ];
    pages.extend(kinds.iter().map(|variant| (format!("/places/a-{}", kind_of(variant)), variant)));
    let databases = defs["Database"]["oneOf"].as_array().unwrap();
    pages.extend(databases.iter().map(|variant| (format!("/settings/databases/{}", kind_of(variant)), variant)));
    for (page, table) in pages {
        let mut wanted = all_titles(&schema, table);
        // What is of one kind stays of it.
        wanted.remove("Kind");
        browser.go(&office, &page).await;
        browser.find("//div[contains(@class, 'fields')]//label").await;
        browser.until(UNFOLDED).await;
        browser.shows_fields(&page, &wanted).await;
    }
}
