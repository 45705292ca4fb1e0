//! Every starter, answered, put in force and run.

use std::{collections::BTreeMap, fs, process::Command};

use reqwest::Client;
use serde_json::{Value, json};

use crate::support::{Office, PLACES, browser::Browser, names, wait_for};

/// These need a server for letters, or are started by another rule or system.
const ELSEWHERE: [&str; 5] = [
    "mail-what-is-saved",
    "tell-what-came",
    "take-out-attachments",
    "deliver-what-was-fetched",
    "when-a-system-says-so",
];

const MORE: &str = r#"
[partner.skerrow]
delivery = { to = "archive", folder = "deliver-to-a-partner" }

[database.survey]
kind = "sqlite"
file = "@/survey.db"
"#;

/// An office with all that starters ask for.
fn office() -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("archive")).unwrap();
    let file = office.path("survey.db").display().to_string();
    let table = "CREATE TABLE reading (gauge TEXT, level TEXT); INSERT INTO reading VALUES ('7', '1.9')";
    assert!(Command::new("sqlite3").args([&file, table]).status().unwrap().success());
    office.import_key("tide");
    assert!(office.wetbank_with(&["secret", "set", "tide"], "grey heron").status.success());
    office
}

/// Answers to a starter's questions: files come from a folder of its name and go to one of its name.
fn answers(starter: &Value) -> BTreeMap<String, String> {
    let name = starter["name"].as_str().unwrap();
    let mut answers = BTreeMap::new();
    for ask in starter["ask"].as_array().unwrap() {
        let key = ask["key"].as_str().unwrap();
        let answer = match ask["holds"].as_str().unwrap() {
            "folder" => {
                let place = if key == "from" { "office" } else { "archive" };
                answers.insert(format!("{key}.place"), place.to_owned());
                answers.insert(format!("{key}.folder"), name.to_owned());
                continue;
            }
            "place" => "office",
            "partner" => "skerrow",
            "database" => "survey",
            "secret-name" | "key" => "tide",
            _ => ask["usual"].as_str().unwrap(),
        };
        answers.insert(key.to_owned(), answer.to_owned());
    }
    answers
}

/// Puts what the starter is about where it looks.
fn put(office: &Office, starter: &str) {
    let folder = format!("office/{starter}");
    let content = b"gauge,level\n8,2.4\n";
    match starter {
        "decrypt-on-arrival" => {
            let plain = office.put("plain/levels.csv", content);
            let sealed = office.path("plain/levels.csv.pgp");
            let words = ["--batch", "--quiet", "--trust-model", "always", "-r", "office@merrow.example", "-o"];
            let gpg = Command::new("gpg")
                .arg("--homedir")
                .arg(office.path("gpg"))
                .args(words)
                .arg(&sealed)
                .arg("-e")
                .arg(&plain)
                .status();
            assert!(gpg.unwrap().success());
            office.put(&format!("{folder}/levels.csv.pgp"), &fs::read(sealed).unwrap());
        }
        "unpack-what-comes" => {
            let script = "import sys, zipfile\nzipfile.ZipFile(sys.argv[1], 'w').writestr('levels.csv', 'x')";
            let packed = office.path("packed.zip");
            assert!(Command::new("python3").args(["-c", script]).arg(&packed).status().unwrap().success());
            office.put(&format!("{folder}/packed.zip"), &fs::read(packed).unwrap());
        }
        "check-against-checksums" => {
            let file = office.put("sums/levels.csv", content);
            let sums =
                Command::new("sha256sum").arg("levels.csv").current_dir(file.parent().unwrap()).output().unwrap();
            office.put(&format!("{folder}/SHA256SUMS"), &sums.stdout);
            office.put(&format!("{folder}/levels.csv"), content);
        }
        _ => _ = office.put(&format!("{folder}/levels.csv"), content),
    }
}

/// Files in a folder and below it.
fn files(folder: &std::path::Path) -> Vec<String> {
    names(folder)
        .into_iter()
        .flat_map(|name| match folder.join(&name).is_dir() {
            true => files(&folder.join(&name)),
            false => vec![name],
        })
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn each_starter_becomes_a_rule_that_does_what_it_says() {
    let office = office();
    let http = Client::new();
    office.book(&format!("{PLACES}{MORE}"));
    let call = |path: String| format!("{}/api/v1{path}", office.url());
    let starters: Vec<Value> =
        http.get(call("/starters".to_owned())).bearer_auth(office.token()).send().await.unwrap().json().await.unwrap();
    assert!(starters.len() >= 24);
    let mut book = format!("{PLACES}{MORE}");
    for starter in &starters {
        let name = starter["name"].as_str().unwrap();
        let asked = http.post(call(format!("/starters/{name}"))).bearer_auth(office.token());
        let draft: Value =
            asked.json(&json!({ "answers": answers(starter) })).send().await.unwrap().json().await.unwrap();
        if ELSEWHERE.contains(&name) {
            // An office of folders has no mailbox; nothing else is wrong.
            let mistakes = draft["mistakes"].as_array().unwrap();
            assert!(mistakes.iter().all(|one| one["message"].as_str().unwrap().contains("mailbox")), "{name}: {draft}");
            continue;
        }
        assert_eq!(draft["mistakes"], json!([]), "{name}: {draft}");
        fs::create_dir_all(office.path(&format!("office/{name}"))).unwrap();
        book.push_str(draft["text"].as_str().unwrap());
    }
    office.book(&book);
    for starter in &starters {
        let name = starter["name"].as_str().unwrap();
        if ELSEWHERE.contains(&name) {
            continue;
        }
        put(&office, name);
        let rule = office.json(&["rule", "show", name]);
        if rule["text"].as_str().unwrap().contains("schedule = ") || rule["text"].as_str().unwrap().contains("hand = ")
        {
            let run = office.wetbank(&["rule", "run", name]);
            assert!(run.status.success(), "{name}: {}", String::from_utf8_lossy(&run.stderr));
        }
        if name == "load-into-a-table" {
            wait_for(name, || (!files(&office.path(&format!("office/{name}/loaded"))).is_empty()).then_some(()));
            continue;
        }
        wait_for(name, || (!files(&office.path(&format!("archive/{name}"))).is_empty()).then_some(()));
    }
    office.wait_idle();
    assert!(office.holds().is_empty(), "{:?}", office.holds());
    let came = |name: &str| files(&office.path(&format!("archive/{name}")));
    assert_eq!(came("encrypt-where-it-lies"), ["levels.csv.pgp"]);
    assert_eq!(came("encrypt-and-deliver"), ["levels.csv.pgp"]);
    assert_eq!(came("decrypt-on-arrival"), ["levels.csv"]);
    assert_eq!(came("unpack-what-comes"), ["levels.csv"]);
    assert_eq!(names(&office.path("archive/sort-by-name")), ["other"]);
    assert_eq!(names(&office.path("archive/sort-by-size")), ["small"]);
    assert!(came("pack-each-day")[0].ends_with(".zip"));
    assert!(files(&office.path("office/move-all-once")).is_empty());
    assert!(office.path("office/encrypt-and-deliver/sent/levels.csv").exists());
    let rows =
        Command::new("sqlite3").arg(office.path("survey.db")).arg("SELECT count(*) FROM reading").output().unwrap();
    assert_eq!(String::from_utf8_lossy(&rows.stdout).trim(), "2");
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_who_never_saw_a_rule_takes_a_starter_answers_and_puts_it_in_force() {
    let (office, browser) = (office(), Browser::open().await);
    fs::create_dir_all(office.path("office/desk")).unwrap();
    office.book(PLACES);
    browser.sign_in(&office).await;
    browser.go(&office, "/rules/new").await;
    browser.click("//section[@aria-label='Protect files']//a[contains(., 'Encrypt where files lie')]").await;
    browser.pick("Where do the files come? The place", "office").await;
    browser.press("Browse: Where do the files come?").await;
    browser.click("//dialog//button[contains(., 'desk')]").await;
    browser.click("//dialog//button[contains(., 'Take')]").await;
    browser.pick("Encrypted to whose key?", "tide").await;
    browser.pick("Where shall they go? The place", "archive").await;
    browser.press("Go on").await;
    browser.find("//p[contains(., 'When a file is complete in office › desk')]").await;
    // The page may be left and opened again: nothing is lost.
    browser.driver.refresh().await.unwrap();
    browser.press("Put in force").await;
    browser.find("//h1[text()='Encrypt where files lie, move the result on']").await;
    office.put("office/desk/draft.txt", b"levels");
    wait_for("the sealed one", || office.path("archive/draft.txt.pgp").exists().then_some(()));
    office.wait_idle();
    assert!(names(&office.path("office/desk")).is_empty());
}
