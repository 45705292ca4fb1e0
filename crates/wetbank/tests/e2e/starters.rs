//! Every starter, answered, put in force and run.

use std::{collections::BTreeMap, fs, process::Command};

use reqwest::Client;
use serde_json::{Value, json};

use wetbank_testbed::{MAIL_ADDRESS, MAIL_USER, PostOffice};

use crate::{
    signals::signal_by,
    support::{Office, PLACES, browser::Browser, names, servers::mailbox, wait_for},
};

/// These need a server for letters, or are started by another rule or system: they are run by themselves.
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

const LETTER: &str = "From: desk@lindmoor.example\r\nTo: office@merrow.example\r\nSubject: Sheets\r\n\
    Date: Sat, 14 Mar 2026 06:00:00 +0000\r\nMessage-ID: <1@lindmoor.example>\r\n\
    Content-Type: multipart/mixed; boundary=b1\r\n\r\n--b1\r\n\r\nSee below.\r\n--b1\r\n\
    Content-Disposition: attachment; filename=\"assay.csv\"\r\n\r\none\r\n--b1--\r\n";

#[tokio::test(flavor = "multi_thread")]
async fn starters_for_letters_other_rules_and_signals_do_what_they_say_too() {
    let (office, post) = (office(), PostOffice::start());
    assert!(office.wetbank_with(&["secret", "set", "post"], MAIL_USER.1).status.success());
    let known = format!("{PLACES}{MORE}{}", mailbox("post", &post));
    office.book(&known);
    let http = Client::new();
    let call = |path: String| format!("{}/api/v1{path}", office.url());
    let asked = http.get(call("/starters".to_owned())).bearer_auth(office.token()).send().await.unwrap();
    let starters: Vec<Value> = asked.json().await.unwrap();
    let mut book = known.clone();
    for name in ELSEWHERE {
        let starter = starters.iter().find(|starter| starter["name"] == name).unwrap();
        let mut answers = answers(starter);
        for (key, answer) in [("by", "post"), ("mailbox", "post"), ("source", "archive")] {
            answers.entry(key.to_owned()).and_modify(|now| *now = answer.to_owned());
        }
        let asked = http.post(call(format!("/starters/{name}"))).bearer_auth(office.token());
        let draft: Value = asked.json(&json!({ "answers": answers })).send().await.unwrap().json().await.unwrap();
        assert_eq!(draft["mistakes"], json!([]), "{name}: {draft}");
        book.push_str(draft["text"].as_str().unwrap());
        fs::create_dir_all(office.path(&format!("office/{name}"))).unwrap();
    }
    // Another rule fetches something, so that there is something to hand on.
    book.push_str(
        "[rule.fetch]\nstarts = { hand = {} }\nfinds = [ { place = \"archive\", folder = \"theirs\" } ]\n\
         [[rule.fetch.branch]]\nsteps = [ { fetch = { to = \"office\", folder = \"fetched\" } } ]\n",
    );
    office.book(&book);
    office.put("office/mail-what-is-saved/week11.pdf", b"pages");
    assert!(post.wait_sent(1)[0].contains("week11.pdf"));
    office.put("office/tell-what-came/new.csv", b"1");
    assert!(office.wetbank(&["rule", "run", "tell-what-came"]).status.success());
    assert!(post.wait_sent(2).iter().any(|mail| mail.contains("1 new files") && mail.contains("new.csv")));
    post.bring("sheets", LETTER.replace("office@merrow.example", MAIL_ADDRESS).as_bytes());
    let taken_out = office.path("archive/take-out-attachments/assay.csv");
    wait_for("what was attached", || fs::read(&taken_out).ok());
    wait_for("the letter to be filed", || (post.folder("Done").len() == 1).then_some(()));
    office.put("archive/theirs/levels.csv", b"1.9");
    assert!(office.wetbank(&["rule", "run", "fetch"]).status.success());
    wait_for("what was fetched at the partner", || {
        fs::read(office.path("archive/deliver-to-a-partner/levels.csv")).ok()
    });
    office.put("office/when-a-system-says-so/tile.xyz", b"1 2 3");
    let (status, said) = signal_by(&office, "grey heron", "when-a-system-says-so", r#"{ "item": "B12" }"#);
    assert_eq!(status, 202, "{said}");
    let tile = office.path("archive/when-a-system-says-so/B12/tile.xyz");
    wait_for("the item's file", || fs::read(&tile).ok());
    office.wait_idle();
    assert!(office.holds().is_empty(), "{:?}", office.holds());
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
