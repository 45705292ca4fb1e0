//! What was done, as it is told: runs, items, holds, traces, explanations.

use std::fs;

use reqwest::StatusCode;
use serde_json::{Value, json};

use crate::{KEEP, Office, problem};

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_told_with_its_files_their_steps_and_sums() {
    let office = Office::with(KEEP).await;
    office.put("office/in/a.csv", "one reading");
    office.put("office/in/notes.txt", "not asked for");
    let run = office.run("keep").await;
    assert_eq!(
        (&run["state"], &run["cause"], &run["title"]),
        (&json!("done"), &json!("hand"), &json!("Keep readings"))
    );
    let items = run["items"].as_array().unwrap();
    let kinds: Vec<&Value> = items.iter().map(|item| &item["kind"]).collect();
    assert_eq!(kinds, ["find", "file"]);
    let attempt = &items[1]["attempts"][0];
    assert_eq!((&attempt["outcome"], &attempt["target"]), (&json!("done"), &json!("archive:/a.csv")));
    assert_eq!(attempt["sha256"].as_str().unwrap().len(), 64);
    assert_eq!((&items[1]["steps"][0]["kind"], &items[1]["steps"][0]["state"]), (&json!("copy"), &json!("done")));
    let (_, traces) = office.get("/trace?text=a.csv").await;
    assert_eq!(traces["items"][0]["hops"][0]["target"], "archive:/a.csv", "{traces}");
    let (_, by_sum) = office.get(&format!("/trace?text={}", &attempt["sha256"].as_str().unwrap()[..12])).await;
    assert_eq!(by_sum["items"][0]["file"], "office:/in/a.csv", "{by_sum}");
    problem(office.get("/runs/999").await, StatusCode::NOT_FOUND, "not-found");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_are_paged_and_filtered_and_a_word_that_there_is_not_is_refused() {
    let office = Office::with(KEEP).await;
    for number in 0..5 {
        office.put(&format!("office/in/{number}.csv"), "x");
        office.run("keep").await;
        fs::remove_file(office.path(&format!("office/in/{number}.csv"))).unwrap();
    }
    let (mut seen, mut before) = (Vec::new(), String::new());
    loop {
        let (_, page) = office.get(&format!("/runs?rule=keep&state=done&limit=2{before}")).await;
        seen.extend(page["runs"].as_array().unwrap().iter().map(|run| run["id"].as_i64().unwrap()));
        match page["next"].as_i64() {
            Some(next) => before = format!("&before={next}"),
            None => break,
        }
    }
    assert_eq!(seen.len(), 5, "{seen:?}");
    assert!(seen.is_sorted_by(|one, next| one > next), "newest first: {seen:?}");
    assert_eq!(office.get("/runs?state=held").await.1["runs"], json!([]));
    assert_eq!(office.get("/runs?rule=none").await.1["runs"], json!([]));
    let (_, rules) = office.get("/rules").await;
    assert_eq!(rules[0]["last"]["state"], "done");
    assert_eq!(rules[0]["days"].as_array().unwrap().len(), 14);
    assert_eq!(rules[0]["days"][13]["done"], 5, "{rules}");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_held_file_is_released_after_its_cause_is_gone_and_only_once() {
    let office = Office::with(KEEP).await;
    office.put("office/in/a.csv", "new");
    office.put("archive/a.csv", "other");
    let run = office.run("keep").await;
    assert_eq!(run["state"], "held", "{run}");
    let (_, holds) = office.get("/holds").await;
    let hold = &holds["holds"][0];
    assert_eq!((&hold["code"], &hold["step"], &hold["rule"]), (&json!("exists"), &json!("copy"), &json!("keep")));
    assert!(!hold["remedy"].as_str().unwrap().is_empty());
    assert_eq!(office.get("/status").await.1["held"], 1);
    fs::remove_file(office.path("archive/a.csv")).unwrap();
    let release = format!("/holds/{}/release", hold["item"]);
    assert_eq!(office.post(&release, json!({})).await.0, StatusCode::NO_CONTENT);
    let run = office.rested(run["id"].as_i64().unwrap()).await;
    assert_eq!(run["state"], "done", "{run}");
    assert_eq!(fs::read_to_string(office.path("archive/a.csv")).unwrap(), "new");
    assert_eq!(office.post(&release, json!({})).await.0, StatusCode::CONFLICT);
    assert_eq!(office.get("/holds").await.1["holds"], json!([]));
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_explanation_says_for_each_rule_what_was_compared_and_changes_nothing() {
    let sorted = "[rule.sort]\nstarts = { arrival = { place = \"office\", folder = \"in\", names = [\"*.csv\"] } }\n\
                  [[rule.sort.branch]]\ntitle = \"Large\"\nif = { file = \"size\", over = \"1 MB\" }\n\
                  steps = [ { copy = { to = \"archive\", folder = \"large\" } } ]\n\
                  [[rule.sort.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n";
    let office = Office::with(sorted).await;
    assert_eq!(office.post("/rules/sort/switch", json!({ "on": false })).await.0, StatusCode::NO_CONTENT);
    office.put("office/in/a.csv", "small");
    let (_, told) = office.get("/explain?file=office:/in/a.csv").await;
    let rule = &told["rules"][0];
    assert_eq!((&told["found"], &rule["taken"]), (&json!(true), &json!(true)), "{told}");
    let large = &rule["branches"][0]["verdict"];
    assert_eq!((&large["holds"], &large["found"]), (&json!(false), &json!("5 B")), "{large}");
    let (_, told) = office.get("/explain?file=office:/in/a.txt&rule=sort").await;
    assert_eq!((&told["found"], &told["rules"][0]["taken"]), (&json!(false), &json!(false)), "{told}");
    problem(office.get("/explain?file=nonsense").await, StatusCode::BAD_REQUEST, "bad-request");
    assert_eq!(office.get("/runs").await.1["runs"], json!([]));
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_that_is_off_or_not_there_is_not_run() {
    let office = Office::with(KEEP).await;
    problem(office.post("/rules/none/run", json!({})).await, StatusCode::NOT_FOUND, "not-found");
    let chosen = json!({ "file": "office:/in/none.csv" });
    problem(office.post("/rules/keep/run", chosen).await, StatusCode::NOT_FOUND, "not-found");
    let (_, rule) = office.get("/rules/keep").await;
    assert_eq!(rule["branches"][0]["steps"][0]["words"], "copy it to archive");
    assert_eq!(rule["branches"][0]["steps"][0]["rest"], "to archive");
    assert_eq!(rule["settle"], Value::Null);
    office.close().await;
}
