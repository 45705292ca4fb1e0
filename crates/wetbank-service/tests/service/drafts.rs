//! Sections that are still being made: as text and as value, with every mistake, and nothing kept.

use reqwest::StatusCode;
use serde_json::{Value, json};

use super::{KEEP, Office, problem};

async fn draft(office: &Office, kind: &str, body: Value) -> Value {
    let (status, told) = office.post(&format!("/drafts/{kind}"), body).await;
    assert_eq!(status, StatusCode::OK, "{told}");
    told
}

fn pointers(draft: &Value) -> Vec<&str> {
    draft["mistakes"].as_array().unwrap().iter().map(|one| one["pointer"].as_str().unwrap()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_becomes_a_text_a_sentence_and_a_drawing() {
    let office = Office::with(KEEP).await;
    let value = json!({
        "title": "Each morning",
        "starts": { "schedule": { "at": "07:30" } },
        "finds": [ { "place": "office", "folder": "in" } ],
        "branch": [ { "steps": [ { "copy": { "to": "archive", "folder": "{{ today }}" } } ], "original": "delete" } ],
    });
    let told = draft(&office, "rule", json!({ "name": "morning", "value": value })).await;
    assert_eq!((&told["mistakes"], &told["name"], &told["value"]), (&json!([]), &json!("morning"), &value));
    assert_eq!(
        told["text"],
        "[rule.morning]\ntitle  = \"Each morning\"\nstarts = { schedule = { at = \"07:30\" } }\n\
         finds  = [ { place = \"office\", folder = \"in\" } ]\n\n[[rule.morning.branch]]\n\
         steps    = [ { copy = { to = \"archive\", folder = \"{{ today }}\" } } ]\noriginal = \"delete\"\n"
    );
    assert!(told["sentence"].as_str().unwrap().contains("07:30"), "{told}");
    assert_eq!(told["firings"].as_array().unwrap().len(), 10);
    let branch = &told["branches"][0];
    assert_eq!((&branch["steps"][0]["place"], &branch["original"]), (&json!("archive"), &json!("is deleted")));
    assert_eq!(office.get("/rules").await.1.as_array().unwrap().len(), 1, "nothing is kept");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_text_becomes_a_value_and_a_changed_value_leaves_the_rest_of_the_text() {
    let office = Office::with(KEEP).await;
    let text = "# Agreed by telephone.\n[place.harbour]\nkind     = \"sftp\"   # theirs\nhost     = \"sftp.skerrow.example\"\n\
                user     = \"merrow\"\npassword = { secret = \"harbour\" }\n";
    let told = draft(&office, "place", json!({ "text": text })).await;
    assert_eq!((&told["mistakes"], &told["text"]), (&json!([]), &json!(text)));
    let mut value = told["value"].clone();
    assert_eq!(value["password"], json!({ "secret": "harbour" }));
    value["port"] = json!(2222);
    value["user"] = Value::Null;
    let told = draft(&office, "place", json!({ "name": "harbour", "value": value, "old": text })).await;
    let expected = text.replace("user     = \"merrow\"\n", "port     = 2222\n");
    assert_eq!(told["text"], expected);
    assert_eq!(pointers(&told), [""], "{told}");
    assert!(told["mistakes"][0]["message"].as_str().unwrap().contains("\"user\""), "{told}");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_mistake_is_told_with_its_key_and_its_line() {
    let office = Office::with(KEEP).await;
    let text = "[rule.r]\nstarts = { arrival = { place = \"ofice\", settle = \"soon\" } }\n[[rule.r.branch]]\n\
                steps = [\n  { copy = { to = \"archive\", folder = \"{{ nmae }}\" } },\n  { cpy = {} },\n]\n";
    let told = draft(&office, "rule", json!({ "text": text })).await;
    let expected =
        ["/starts/arrival/place", "/starts/arrival/settle", "/branch/0/steps/0/copy/folder", "/branch/0/steps/1/cpy"];
    assert_eq!(pointers(&told), expected, "{told}");
    let lines: Vec<u64> =
        told["mistakes"].as_array().unwrap().iter().map(|one| one["line"].as_u64().unwrap()).collect();
    assert_eq!(lines, [2, 2, 5, 6]);
    let first = &told["mistakes"][0];
    assert_eq!((&first["written"], &first["nearest"]), (&json!("ofice"), &json!("office")));
    assert_eq!((&told["sentence"], &told["branches"]), (&Value::Null, &json!([])));
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_section_is_told_and_what_may_not_be_is_a_mistake() {
    let office = Office::with(KEEP).await;
    for (text, line, word) in [
        ("[rule.r]\ntitle = \"a\n", 2, "string"),
        ("", 1, "one section"),
        ("[rule.a]\n[rule.b]\n", 1, "one section"),
        ("[place.a]\n", 1, "one section"),
    ] {
        let told = draft(&office, "rule", json!({ "text": text })).await;
        let mistake = &told["mistakes"][0];
        assert_eq!((&told["name"], &mistake["line"]), (&json!(""), &json!(line)), "{told}");
        assert!(mistake["message"].as_str().unwrap().contains(word), "{told}");
    }
    let by_hand = json!({ "name": "by-hand", "value": { "starts": { "hand": {} }, "branch": [ { "steps": [ { "note": { "text": "x" } } ] } ] } });
    assert_eq!(pointers(&draft(&office, "rule", by_hand).await), [""]);
    let data = office.path("data").display().to_string();
    let own = json!({ "name": "own", "value": { "kind": "folder", "root": data } });
    let told = draft(&office, "place", own).await;
    assert!(told["mistakes"][0]["message"].as_str().unwrap().contains("choose another root"), "{told}");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_call_that_means_nothing_is_refused() {
    let office = Office::with(KEEP).await;
    for body in [json!({}), json!({ "name": "a" }), json!({ "text": "", "name": "a", "value": {} })] {
        problem(office.post("/drafts/rule", body).await, StatusCode::BAD_REQUEST, "bad-request");
    }
    let whole = json!({ "name": "a", "value": {} });
    problem(office.post("/drafts/pigeon", whole.clone()).await, StatusCode::NOT_FOUND, "not-found");
    assert!(!draft(&office, "rule", whole).await["mistakes"].as_array().unwrap().is_empty());
    let huge = json!({ "name": "a", "value": { "title": u64::MAX } });
    problem(office.post("/drafts/rule", huge).await, StatusCode::UNPROCESSABLE_ENTITY, "refused");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_tried_with_a_file_from_its_first_key_on() {
    let office = Office::with(KEEP).await;
    let sample = json!({ "file": "office:/in/levels-07.csv", "size": 12, "modified": "2026-03-14T06:00:00Z" });
    let steps = json!([ { "copy": { "to": "archve", "folder": "{{ file.modified | date('%Y') }}", "as": "{{ file.stem }}-{{ run.id }}" } } ]);
    let value = json!({ "zone": "Asia/Tokyo", "starts": { "arrival": { "place": "office", "folder": "in" } }, "branch": [ { "steps": steps } ] });
    let mut body = json!({ "name": "sheets", "value": value, "sample": sample });
    let told = draft(&office, "rule", body.clone()).await;
    assert_eq!(pointers(&told), ["/branch/0/steps/0/copy/to"]);
    let filled = |told: &Value| {
        let samples = told["samples"].as_array().unwrap().iter();
        samples.map(|one| (one["pointer"].clone(), one["text"].clone())).collect::<Vec<_>>()
    };
    let expected =
        [(json!("/branch/0/steps/0/copy/as"), Value::Null), (json!("/branch/0/steps/0/copy/folder"), json!("2026"))];
    let mut found = filled(&told);
    found.sort_by_key(|(pointer, _)| pointer.to_string());
    assert_eq!(found, expected, "{told}");
    assert_eq!(told["tried"], Value::Null, "a rule with a mistake takes nothing");
    let known = |told: &Value, word: &str| {
        told["known"].as_array().unwrap().iter().find(|one| one["word"] == word).map(|one| one["value"].clone())
    };
    assert_eq!(known(&told, "file.stem"), Some(json!("levels-07")));
    assert_eq!(known(&told, "run.id"), Some(Value::Null), "nobody knows it before");
    assert_eq!(known(&told, "mail.from"), None);
    body["value"]["branch"][0]["steps"][0]["copy"]["to"] = json!("archive");
    let told = draft(&office, "rule", body.clone()).await;
    assert_eq!((&told["mistakes"], &told["tried"]["taken"]), (&json!([]), &json!(true)), "{told}");
    body["sample"]["file"] = json!("office:/elsewhere/levels-07.csv");
    let told = draft(&office, "rule", body.clone()).await;
    assert_eq!(told["tried"]["taken"], false);
    assert!(told["tried"]["trigger"].to_string().contains("elsewhere"), "{told}");
    // Without a file what can be known is told all the same.
    body["sample"] = Value::Null;
    let told = draft(&office, "rule", body.clone()).await;
    assert_eq!((known(&told, "file.stem"), &told["samples"]), (Some(Value::Null), &json!([])));
    for (file, modified, words) in
        [("no place", "2026-03-14T06:00:00Z", "PLACE:/PATH"), ("office:/in/x", "soon", "no time")]
    {
        body["sample"] = json!({ "file": file, "size": 1, "modified": modified });
        let told = problem(office.post("/drafts/rule", body.clone()).await, StatusCode::BAD_REQUEST, "bad-request");
        assert!(told.contains(words), "{told}");
    }
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_of_what_is_no_rule_has_no_placeholders() {
    let office = Office::with(KEEP).await;
    let value = json!({ "kind": "folder", "root": "/srv/{{ today }}" });
    let told = draft(&office, "place", json!({ "name": "harbour", "value": value })).await;
    assert_eq!((&told["known"], &told["samples"], &told["tried"]), (&json!([]), &json!([]), &Value::Null));
    office.close().await;
}

/// Every key of these properties, each with a value that no key takes.
fn all_wrong(schema: &Value, of: &Value) -> serde_json::Map<String, Value> {
    let keys =
        of["properties"].as_object().into_iter().flatten().filter(|(_, property)| property.get("const").is_none());
    let wrong = |(key, property): (&String, &Value)| {
        let properties =
            [property, &schema["$defs"][property["$ref"].as_str().unwrap_or_default().trim_start_matches("#/$defs/")]];
        let is_table =
            properties.iter().any(|one| one.to_string().contains("properties") || one.to_string().contains("oneOf"));
        (key.clone(), if is_table { json!(-7) } else { json!({ "wrong": [-7] }) })
    };
    keys.map(wrong).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_with_every_field_wrong_has_a_mistake_at_every_field() {
    let office = Office::with(KEEP).await;
    let schema = serde_json::to_value(wetbank_core::book_schema()).unwrap();
    let (mut kinds, mut keys) = (0, 0);
    // A draft is looked through for a second at most, so that no machine is too slow for this: some kinds at a time.
    for some in schema["$defs"]["Step"]["oneOf"].as_array().unwrap().chunks(4) {
        kinds += some.len();
        keys += all_wrong_steps(&office, &schema, some).await;
    }
    assert!(kinds > 20 && keys > 100, "{keys} keys of {kinds} kinds of step");
    let mut value = all_wrong(&schema, &schema["$defs"]["Rule"]);
    value.remove("branch");
    let asked = value.keys().map(|key| format!("/{key}")).collect();
    value.insert("branch".to_owned(), json!([ { "title": [], "if": 7, "steps": [ { "delete": {} } ] } ]));
    has_a_mistake_at_each(&office, value, asked).await;
    office.close().await;
}

/// Asks for steps of these kinds with every field wrong. Answers how many fields that were.
async fn all_wrong_steps(office: &Office, schema: &Value, kinds: &[Value]) -> usize {
    let mut asked = Vec::new();
    let mut steps = Vec::new();
    for kind in kinds {
        let word = kind["required"][0].as_str().unwrap();
        let own = &kind["properties"][word];
        let name = own["$ref"].as_str().unwrap_or_default().trim_start_matches("#/$defs/").to_owned();
        let own = if name.is_empty() { own } else { &schema["$defs"][&name] };
        let fields = all_wrong(schema, own);
        asked.extend(fields.keys().map(|key| format!("/branch/0/steps/{}/{word}/{key}", steps.len())));
        steps.push(json!({ word: fields }));
    }
    let count = asked.len();
    let value = json!({ "starts": { "hand": {} }, "branch": [ { "steps": steps } ] });
    has_a_mistake_at_each(office, value.as_object().unwrap().clone(), asked).await;
    count
}

async fn has_a_mistake_at_each(office: &Office, value: serde_json::Map<String, Value>, asked: Vec<String>) {
    let began = std::time::Instant::now();
    let told = draft(office, "rule", json!({ "name": "wrong", "value": value })).await;
    let took = began.elapsed();
    let found = pointers(&told);
    let missed: Vec<_> =
        asked.iter().filter(|key| !found.iter().any(|one| one == key || one.starts_with(&format!("{key}/")))).collect();
    assert!(missed.is_empty(), "{} of {} in {took:?}: {missed:#?}", missed.len(), asked.len());
    for one in told["mistakes"].as_array().unwrap() {
        assert!(one["line"].as_u64().unwrap() > 0 && !one["message"].as_str().unwrap().is_empty(), "{one}");
    }
}
