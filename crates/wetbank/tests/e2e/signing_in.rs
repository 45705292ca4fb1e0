//! Signing in: links that open once, passwords, codes, sessions, and what is on record of it.

use std::time::{Duration, Instant};

use futures_util::StreamExt;
use jiff::Timestamp;
use reqwest::Method;
use serde_json::{Value, json};
use wetbank_people::Seed;

use crate::support::{
    Office,
    issuer::{CLIENT, Issuer, Lie},
    office,
    people::{Colleague, behind, cookie, password},
    wait_for,
};

#[tokio::test(flavor = "multi_thread")]
async fn the_first_start_tells_a_link_that_opens_once_and_there_is_no_password_to_guess() {
    let mut office = Office::open();
    let told = |office: &Office| {
        let log = std::fs::read_to_string(office.path("log")).unwrap();
        log.lines().rev().find_map(|line| line.strip_prefix("Open ")).unwrap().trim().to_owned()
    };
    let first = told(&office);
    assert!(first.contains("/sign-in#"), "{first}");
    let mut stranger = office.stranger();
    // Whatever looks at links does not use them up.
    let looked: Value = stranger.post("/links/look", json!({ "link": behind(&first) })).await.json().await.unwrap();
    assert!(looked["user"].is_null() && looked["until"].is_string(), "{looked}");
    let opened = stranger.post("/session/link", json!({ "link": behind(&first) })).await;
    stranger.cookie = cookie(&opened);
    let me: Value = stranger.get("/session").await.json().await.unwrap();
    assert_eq!((&me["role"], &me["alone"], &me["user"]), (&json!("owner"), &json!(true), &Value::Null));
    for path in ["/session/link", "/links/look"] {
        let again = stranger.post(path, json!({ "link": behind(&first) })).await;
        assert_eq!(
            (again.status().as_u16(), again.json::<Value>().await.unwrap()["code"].clone()),
            (410, json!("link"))
        );
    }
    for (name, tried) in [("admin", "admin"), ("owner", "password"), ("", ""), ("the local user", "")] {
        assert_eq!(office.stranger().sign_in(name, tried, None).await.0, 401, "{name}");
    }
    // Once somebody has a name, none is told any more; whoever may read the data folder has one made.
    office.colleague("ina", "owner").await;
    office.keep_address();
    office.stop();
    office.start();
    assert!(!told(&office).contains('#'), "{}", told(&office));
    let link = office.wetbank(&["link"]);
    let link = String::from_utf8(link.stdout).unwrap();
    assert_eq!(office.stranger().post("/session/link", json!({ "link": behind(link.trim()) })).await.status(), 204);
    assert_eq!(stranger.get("/session").await.status(), 200, "a session outlives a restart");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_colleague_chooses_her_password_by_her_link_and_signs_in_with_it() {
    let office = Office::open();
    let made = office.json(&["user", "add", "ina", "--title", "Ina Skerry", "--role", "operator"]);
    let link = behind(made["address"].as_str().unwrap()).to_owned();
    let mut ina = office.stranger();
    assert_eq!(ina.sign_in("ina", "", None).await, (reqwest::StatusCode::UNAUTHORIZED, "wrong".to_owned()));
    for weak in ["short", "aaaaaaaaaaaaaaaa", "inainainaina"] {
        let refused = ina.post("/session/link", json!({ "link": link, "password": weak })).await;
        assert_eq!(refused.status(), 422, "{weak}");
    }
    let looked: Value = ina.post("/links/look", json!({ "link": link })).await.json().await.unwrap();
    assert_eq!((&looked["title"], &looked["code"]), (&json!("Ina Skerry"), &json!(false)), "it still opens");
    // Another link makes this one open no more.
    let next = office.json(&["user", "link", "ina"]);
    let old = ina.post("/session/link", json!({ "link": link, "password": password("ina") })).await;
    assert_eq!(old.status(), 410);
    let body = json!({ "link": behind(next["address"].as_str().unwrap()), "password": password("ina") });
    let (one, other) = tokio::join!(ina.post("/session/link", body.clone()), ina.post("/session/link", body));
    let mut both = [one.status().as_u16(), other.status().as_u16()];
    both.sort_unstable();
    assert_eq!(both, [204, 410], "two at the same moment: it opens once");
    assert_eq!(ina.sign_in(" Ina ", &password("ina"), None).await.0, 204);
    let me: Value = ina.get("/session").await.json().await.unwrap();
    assert_eq!((&me["title"], &me["role"], &me["who"]), (&json!("Ina Skerry"), &json!("operator"), &json!("ina")));
    assert_eq!(ina.ask(Method::DELETE, "/session", None).await.status(), 204);
    assert_eq!(ina.get("/session").await.status(), 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_unknown_name_is_answered_like_a_wrong_password_and_who_tries_often_waits() {
    let office = Office::open();
    let mut ina = office.colleague("ina", "viewer").await;
    let mut stranger = office.stranger();
    let mut problems = Vec::new();
    for name in ["ina", "nobody-here"] {
        let answer = stranger.post("/session", json!({ "name": name, "password": "five grey herons" })).await;
        problems.push((answer.status(), answer.text().await.unwrap()));
    }
    assert_eq!(problems[0], problems[1]);
    // The name of somebody, and one that is nobody's: both are tried ten times, from wherever.
    let mut waits = Vec::new();
    for name in ["nobody-here", "else-nobody"] {
        let until = wait_tried(&mut stranger, name).await;
        waits.push(until);
    }
    assert!(waits[0] == 9 && waits[1] <= 10, "{waits:?}");
    let answer = stranger.post("/session", json!({ "name": "nobody-here", "password": "x" })).await;
    let retry: u64 = answer.headers()["retry-after"].to_str().unwrap().parse().unwrap();
    assert!(answer.status() == 429 && (1..=31).contains(&retry), "{retry}");
    // She came from here before: nobody shuts her out by trying.
    assert_eq!(ina.sign_in("ina", &password("ina"), None).await.0, 204);
    let log = std::fs::read_to_string(office.path("log")).unwrap();
    assert!(log.contains("sign-in was refused") && !log.contains("five grey herons"), "{log}");
}

/// How often a name can be tried before one must wait.
async fn wait_tried(stranger: &mut Colleague, name: &str) -> usize {
    for tried in 0..40 {
        if stranger.sign_in(name, "five grey herons", None).await.0 == 429 {
            return tried;
        }
    }
    panic!("{name} may be tried for ever");
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_passwords_without_end_keep_nobody_waiting() {
    let office = office("");
    let ina = office.colleague("ina", "viewer").await;
    let (stop, mut trying) = (std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false)), Vec::new());
    for one in 0..8 {
        let (mut stranger, stop) = (office.stranger(), stop.clone());
        trying.push(tokio::spawn(async move {
            let mut tried = 0;
            while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                stranger.sign_in(&format!("name-{one}-{tried}"), "five grey herons", None).await;
                tried += 1;
            }
            tried
        }));
    }
    let mut took = Vec::new();
    for _ in 0..40 {
        let began = Instant::now();
        assert_eq!(ina.get("/status").await.status(), 200);
        took.push(began.elapsed());
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    let mut tried = 0;
    for one in trying {
        tried += one.await.unwrap();
    }
    took.sort_unstable();
    assert!(tried > 40, "{tried} tries");
    assert!(took[took.len() / 2] < Duration::from_millis(200), "{:?} with {tried} tries", took[took.len() / 2]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_of_the_second_factor_is_asked_for_and_counts_once() {
    let mut office = Office::open();
    let mut ina = office.colleague("ina", "viewer").await;
    let new: Value = ina.post("/me/second-factor/new", json!({})).await.json().await.unwrap();
    assert!(new["address"].as_str().unwrap().starts_with("otpauth://totp/Wetbank:ina?"), "{new}");
    let seed = Seed::from(secrecy::SecretString::from(new["seed"].as_str().unwrap().to_owned()));
    let codes = seed.codes("ina").unwrap();
    let code = |ahead: i64| codes.at(Timestamp::now() + jiff::SignedDuration::from_secs(30 * ahead));
    let set = async |ina: &Colleague, code: &str| {
        let body = json!({ "seed": new["seed"], "code": code });
        ina.ask(Method::PUT, "/me/second-factor", Some(body)).await.status()
    };
    assert_eq!(set(&ina, "000000").await, 401, "no code, no second factor");
    assert_eq!(ina.sign_in("ina", &password("ina"), None).await.0, 204);
    // A code that will not be over while it is typed.
    wait_for("the beginning of a step", || (Timestamp::now().as_second() % 30 < 20).then_some(()));
    let first = code(-1);
    assert_eq!(set(&ina, &first).await, 204);
    assert_eq!(set(&ina, &first).await, 409);
    let (other, needed) = (reqwest::StatusCode::UNAUTHORIZED, "second-factor".to_owned());
    assert_eq!(ina.sign_in("ina", &password("ina"), None).await, (other, needed.clone()));
    assert_eq!(ina.sign_in("ina", "five grey herons", Some(&code(0))).await.1, "wrong");
    assert_eq!(ina.sign_in("ina", &password("ina"), Some(&first)).await, (other, needed.clone()), "used");
    let now = code(0);
    let mut twice = [office.stranger(), office.stranger()];
    let [one, two] = &mut twice;
    let (herons, also) = (password("ina"), password("ina"));
    let (one, two) = tokio::join!(one.sign_in("ina", &herons, Some(&now)), two.sign_in("ina", &also, Some(&now)));
    assert_eq!([one.0, two.0].iter().filter(|status| **status == 204).count(), 1, "once, also at the same moment");
    // Used is used, over a restart, too; and a link does not go round it.
    office.stop();
    office.start();
    let mut again = office.stranger();
    assert_eq!(again.sign_in("ina", &password("ina"), Some(&now)).await, (other, needed));
    let link = office.json(&["user", "link", "ina"]);
    let link = behind(link["address"].as_str().unwrap()).to_owned();
    let without = again.post("/session/link", json!({ "link": link, "password": password("ina") })).await;
    assert_eq!(without.json::<Value>().await.unwrap()["code"], "second-factor");
    let body = json!({ "link": link, "password": password("ina"), "code": code(1) });
    assert_eq!(again.post("/session/link", body).await.status(), 204);
    assert!(office.wetbank(&["user", "forget-proofs", "ina"]).status.success());
    assert_eq!(again.sign_in("ina", &password("ina"), None).await.0, 204);
    // What is on record opens nothing.
    let journal = std::fs::read(office.data().join("journal.db")).unwrap();
    let seed = new["seed"].as_str().unwrap().as_bytes();
    assert!(!journal.windows(seed.len()).any(|window| window == seed));
}

#[tokio::test(flavor = "multi_thread")]
async fn another_password_ends_all_other_sessions_and_their_live_streams() {
    let office = Office::open();
    let (mut here, mut there) = (office.colleague("ina", "viewer").await, office.stranger());
    assert_eq!(there.sign_in("ina", &password("ina"), None).await.0, 204);
    let mut stream = there.get("/events").await.bytes_stream();
    assert!(stream.next().await.is_some(), "hello");
    let change = async |who: &Colleague, old: &str, new: &str| {
        who.ask(Method::PUT, "/me/password", Some(json!({ "old": old, "new": new }))).await.status()
    };
    assert_eq!(change(&here, "five grey herons", "three brown otters").await, 401);
    assert_eq!(change(&here, &password("ina"), "otter").await, 422);
    assert_eq!(there.get("/status").await.status(), 200);
    assert_eq!(change(&here, &password("ina"), "three brown otters").await, 204);
    assert_eq!(
        (here.get("/status").await.status(), there.get("/status").await.status()),
        (200.try_into().unwrap(), 401.try_into().unwrap())
    );
    let ended = tokio::time::timeout(Duration::from_secs(10), async { while stream.next().await.is_some() {} });
    assert!(ended.await.is_ok(), "the stream goes on without its session");
    assert_eq!(here.sign_in("ina", &password("ina"), None).await.0, 401);
    assert_eq!(here.sign_in("ina", "three brown otters", None).await.0, 204);
    // A stream ends with its token as well.
    let token = office.json(&["token", "add", "desk", "--role", "viewer"])["token"].as_str().unwrap().to_owned();
    let asked = here.http.get(format!("{}/events", here.api())).bearer_auth(token).send().await.unwrap();
    let mut stream = asked.bytes_stream();
    assert!(stream.next().await.is_some());
    assert!(office.wetbank(&["token", "remove", "desk"]).status.success());
    let ended = tokio::time::timeout(Duration::from_secs(10), async { while stream.next().await.is_some() {} });
    assert!(ended.await.is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn who_did_what_is_on_record_before_it_is_done() {
    let office = office(
        "[rule.keep]\nstarts = { hand = {} }\nfinds = [ { place = \"office\", folder = \"in\" } ]\n[[rule.keep.branch]]\nsteps = [{ copy = { to = \"office\", folder = \"kept\" } }]\n",
    );
    let (ina, vera) = (office.colleague("ina", "manager").await, office.colleague("vera", "viewer").await);
    assert_eq!(ina.post("/rules/keep/switch", json!({ "on": false })).await.status(), 204);
    assert_eq!(vera.post("/rules/keep/switch", json!({ "on": true })).await.status(), 403);
    let text = "[rule.keep]\nwhy = \"tidy\"\nstarts = { hand = {} }\nfinds = [ { place = \"office\", folder = \"in\" } ]\n[[rule.keep.branch]]\nsteps = [{ copy = { to = \"office\", folder = \"kept\" } }]\n";
    let put = ina.ask(Method::PUT, "/book/rule/keep", Some(json!({ "text": text }))).await;
    assert_eq!(put.status(), 200, "{}", put.text().await.unwrap());
    let section: Value = ina.get("/book/rule/keep").await.json().await.unwrap();
    assert_eq!(section["versions"][0]["who"], "ina", "{section}");
    let audit = office.json(&["audit"]);
    let entries: Vec<(&str, &str, &str, i64)> = audit["entries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            let text = |key: &str| one[key].as_str().unwrap_or_default();
            (text("who"), text("call"), text("note"), one["outcome"].as_i64().unwrap_or_default())
        })
        .collect();
    for entry in [
        ("ina", "POST /rules/{name}/switch", "off", 204),
        ("vera", "POST /rules/{name}/switch", "", 403),
        ("ina", "PUT /book/{kind}/{name}", "", 200),
        ("ina", "POST /session/link", "", 204),
        ("the local user", "PUT /users/{name}", "manager, called \"\"", 200),
    ] {
        assert!(entries.contains(&entry), "{entry:?} in {entries:?}");
    }
    let hers = office.json(&["audit", "--who", "vera"]);
    assert!(hers["entries"].as_array().unwrap().iter().all(|one| one["who"] == "vera"), "{hers}");
    assert!(!audit.to_string().contains("herons"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_cut_short_is_on_record_as_not_known() {
    let mut office = Office::open();
    // A server that never answers.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = silent.local_addr().unwrap().port();
    office.wetbank_with(&["secret", "set", "pier"], "otter");
    office.book(&format!(
        "[place.pier]\nkind = \"ftp\"\nhost = \"127.0.0.1\"\nport = {port}\nsecurity = \"none\"\nuser = \"ina\"\n\
         password = {{ secret = \"pier\" }}\n"
    ));
    let ina = office.colleague("ina", "operator").await;
    let asking = tokio::spawn(async move { ina.post("/places/pier/test", json!({})).await.status() });
    let entry = |office: &Office| office.json(&["audit", "--who", "ina"])["entries"][0].clone();
    wait_for("it is on record", || (entry(&office)["about"] == "/places/pier/test").then_some(()));
    assert_eq!(entry(&office)["outcome"], Value::Null, "it goes on");
    office.kill();
    let _ = asking.await;
    office.start();
    assert_eq!((&entry(&office)["about"], &entry(&office)["outcome"]), (&json!("/places/pier/test"), &Value::Null));
    let shown = String::from_utf8(office.wetbank(&["audit"]).stdout).unwrap();
    assert!(shown.contains("not known"), "{shown}");
}

#[tokio::test(flavor = "multi_thread")]
async fn commands_elsewhere_sign_in_by_name_and_forget_it() {
    let office = Office::open();
    office.colleague("ina", "operator").await;
    let home = office.path("home");
    let run = |words: &[&str], input: &str| {
        use std::{io::Write, process::Stdio};
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_wetbank"));
        command.args(words).env_remove("WETBANK_DATA").env("HOME", &home).env("XDG_CONFIG_HOME", home.join("config"));
        command
            .env("XDG_DATA_HOME", home.join("data"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        (output.status.code(), String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap())
    };
    let (code, _, said) = run(&["status"], "");
    assert!(code == Some(3) && said.contains("wetbank login"), "{said}");
    let (code, _, said) = run(&["login", &office.url(), "--user", "ina"], "five grey herons\n");
    assert!(code == Some(2) && said.contains("name or password"), "{said}");
    let (code, _, said) = run(&["login", &office.url(), "--user", "ina"], &password("ina"));
    assert!(code == Some(0) && said.contains("as ina (operator)"), "{said}");
    let kept = home.join("config/wetbank/login.toml");
    use std::os::unix::fs::PermissionsExt;
    assert_eq!(std::fs::metadata(&kept).unwrap().permissions().mode() & 0o777, 0o600);
    assert!(!std::fs::read_to_string(&kept).unwrap().contains("herons"));
    assert_eq!(run(&["status"], "").0, Some(0));
    let (code, _, said) = run(&["user", "list"], "");
    assert!(code == Some(2) && said.contains("needs the role owner"), "{said}");
    assert_eq!(office.json(&["token", "list"])[0]["user"], "ina");
    assert_eq!(office.json(&["session", "list", "--all"]).as_array().unwrap().len(), 1, "only that of her browser");
    assert_eq!(run(&["logout"], "").0, Some(0));
    assert_eq!(office.json(&["token", "list"]), json!([]));
    assert_eq!((run(&["status"], "").0, run(&["logout"], "").0), (Some(3), Some(2)));
}

/// Goes to the provider and comes back as a browser does; answers where to, and what it is given.
async fn by_provider(who: &Colleague, why: Value) -> (String, Option<String>) {
    let http = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
    let sent = who.post("/session/provider/new", why).await;
    assert_eq!(sent.status(), 200, "{}", sent.text().await.unwrap());
    let browser = cookie(&sent);
    let address = sent.json::<Value>().await.unwrap()["address"].as_str().unwrap().to_owned();
    let agreed = http.get(address).send().await.unwrap();
    let back = agreed.headers()["location"].to_str().unwrap().to_owned();
    // Another browser than the one that was sent gets nowhere with it.
    let stolen = http.get(&back).send().await.unwrap();
    assert_eq!(stolen.headers()["location"], "/sign-in?why=provider");
    let came = http.get(&back).header("cookie", &browser).send().await.unwrap();
    let to = came.headers()["location"].to_str().unwrap().to_owned();
    let session = came.headers().get("set-cookie").map(|_| cookie(&came));
    if session.is_some() {
        let again = http.get(&back).header("cookie", &browser).send().await.unwrap();
        assert_eq!(again.headers()["location"], "/sign-in?why=provider", "it counts once");
    }
    (to, session)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_provider_says_who_somebody_is_and_lets_in_whom_somebody_added() {
    let (office, issuer) = (Office::open(), Issuer::start().await);
    let (owner, stranger) = (office.colleague("ove", "owner").await, office.stranger());
    assert_eq!(stranger.post("/session/provider/new", json!({})).await.status(), 409, "there is none");
    let named = |issuer: String, secret: Option<&str>| json!({ "title": "Merrow office", "issuer": issuer, "client": CLIENT.0, "secret": secret });
    let put = async |body: Value| owner.ask(Method::PUT, "/provider", Some(body)).await;
    let nobody = put(named("http://127.0.0.1:9".to_owned(), Some(CLIENT.1))).await;
    assert_eq!(nobody.status(), 502, "it is asked at once");
    assert_eq!(put(named(issuer.url(), None)).await.status(), 422, "without a secret there is none");
    for wrong in ["", "id.merrow.example", "ftp://id.merrow.example", "file:///etc/passwd"] {
        let refused = put(named(wrong.to_owned(), Some(CLIENT.1))).await;
        assert!(refused.status() == 422 && refused.text().await.unwrap().contains("is no address"), "{wrong}");
    }
    assert_eq!(put(named(issuer.url(), Some(CLIENT.1))).await.status(), 204);
    assert_eq!(put(named(issuer.url(), None)).await.status(), 204, "the one before stays");
    let shown = owner.get("/provider").await.text().await.unwrap();
    assert!(shown.contains(&issuer.url()) && !shown.contains(CLIENT.1), "{shown}");
    let ways: Value = stranger.get("/sign-in-ways").await.json().await.unwrap();
    assert_eq!(ways, json!({ "provider": "Merrow office" }));

    assert_eq!(by_provider(&stranger, json!({})).await, ("/sign-in?why=nobody".to_owned(), None));
    // By her link, in place of a password.
    let made = office.json(&["user", "add", "ina", "--role", "operator"]);
    let link = behind(made["address"].as_str().unwrap()).to_owned();
    let (to, session) = by_provider(&stranger, json!({ "link": link })).await;
    assert_eq!(to, "/");
    let mut ina = stranger.clone();
    ina.cookie = session.unwrap();
    let me: Value = ina.get("/session").await.json().await.unwrap();
    assert_eq!((&me["user"], &me["password"], &me["vouched"]), (&json!("ina"), &json!(false), &json!(true)));
    assert_eq!(stranger.post("/session/provider/new", json!({ "link": link })).await.status(), 410);
    assert_eq!(ina.ask(Method::DELETE, "/me/provider", None).await.status(), 422, "she could not come in any more");
    let (to, session) = by_provider(&stranger, json!({})).await;
    assert!(to == "/" && session.is_some());

    // Whom it calls otherwise is somebody else, and what it calls one is nobody else's.
    assert_eq!(by_provider(&owner, json!({ "connect": true })).await.0, "/sign-in?why=others");
    issuer.vouches_for("ove@id");
    assert_eq!(by_provider(&stranger, json!({})).await.0, "/sign-in?why=nobody");
    assert_eq!(by_provider(&owner, json!({ "connect": true })).await.0, "/settings?tab=you");
    let (_, session) = by_provider(&stranger, json!({})).await;
    let mut ove = stranger.clone();
    ove.cookie = session.unwrap();
    assert_eq!(ove.get("/session").await.json::<Value>().await.unwrap()["user"], "ove");
    assert_eq!(stranger.post("/session/provider/new", json!({ "connect": true })).await.status(), 401);

    // What does not hold lets nobody in; keys that it turned are asked for.
    for lie in [Lie::Nonce, Lie::Audience, Lie::Issuer, Lie::Expired, Lie::Key, Lie::Unsigned] {
        issuer.lies(lie);
        assert_eq!(by_provider(&stranger, json!({})).await, ("/sign-in?why=provider".to_owned(), None), "{lie:?}");
    }
    issuer.lies(Lie::None);
    issuer.turn_key();
    assert_eq!(by_provider(&stranger, json!({})).await.0, "/");
    assert_eq!(owner.ask(Method::DELETE, "/me/provider", None).await.status(), 204, "she has a password");
    assert_eq!(by_provider(&stranger, json!({})).await.0, "/sign-in?why=nobody");
    assert_eq!(owner.ask(Method::DELETE, "/provider", None).await.status(), 204);
    assert_eq!(stranger.get("/sign-in-ways").await.json::<Value>().await.unwrap(), json!({}));
    let journal = std::fs::read(office.data().join("journal.db")).unwrap();
    assert!(!journal.windows(CLIENT.1.len()).any(|window| window == CLIENT.1.as_bytes()));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_opens_a_door_is_in_no_log_and_no_answer() {
    let office = Office::open_with(&[("WETBANK_LOG", "trace")]);
    let mut ina = office.colleague("ina", "owner").await;
    let issuer = Issuer::start().await;
    let provider = json!({ "title": "id", "issuer": issuer.url(), "client": CLIENT.0, "secret": CLIENT.1 });
    assert_eq!(ina.ask(Method::PUT, "/provider", Some(provider)).await.status(), 204);
    let token = ina.post("/tokens", json!({ "name": "desk", "role": "viewer" })).await.json::<Value>().await.unwrap();
    let token = token["token"].as_str().unwrap().to_owned();
    let new: Value = ina.post("/me/second-factor/new", json!({})).await.json().await.unwrap();
    let link = office.json(&["user", "link", "ina"])["address"].as_str().unwrap().to_owned();
    ina.sign_in("ina", &password("ina"), None).await;
    ina.sign_in("ina", "wrong brown otters", None).await;
    ina.sign_in("wrong brown otters", "x", None).await;
    by_provider(&ina, json!({ "connect": true })).await;
    let asked = ina.http.get(format!("{}/status", ina.api())).bearer_auth(&token).send().await.unwrap();
    assert_eq!(asked.status(), 200);
    let lists: [&[&str]; 4] = [&["token", "list"], &["session", "list", "--all"], &["user", "list"], &["audit"]];
    let told: String = lists.iter().map(|words| office.json(words).to_string()).collect();
    let log = std::fs::read_to_string(office.path("log")).unwrap();
    assert!(log.contains("TRACE") || log.contains("DEBUG"), "it talks as much as it can");
    let cookie = ina.cookie.split_once('=').unwrap().1;
    let seed = new["seed"].as_str().unwrap();
    for canary in
        [&*password("ina"), "wrong brown otters", &token, seed, behind(&link), cookie, CLIENT.1, office.token().trim()]
    {
        let line = log.lines().find(|line| line.contains(canary));
        // The first link of all is told where the service is started, and nothing else.
        assert!(line.is_none(), "{canary} in {line:?}");
        assert!(!told.contains(canary), "{canary} in {told}");
    }
}
