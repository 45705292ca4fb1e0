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
    const panel = document.querySelector('section.panel');
    for (const more of panel.querySelectorAll('details')) more.open = true;
    return [...panel.querySelectorAll('label, legend')].map((one) => one.textContent.replace(/ needed$/, '').trim());
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
    browser.go(&office, "/rules/new").await;
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
        browser.click(&format!("//button[starts-with(@aria-label, 'Branch 1, step {}:')]", at + 1)).await;
        browser.find(&format!("//h2[contains(., 'step {} of {} › {title}')]", at + 1, kinds.len())).await;
        browser.shows_fields(title, &titles(&schema, &said)).await;
        browser.shows_fields(title, &every).await;
    }
    browser.press("Branch 1: without a title").await;
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
