//! What the API answers to programs: pages, problems, its own description.

use std::fs;

use crate::support::{Office, SMALL_BOOK};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};
use wetbank_testbed::{SHARE_NAME, SHARE_USER, Samba, ShareOffer};

struct Api {
    office: Office,
    http: Client,
}

impl Api {
    fn open() -> Self {
        let office = Office::open();
        office.book(SMALL_BOOK);
        Self { office, http: Client::new() }
    }

    async fn ask(&self, method: Method, path: &str, body: Option<Value>) -> (StatusCode, String, Value) {
        let request = self.http.request(method, format!("{}/api/v1{path}", self.office.url()));
        let request = request.bearer_auth(self.office.token());
        let request = match body {
            Some(body) => request.header("content-type", "application/json").body(body.to_string()),
            None => request,
        };
        let response = request.send().await.unwrap();
        let status = response.status();
        let kind = response.headers().get("content-type").map(|kind| kind.to_str().unwrap().to_owned());
        let text = response.text().await.unwrap();
        (status, kind.unwrap_or_default(), serde_json::from_str(&text).unwrap_or(Value::Null))
    }

    async fn get(&self, path: &str) -> Value {
        let (status, _, value) = self.ask(Method::GET, path, None).await;
        assert_eq!(status, 200, "{path}: {value}");
        value
    }

    /// A request that must be refused, with this status and stable word.
    async fn refused(&self, method: Method, path: &str, body: Option<Value>, status: u16, code: &str) -> String {
        let (told, kind, problem) = self.ask(method, path, body).await;
        assert_eq!((told.as_u16(), problem["code"].as_str()), (status, Some(code)), "{path}: {problem}");
        assert_eq!(kind, "application/problem+json", "{path}");
        problem["detail"].as_str().unwrap().to_owned()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_told_page_by_page_and_a_page_is_told_once() {
    let api = Api::open();
    for number in 0..25 {
        api.office.put(&format!("office/many/{number:02}.csv"), b"x");
    }
    let mut names = Vec::new();
    let mut path = "/places/office/browse?folder=many&limit=10".to_owned();
    let mut tokens = Vec::new();
    loop {
        let page = api.get(&path).await;
        let entries = page["entries"].as_array().unwrap();
        assert!(entries.len() <= 10);
        names.extend(entries.iter().map(|entry| entry["name"].as_str().unwrap().to_owned()));
        let Some(next) = page["next"].as_u64() else { break };
        tokens.push(next);
        path = format!("/places/office/browse?folder=many&limit=10&page={next}");
    }
    names.sort();
    assert_eq!(names, (0..25).map(|number| format!("{number:02}.csv")).collect::<Vec<_>>());
    for gone in [tokens[0], 999_999] {
        let path = format!("/places/office/browse?folder=many&page={gone}");
        let words = api.refused(Method::GET, &path, None, 410, "listing-given-up").await;
        assert!(words.contains("open the folder again"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn requests_that_make_no_sense_are_problems_with_a_stable_word_and_their_reason() {
    let api = Api::open();
    let by_hand =
        |exists: &str| Some(json!({ "from": "office:/in", "names": ["a.csv"], "to": "office:/out", "exists": exists }));
    for (method, path, body, status, code) in [
        (Method::GET, "/places/nowhere/browse", None, 404, "not-found"),
        (Method::GET, "/places/nowhere/day", None, 404, "not-found"),
        (Method::GET, "/places/office/browse?folder=..", None, 400, "bad-request"),
        (Method::GET, "/places/office/browse?folder=no", None, 404, "not-found"),
        (Method::GET, "/places/office/browse?limit=many", None, 400, "bad-request"),
        (Method::POST, "/by-hand", by_hand("perhaps"), 422, "bad-request"),
        (Method::POST, "/by-hand", by_hand("replace"), 404, "not-found"),
        (Method::POST, "/by-hand", Some(json!({ "from": "office" })), 422, "bad-request"),
        (Method::DELETE, "/book/partner/nobody", None, 404, "not-found"),
        (Method::GET, "/no-such-thing", None, 404, "not-found"),
        (Method::POST, "/places", Some(json!({ "name": "Two Words", "kind": "folder" })), 400, "bad-name"),
        (Method::POST, "/places", Some(json!({ "name": "x", "kind": "cupboard" })), 422, "book"),
    ] {
        let words = api.refused(method, path, body, status, code).await;
        assert!(!words.is_empty() && !words.contains("Error {"), "{path}: {words}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_place_is_added_by_its_keys_in_the_books_order_and_read_back() {
    let api = Api::open();
    fs::create_dir_all(api.office.path("other")).unwrap();
    let root = api.office.path("other").display().to_string();
    let new = json!({ "name": "other", "kind": "folder", "keys": { "root": format!(" {root} ") } });
    let (status, _, told) = api.ask(Method::POST, "/places", Some(new)).await;
    assert_eq!(status, 204, "{told}");
    let ftp = json!({
        "name": "print", "kind": "ftp",
        "keys": { "user": "merrow", "port": 2121, "host": "ftp.harlan.example", "security": "none", "root": "" },
        "secrets": { "password": "grey heron" },
    });
    assert_eq!(api.ask(Method::POST, "/places", Some(ftp)).await.0, 204);
    let places = api.get("/places").await;
    let text = |name: &str| {
        let place = places.as_array().unwrap().iter().find(|place| place["name"] == name).unwrap();
        place["text"].as_str().unwrap().to_owned()
    };
    assert_eq!(text("other"), format!("[place.other]\nkind = \"folder\"\nroot = \"{root}\"\n"));
    assert_eq!(
        text("print"),
        "[place.print]\nkind     = \"ftp\"\nhost     = \"ftp.harlan.example\"\nport     = 2121\nuser     = \"merrow\"\n\
         password = { secret = \"print-password\" }\nsecurity = \"none\"\n"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_description_names_every_call_and_the_books_schema_every_section() {
    let api = Api::open();
    let document = api.get("/openapi.json").await;
    let paths = document["paths"].as_object().unwrap();
    for path in ["/api/v1/by-hand", "/api/v1/partners", "/api/v1/places/{name}/day", "/api/v1/book/test"] {
        assert!(paths.contains_key(path), "{path}");
    }
    let schema = api.get("/book/schema").await;
    for section in ["place", "partner", "rule"] {
        assert!(schema["properties"][section].is_object(), "{section}");
    }
    let partners = api.get("/partners").await;
    assert_eq!((&partners[0]["title"], &partners[0]["rules"]), (&json!("Skerrow Harbour Office"), &json!(["keep"])));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_place_is_tried_as_it_is_typed_and_nothing_is_kept_of_it() {
    let (api, samba) = (Api::open(), Samba::start(ShareOffer::Usual));
    let tried = |host: &str, user: &str, password: &str, sign_in: bool| {
        let keys = json!({ "host": host, "user": user, "share": SHARE_NAME });
        let place = json!({ "kind": "share", "keys": keys, "secrets": { "password": password } });
        api.ask(Method::POST, "/places/try", Some(json!({ "place": place, "sign_in": sign_in })))
    };
    let host = format!("  smb://127.0.0.1:{}/ ", samba.port);
    let (_, _, found) = tried(&host, "merrow", "", false).await;
    assert_eq!(found["address"], format!("//127.0.0.1:{}/{SHARE_NAME}", samba.port), "{found}");
    let what: Vec<_> = found["steps"].as_array().unwrap().iter().map(|step| step["what"].as_str().unwrap()).collect();
    assert_eq!(what, ["find the host", "connect", "secure"], "nobody signs in unasked");
    let (_, _, wrong) = tried(&host, "merrow", "bittern", true).await;
    assert_eq!((&wrong["fine"], &wrong["steps"][3]["fine"]), (&json!(false), &json!(false)), "{wrong}");
    assert!(!wrong.to_string().contains("bittern"));
    let (_, _, right) = tried(&host, "merrow", SHARE_USER.1, true).await;
    assert_eq!((&right["fine"], right["steps"].as_array().unwrap().len()), (&json!(true), 5), "{right}");
    let (status, _, problem) = tried("two words", "merrow", "", false).await;
    assert!(status == 422 && problem.to_string().contains("is no host"), "{problem}");
    assert_eq!(api.get("/places").await.as_array().unwrap().len(), 1);
    assert_eq!(api.get("/secrets").await.as_array().unwrap().len(), 0);
}

/// Every call of the description: its method, and its path with something in each gap.
async fn every_call(api: &Api) -> Vec<(Method, String)> {
    let document = api.get("/openapi.json").await;
    let paths = document["paths"].as_object().unwrap();
    let filled = |path: &str| {
        let path = path.strip_prefix("/api/v1").unwrap();
        ["name", "id", "item", "kind"].iter().fold(path.to_owned(), |path, gap| {
            let value = if *gap == "kind" { "rule" } else { "1" };
            path.replace(&format!("{{{gap}}}"), value)
        })
    };
    let calls = paths.iter().flat_map(|(path, calls)| {
        let methods = calls.as_object().unwrap().keys();
        methods.map(move |method| (method.to_ascii_uppercase().parse().unwrap(), filled(path)))
    });
    calls.collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn no_call_is_answered_without_a_token_nor_with_a_wrong_one() {
    let api = Api::open();
    let calls = every_call(&api).await;
    assert!(calls.len() > 35, "{calls:?}");
    // Signing in and out is what one does without being signed in, and an editor reads the schema.
    let open = [
        "/session",
        "/session/link",
        "/session/passkey",
        "/session/passkey/new",
        "/session/provider/new",
        "/links/look",
        "/sign-in-ways",
        "/book/schema",
    ];
    for (method, path) in calls.iter().filter(|(_, path)| !open.contains(&path.as_str())) {
        assert!(!path.contains('{'), "{path}: a gap that this test does not know");
        for token in [None, Some(""), Some("grey-heron"), Some(&api.office.token()[1..])] {
            let request = api.http.request(method.clone(), format!("{}/api/v1{path}", api.office.url()));
            let request = match token {
                Some(token) => request.bearer_auth(token),
                None => request,
            };
            let response = request.header("content-type", "application/json").body("{}").send().await.unwrap();
            assert_eq!(response.status(), 401, "{method} {path}");
            let problem: Value = response.json().await.unwrap();
            assert_eq!(problem["code"], "sign-in", "{method} {path}: {problem}");
        }
    }
    let wrong = json!({ "token": "grey-heron" });
    let words = api.refused(Method::POST, "/session", Some(wrong), 401, "sign-in").await;
    assert!(!words.contains("grey-heron"), "{words}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_request_is_a_problem_and_changes_nothing() {
    let api = Api::open();
    let before = api.get("/places").await;
    for (method, path) in every_call(&api).await {
        if method == Method::GET || path.starts_with("/session") {
            continue;
        }
        for body in ["{", "[]", "null", "\"text\"", "{\"file\": 7}", "{\"name\": {}}", "\u{fffd}"] {
            let url = format!("{}/api/v1{path}", api.office.url());
            let request = api.http.request(method.clone(), url).bearer_auth(api.office.token());
            let response = request.header("content-type", "application/json").body(body).send().await.unwrap();
            let status = response.status();
            // What takes no body may well go through, or say that there is nothing to do it to.
            assert!(!status.is_server_error(), "{method} {path} with {body}: {status}");
            if status.is_client_error() {
                let kind = response.headers()["content-type"].to_str().unwrap().to_owned();
                assert_eq!(kind, "application/problem+json", "{method} {path} with {body}: {status}");
                let problem: Value = response.json().await.unwrap();
                let (code, words) = (problem["code"].as_str().unwrap(), problem["detail"].as_str().unwrap());
                assert!(!code.is_empty() && !words.is_empty(), "{method} {path} with {body}: {problem}");
            }
        }
    }
    assert_eq!(api.get("/places").await, before);
    assert_eq!(api.get("/secrets").await.as_array().unwrap().len(), 0);
    assert_eq!(api.get("/runs").await["runs"].as_array().unwrap().len(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_is_too_large_or_of_another_kind_is_refused() {
    let api = Api::open();
    let url = format!("{}/api/v1/book/check", api.office.url());
    let large = json!({ "files": [ { "name": "book.toml", "text": "#".repeat(40 << 20) } ] }).to_string();
    let request = api.http.post(&url).bearer_auth(api.office.token()).header("content-type", "application/json");
    // The service may close the line while we still send.
    if let Ok(response) = request.body(large).send().await {
        assert_eq!(response.status(), 413);
    }
    let request = api.http.post(&url).bearer_auth(api.office.token()).header("content-type", "text/plain");
    let response = request.body("{}").send().await.unwrap();
    assert_eq!(response.status(), 415);
    assert!(api.get("/status").await.is_object(), "it goes on");
}
