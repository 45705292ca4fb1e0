//! The service by itself: what it answers over HTTP, in one process with its engine.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod book;
mod calls;
mod doors;
mod drafts;
mod places;
mod records;
mod rehearsals;
mod sections;
mod signals;

use std::{
    fs,
    path::PathBuf,
    time::{Duration, Instant},
};

use reqwest::{Client, Method, RequestBuilder, StatusCode};
use serde_json::{Value, json};
use tempfile::TempDir;
use tokio_util::sync::CancellationToken;
use wetbank_engine::{Engine, EngineOptions};
use wetbank_people::People;
use wetbank_reception::Desk;
use wetbank_service::{Listening, Reception, Server, Token};

/// Two folders; `@` stands for where they lie.
const PLACES: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n\
                      [place.archive]\nkind = \"folder\"\nroot = \"@/archive\"\n";

/// A rule that keeps what somebody starts it for.
const KEEP: &str = "[rule.keep]\ntitle = \"Keep readings\"\nstarts = { hand = {} }\n\
                    finds = [ { place = \"office\", folder = \"in\", names = [\"*.csv\"] } ]\n\
                    [[rule.keep.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n";

/// A service that answers, with its folder.
struct Office {
    folder: TempDir,
    url: String,
    token: String,
    http: Client,
    engine: Engine,
    stop: CancellationToken,
}

impl Office {
    /// A service with two folders and these rules.
    async fn with(rules: &str) -> Self {
        let folder = TempDir::new().unwrap();
        for name in ["office/in", "archive"] {
            fs::create_dir_all(folder.path().join(name)).unwrap();
        }
        let data = folder.path().join("data");
        let options = EngineOptions { data: data.clone(), programs: None, new_vault_key: false };
        let engine = Engine::start(options).await.unwrap();
        let token = Token::open(&data).unwrap();
        let here = Listening::in_clear(([127, 0, 0, 1], 0).into());
        let people = People::open(engine.journal().clone(), engine.vault()).await.unwrap();
        let desk = Desk::open(engine.clone(), &data).await.unwrap();
        let reception = Reception { desk, sftp: None };
        let server = Server::bind(engine.clone(), people, token.clone(), here, reception).await.unwrap();
        let (url, stop) = (server.listening().local(), CancellationToken::new());
        tokio::spawn(server.run(|_| {}, stop.clone()));
        let office = Self { folder, url, token: token.reveal().to_owned(), http: Client::new(), engine, stop };
        let applied = office.post("/book/apply", office.book(&format!("{PLACES}{rules}"))).await;
        assert_eq!(applied.0, StatusCode::OK, "{}", applied.1);
        office
    }

    fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    fn put(&self, below: &str, content: &str) {
        fs::write(self.path(below), content).unwrap();
    }

    /// A book as it is proposed.
    fn book(&self, text: &str) -> Value {
        let text = text.replace('@', &self.folder.path().display().to_string());
        json!({ "files": [ { "name": "book.toml", "text": text } ] })
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}/api/v1{path}", self.url)).bearer_auth(&self.token)
    }

    async fn get(&self, path: &str) -> (StatusCode, Value) {
        answered(self.request(Method::GET, path)).await
    }

    async fn post(&self, path: &str, body: Value) -> (StatusCode, Value) {
        answered(self.request(Method::POST, path).json(&body)).await
    }

    async fn delete(&self, path: &str) -> (StatusCode, Value) {
        answered(self.request(Method::DELETE, path)).await
    }

    /// A run once it moves no more.
    async fn rested(&self, run: i64) -> Value {
        let deadline = Instant::now() + Duration::from_secs(20);
        loop {
            let (_, told) = self.get(&format!("/runs/{run}")).await;
            if told["state"] != "running" {
                return told;
            }
            assert!(Instant::now() < deadline, "{told}");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    /// Starts the rule and waits for its end.
    async fn run(&self, rule: &str) -> Value {
        let (status, started) = self.post(&format!("/rules/{rule}/run"), json!({})).await;
        assert_eq!(status, StatusCode::OK, "{started}");
        self.rested(started["run"].as_i64().unwrap()).await
    }

    async fn close(self) {
        self.stop.cancel();
        self.engine.stop().await;
    }
}

/// The status, and what was said; a text that is no JSON is told as one.
async fn answered(request: RequestBuilder) -> (StatusCode, Value) {
    let answer = request.send().await.unwrap();
    let status = answer.status();
    let text = answer.text().await.unwrap();
    (status, serde_json::from_str(&text).unwrap_or(Value::String(text)))
}

/// A problem of this status and code; answers what it says.
#[track_caller]
fn problem((status, told): (StatusCode, Value), expected: StatusCode, code: &str) -> String {
    assert_eq!((status, &told["code"]), (expected, &json!(code)), "{told}");
    assert_eq!(told["status"], expected.as_u16());
    told["detail"].as_str().unwrap().to_owned()
}
