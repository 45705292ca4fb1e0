//! Who may call what: every call of the API's description, as everybody who might try.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Office, people::Colleague};

/// Who a call lets in.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum Least {
    Anybody,
    Viewer,
    Operator,
    Manager,
    Owner,
    /// Whoever may read the data folder, and no user.
    Machine,
}
use Least::{Anybody, Machine, Manager, Operator, Owner, Viewer};

/// Every call. One that is new fails until it has its line.
const CALLS: [(&str, &str, Least); 109] = [
    ("GET", "/accounts", Viewer),
    ("GET", "/accounts/{name}", Viewer),
    ("PUT", "/accounts/{name}/password", Manager),
    ("DELETE", "/accounts/{name}/password", Manager),
    ("GET", "/arrivals", Viewer),
    ("GET", "/arrivals/kept", Viewer),
    ("PUT", "/arrivals/kept", Owner),
    ("GET", "/audit", Manager),
    ("GET", "/book", Viewer),
    ("POST", "/book/apply", Manager),
    ("POST", "/book/check", Manager),
    ("POST", "/book/diff", Manager),
    ("GET", "/book/schema", Anybody),
    ("POST", "/book/test", Manager),
    ("DELETE", "/book/{kind}/{name}", Manager),
    ("GET", "/book/{kind}/{name}", Viewer),
    ("PUT", "/book/{kind}/{name}", Manager),
    ("POST", "/book/{kind}/{name}/undo", Manager),
    ("POST", "/by-hand", Operator),
    ("GET", "/calendars", Viewer),
    ("POST", "/calendars/{name}/days-off", Manager),
    ("GET", "/databases", Viewer),
    ("POST", "/databases/{name}/test", Operator),
    ("POST", "/drafts/{kind}", Viewer),
    ("GET", "/events", Viewer),
    ("GET", "/exchanges", Viewer),
    ("GET", "/explain", Viewer),
    ("GET", "/holds", Viewer),
    ("POST", "/holds/{item}/dismiss", Operator),
    ("POST", "/holds/{item}/release", Operator),
    ("GET", "/keys", Viewer),
    ("DELETE", "/keys/{name}", Manager),
    ("GET", "/keys/{name}", Viewer),
    ("PUT", "/keys/{name}", Manager),
    ("POST", "/links", Machine),
    ("POST", "/links/look", Anybody),
    ("PUT", "/me/password", Viewer),
    ("GET", "/me/passkeys", Viewer),
    ("POST", "/me/passkeys", Viewer),
    ("POST", "/me/passkeys/new", Viewer),
    ("DELETE", "/me/passkeys/{id}", Viewer),
    ("DELETE", "/me/provider", Viewer),
    ("POST", "/me/second-factor/new", Viewer),
    ("DELETE", "/me/second-factor", Viewer),
    ("PUT", "/me/second-factor", Viewer),
    ("GET", "/notices", Viewer),
    ("POST", "/notices/{id}/retry", Operator),
    ("GET", "/partners", Viewer),
    ("GET", "/places", Viewer),
    ("POST", "/places", Manager),
    ("POST", "/places/try", Manager),
    ("GET", "/places/{name}/browse", Viewer),
    ("GET", "/places/{name}/day", Viewer),
    ("POST", "/places/{name}/folders", Operator),
    ("GET", "/places/{name}/sign-in", Viewer),
    ("POST", "/places/{name}/sign-in", Manager),
    ("POST", "/places/{name}/test", Operator),
    ("DELETE", "/provider", Owner),
    ("GET", "/provider", Owner),
    ("PUT", "/provider", Owner),
    ("POST", "/rehearsals", Operator),
    ("GET", "/removed/{kind}", Viewer),
    ("PUT", "/rule-order", Manager),
    ("GET", "/rules", Viewer),
    ("GET", "/rules/{name}", Viewer),
    ("POST", "/rules/{name}/run", Operator),
    ("POST", "/rules/{name}/switch", Manager),
    ("GET", "/reception", Viewer),
    ("POST", "/reception/host-keys", Owner),
    ("POST", "/reception/host-keys/change", Owner),
    ("GET", "/runs", Viewer),
    ("GET", "/runs/{id}", Viewer),
    ("POST", "/runs/{id}/retry", Operator),
    ("POST", "/runs/{id}/stop", Operator),
    ("GET", "/secrets", Viewer),
    ("DELETE", "/secrets/{name}", Manager),
    ("PUT", "/secrets/{name}", Manager),
    // Whom it ends is asked for last.
    ("POST", "/session", Anybody),
    ("GET", "/session", Viewer),
    ("POST", "/session/link", Anybody),
    ("POST", "/session/passkey", Anybody),
    ("POST", "/session/passkey/new", Anybody),
    ("POST", "/session/provider/new", Anybody),
    ("GET", "/sessions", Viewer),
    ("DELETE", "/sessions/{id}", Viewer),
    ("GET", "/sign-in-ways", Anybody),
    ("GET", "/starters", Viewer),
    ("POST", "/starters/{name}", Manager),
    ("GET", "/status", Viewer),
    ("GET", "/tokens", Viewer),
    ("POST", "/tokens", Viewer),
    ("DELETE", "/tokens/{name}", Viewer),
    ("GET", "/trace", Viewer),
    ("GET", "/twins", Viewer),
    ("GET", "/twins/{name}", Viewer),
    ("POST", "/twins/{name}/compare", Viewer),
    ("GET", "/twins/{name}/kept", Viewer),
    ("POST", "/twins/{name}/restore", Operator),
    ("POST", "/twins/{name}/run", Operator),
    ("POST", "/twins/{name}/switch", Manager),
    ("GET", "/twins/{name}/texts", Viewer),
    ("GET", "/users", Owner),
    ("DELETE", "/users/{name}", Owner),
    ("PUT", "/users/{name}", Owner),
    ("POST", "/users/{name}/link", Owner),
    ("DELETE", "/users/{name}/proofs", Owner),
    ("GET", "/visits", Viewer),
    ("DELETE", "/visits/{id}", Operator),
    ("DELETE", "/session", Viewer),
];

fn filled(path: &str) -> String {
    let gaps = [("{name}", "nobody"), ("{id}", "999999"), ("{item}", "999999"), ("{kind}", "rule")];
    gaps.iter().fold(path.to_owned(), |path, (gap, value)| path.replace(gap, value))
}

/// A call with a body that no call takes: whoever may not come is told so first.
async fn try_it(who: &Colleague, bearer: Option<&str>, method: &str, path: &str) -> (u16, String) {
    let method: Method = method.parse().unwrap();
    let url = format!("{}{}", who.api(), filled(path));
    let mut request = who.http.request(method, url).header("content-type", "application/json").body("[7]");
    match bearer {
        Some(bearer) => request = request.bearer_auth(bearer),
        None if !who.cookie.is_empty() => request = request.header("cookie", &who.cookie),
        None => {}
    }
    let answer = request.send().await.unwrap();
    let (status, is_stream) = (answer.status().as_u16(), path == "/events" && answer.status() == 200);
    let problem: Value = match is_stream {
        true => Value::Null,
        false => serde_json::from_slice(&answer.bytes().await.unwrap()).unwrap_or_default(),
    };
    (status, problem["code"].as_str().unwrap_or_default().to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn every_call_lets_in_whom_it_should_and_nobody_else() {
    let office = Office::open();
    let stranger = office.stranger();
    let document: Value =
        stranger.http.get(format!("{}/openapi.json", stranger.api())).send().await.unwrap().json().await.unwrap();
    let mut described: Vec<(String, String)> = document["paths"]
        .as_object()
        .unwrap()
        .iter()
        .flat_map(|(path, calls)| {
            let path = path.strip_prefix("/api/v1").unwrap().to_owned();
            calls
                .as_object()
                .unwrap()
                .keys()
                .map(move |method| (method.to_ascii_uppercase(), path.clone()))
                .collect::<Vec<_>>()
        })
        .collect();
    let mut listed: Vec<_> = CALLS.iter().map(|(method, path, _)| ((*method).to_owned(), (*path).to_owned())).collect();
    described.sort();
    listed.sort();
    assert_eq!(described, listed, "every call has its line here");

    let expired = office.json(&["token", "add", "expired", "--role", "owner", "--days", "0"])["token"]
        .as_str()
        .unwrap()
        .to_owned();
    let mut ended = office.colleague("ended", "owner").await;
    assert_eq!(ended.ask(Method::DELETE, "/session", None).await.status(), 204);
    let gone = office.colleague("gone", "owner").await;
    office.json(&["user", "add", "stays", "--role", "owner"]);
    assert!(office.wetbank(&["user", "remove", "gone"]).status.success());
    let mut by_role = Vec::new();
    for (name, role, least) in [
        ("vera", "viewer", Viewer),
        ("oda", "operator", Operator),
        ("mats", "manager", Manager),
        ("ove", "owner", Owner),
    ] {
        by_role.push((office.colleague(name, role).await, least));
    }
    let grouped = office.colleague("gerd", "viewer").await;
    assert!(office.wetbank(&["user", "change", "gerd", "--in", "harbour=manager"]).status.success());
    let program = office.json(&["token", "add", "desk", "--role", "operator"])["token"].as_str().unwrap().to_owned();
    ended.cookie.push(' ');
    for (method, path, least) in CALLS {
        let what = format!("{method} {path}");
        if least != Anybody {
            for (who, bearer) in [
                (&stranger, None),
                (&stranger, Some("")),
                (&stranger, Some("grey-heron")),
                (&stranger, Some(&*expired)),
                (&ended, None),
                (&gone, None),
            ] {
                assert_eq!(try_it(who, bearer, method, path).await, (401, "sign-in".to_owned()), "{what}");
            }
        }
        for (who, role) in &by_role {
            let (status, code) = try_it(who, None, method, path).await;
            match least {
                Machine if *role == Owner => assert_eq!((status, &*code), (403, "forbidden"), "{what}"),
                _ if *role < least => assert_eq!((status, &*code), (403, "role"), "{what} as {role:?}"),
                _ => assert!(status != 401 && code != "role" && status < 500, "{what} as {role:?}: {status} {code}"),
            }
        }
        // Manager of a group to which nothing belongs: nothing is done for her that a viewer may not have done.
        let (status, code) = try_it(&grouped, None, method, path).await;
        match least {
            Anybody | Viewer => assert!(status != 401 && code != "role" && status < 500, "{what} in a group: {status}"),
            Owner | Machine => assert_eq!((status, &*code), (403, "role"), "{what} in a group"),
            Operator | Manager => assert!((400..500).contains(&status) && status != 401, "{what} in a group: {status}"),
        }
        let (status, code) = try_it(&stranger, Some(&program), method, path).await;
        match least {
            _ if least > Operator => assert_eq!((status, &*code), (403, "role"), "{what} as a program"),
            _ => assert!(status != 401 && status < 500, "{what} as a program: {status} {code}"),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_secret_part_of_a_key_is_for_owners_and_who_took_it_is_on_record() {
    let office = Office::open();
    office.import_key("merrow");
    let (mats, ove) = (office.colleague("mats", "manager").await, office.colleague("ove", "owner").await);
    assert_eq!(mats.get("/keys/merrow").await.status(), 200);
    assert_eq!(mats.get("/keys/merrow?secret=true").await.status(), 403);
    let taken = ove.get("/keys/merrow?secret=true").await.text().await.unwrap();
    assert!(taken.contains("PRIVATE KEY"), "{taken}");
    let audit = office.json(&["audit"]);
    let told: Vec<_> =
        audit["entries"].as_array().unwrap().iter().filter(|one| one["about"] == "/keys/merrow").collect();
    let told: Vec<_> =
        told.iter().map(|one| (one["who"].as_str().unwrap(), one["outcome"].as_i64().unwrap())).collect();
    assert_eq!(told[..2], [("ove", 200), ("mats", 403)], "{told:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_another_users_is_not_even_there() {
    let office = Office::open();
    let (ina, tove) = (office.colleague("ina", "manager").await, office.colleague("tove", "manager").await);
    let owner = office.colleague("ove", "owner").await;
    let made = ina.post("/tokens", json!({ "name": "inas", "role": "manager" })).await;
    assert_eq!(made.status(), 200);
    assert_eq!(tove.get("/tokens").await.json::<Value>().await.unwrap(), json!([]));
    assert_eq!(tove.ask(Method::DELETE, "/tokens/inas", None).await.status(), 404);
    let sessions: Value = ina.get("/sessions").await.json().await.unwrap();
    assert_eq!((sessions.as_array().unwrap().len(), &sessions[0]["own"]), (1, &json!(true)));
    let hers = format!("/sessions/{}", sessions[0]["id"]);
    assert_eq!(tove.ask(Method::DELETE, &hers, None).await.status(), 404);
    assert_eq!(tove.get("/sessions?all=true").await.status(), 403);
    assert_eq!(ina.get("/status").await.status(), 200);
    assert_eq!(owner.get("/sessions?all=true").await.json::<Value>().await.unwrap().as_array().unwrap().len(), 3);
    assert_eq!(owner.ask(Method::DELETE, &hers, None).await.status(), 204);
    assert_eq!(ina.get("/status").await.status(), 401, "at once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_never_does_more_than_who_made_it_and_a_role_that_was_taken_is_gone_at_once() {
    let office = Office::open();
    let ina = office.colleague("ina", "manager").await;
    assert_eq!(ina.post("/tokens", json!({ "name": "more", "role": "owner" })).await.status(), 403);
    assert_eq!(ina.post("/tokens", json!({ "name": "prog", "role": "viewer", "program": true })).await.status(), 403);
    let made: Value = ina.post("/tokens", json!({ "name": "hers", "role": "manager" })).await.json().await.unwrap();
    let token = made["token"].as_str().unwrap().to_owned();
    assert_eq!(ina.post("/tokens", json!({ "name": "hers", "role": "viewer" })).await.status(), 409);
    let switch = async |bearer: Option<&str>| try_it(&ina, bearer, "POST", "/rules/{name}/switch").await.0;
    assert!(![401, 403].contains(&switch(Some(&token)).await));
    // A token is for work: it makes no others, and does not change how its user signs in.
    let by_token = ina.http.post(format!("{}/tokens", ina.api())).bearer_auth(&token);
    let body = json!({ "name": "next", "role": "viewer" }).to_string();
    assert_eq!(by_token.header("content-type", "application/json").body(body).send().await.unwrap().status(), 403);
    assert_eq!(try_it(&ina, Some(&token), "POST", "/me/second-factor/new").await.0, 403);
    assert!(office.wetbank(&["user", "change", "ina", "--role", "viewer"]).status.success());
    assert_eq!((switch(None).await, switch(Some(&token)).await), (403, 403));
    assert!(office.wetbank(&["user", "remove", "ina"]).status.success());
    assert_eq!((switch(None).await, switch(Some(&token)).await), (401, 401));
}

const GROUPED: &str = r#"
[place.office]
kind = "folder"
root = "@/office"
group = "harbour"

[place.safe]
kind = "folder"
root = "@/safe"

[rule.hers]
group = "harbour"
starts = { arrival = { place = "office", folder = "in" } }
[[rule.hers.branch]]
steps = [ { copy = { to = "office", folder = "out" } } ]

[rule.others]
starts = { hand = {} }
finds = [ { place = "safe", folder = "in" } ]
[[rule.others.branch]]
steps = [ { hold = { why = "asked" } } ]
"#;

/// Says that a call was refused for want of a role, and why.
async fn lacking(answer: reqwest::Response, words: &str) {
    let status = answer.status().as_u16();
    let problem: Value = answer.json().await.unwrap_or_default();
    let detail = problem["detail"].as_str().unwrap_or_default();
    assert!(status == 403 && problem["code"] == "role" && detail.contains(words), "{words}: {status} {problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_has_more_rights_in_a_group_has_them_there_only() {
    let office = Office::open();
    std::fs::create_dir_all(office.path("safe")).unwrap();
    office.book(GROUPED);
    office.put("safe/in/ledger.csv", b"1");
    let ina = office.colleague("ina", "viewer").await;
    let switch = async |rule: &str| ina.post(&format!("/rules/{rule}/switch"), json!({ "on": true })).await;
    lacking(switch("hers").await, "ina is viewer").await;
    assert!(office.wetbank(&["user", "change", "ina", "--in", "harbour=operator"]).status.success());
    lacking(switch("hers").await, "ina is viewer").await;
    assert_eq!(ina.post("/rules/hers/run", json!({ "all": false })).await.status(), 200);
    lacking(ina.post("/rules/others/run", json!({ "all": false })).await, "belongs to no group").await;
    office.wetbank(&["rule", "run", "others"]);
    let hold = office.hold();
    let item = hold["item"].as_i64().unwrap();
    for path in [
        format!("/holds/{item}/release"),
        format!("/runs/{}/retry", hold["run"]),
        format!("/runs/{}/stop", hold["run"]),
    ] {
        lacking(ina.post(&path, json!({})).await, "belongs to no group").await;
    }
    lacking(ina.post(&format!("/holds/{item}/dismiss"), json!({ "why": "x" })).await, "belongs to no group").await;
    let by_hand = json!({ "from": "safe:/in", "to": "office:/out", "names": ["ledger.csv"] });
    lacking(ina.post("/by-hand", by_hand).await, "belongs to no group").await;
    assert_eq!(ina.post("/places/office/test", json!({})).await.status(), 200);
    lacking(ina.post("/places/safe/test", json!({})).await, "belongs to no group").await;

    assert!(office.wetbank(&["user", "change", "ina", "--in", "harbour=manager"]).status.success());
    assert_eq!(switch("hers").await.status(), 204);
    lacking(switch("others").await, "belongs to no group").await;
    let put = async |name: &str, text: String| {
        ina.ask(Method::PUT, &format!("/book/rule/{name}"), Some(json!({ "text": text }))).await
    };
    let rule = |name: &str, group: &str, steps: &str| {
        format!(
            "[rule.{name}]\n{group}starts = {{ arrival = {{ place = \"office\", folder = \"in\" }} }}\n[[rule.{name}.branch]]\nsteps = [ {steps} ]\n"
        )
    };
    let (harbour, copy) = ("group = \"harbour\"\n", "{ copy = { to = \"office\", folder = \"out\" } }");
    for (name, group, steps, words) in [
        ("hers", "", copy, "belongs to no group"),
        ("hers", "group = \"archive\"\n", copy, "group archive"),
        ("others", harbour, copy, "belongs to no group"),
        ("new", "", copy, "belongs to no group"),
        ("new", harbour, "{ copy = { to = \"safe\", folder = \"out\" } }", "place \"safe\""),
        ("new", harbour, "{ note = { text = \"x\" } }, { call = { url = \"http://127.0.0.1/\" } }", "step call"),
        (
            "new",
            harbour,
            "{ call = { url = \"http://127.0.0.1/\", token = { secret = \"desk\" } } }",
            "secret \"desk\"",
        ),
    ] {
        lacking(put(name, rule(name, group, steps)).await, words).await;
    }
    let place = json!({ "text": "[place.office]\nkind = \"folder\"\nroot = \"/\"\ngroup = \"harbour\"\n" });
    lacking(ina.ask(Method::PUT, "/book/place/office", Some(place)).await, "within groups only").await;
    let added = put("new", rule("new", harbour, copy)).await;
    assert_eq!(added.status(), 200, "{}", added.text().await.unwrap());
    assert_eq!(ina.ask(Method::DELETE, "/book/rule/new", None).await.status(), 204);
    lacking(ina.ask(Method::DELETE, "/book/rule/others", None).await, "belongs to no group").await;
    lacking(ina.ask(Method::DELETE, "/book/place/office", None).await, "within groups only").await;
    // A group's name that is none is a mistake of the book, or of who gives the right.
    let wrong = office.try_book("[place.office]\nkind = \"folder\"\nroot = \"@/office\"\ngroup = \"The Harbour\"\n");
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("is no name"), "{wrong:?}");
    for words in [["--in", "harbour=owner"], ["--in", "The Harbour=operator"], ["--in", "harbour=boss"]] {
        let mut all = vec!["user", "change", "ina"];
        all.extend(words);
        assert!(!office.wetbank(&all).status.success(), "{words:?}");
    }
    assert!(office.wetbank(&["user", "change", "ina", "--in", "harbour="]).status.success());
    assert_eq!(office.json(&["user", "list"])[0]["groups"], json!({}));
    lacking(switch("hers").await, "ina is viewer").await;
}
