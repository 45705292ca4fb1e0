//! Colleagues who sign in as a browser does.

use reqwest::{Client, Method, Response, StatusCode};
use serde_json::{Value, json};

use super::Office;

/// Somebody with a browser.
#[derive(Clone)]
pub struct Colleague {
    pub http: Client,
    api: String,
    /// What the browser keeps.
    pub cookie: String,
}

/// The password that a colleague of this name chooses.
pub fn password(name: &str) -> String {
    format!("four herons of {name}")
}

/// What stands behind `#` in a link.
pub fn behind(address: &str) -> &str {
    address.split_once('#').unwrap().1
}

/// The cookie that an answer sets.
pub fn cookie(response: &Response) -> String {
    let cookie = response.headers()["set-cookie"].to_str().unwrap();
    cookie.split(';').next().unwrap().to_owned()
}

impl Office {
    /// A browser that is not signed in.
    pub fn stranger(&self) -> Colleague {
        Colleague { http: Client::new(), api: format!("{}/api/v1", self.url()), cookie: String::new() }
    }

    /// Lets a colleague in: she chooses her password by the link that she is given.
    pub async fn colleague(&self, name: &str, role: &str) -> Colleague {
        let made = self.json(&["user", "add", name, "--role", role]);
        let mut colleague = self.stranger();
        let link = behind(made["address"].as_str().unwrap()).to_owned();
        let opened = colleague.post("/session/link", json!({ "link": link, "password": password(name) })).await;
        assert_eq!(opened.status(), 204);
        colleague.cookie = cookie(&opened);
        colleague
    }
}

impl Colleague {
    /// Where the API is.
    pub fn api(&self) -> &str {
        &self.api
    }

    pub async fn ask(&self, method: Method, path: &str, body: Option<Value>) -> Response {
        let request = self.http.request(method, format!("{}{path}", self.api)).header("cookie", &self.cookie);
        let request = match body {
            Some(body) => request.header("content-type", "application/json").body(body.to_string()),
            None => request,
        };
        request.send().await.unwrap()
    }

    pub async fn get(&self, path: &str) -> Response {
        self.ask(Method::GET, path, None).await
    }

    pub async fn post(&self, path: &str, body: Value) -> Response {
        self.ask(Method::POST, path, Some(body)).await
    }

    /// Signs in by name and password; answers the status and the problem's code.
    pub async fn sign_in(&mut self, name: &str, password: &str, code: Option<&str>) -> (StatusCode, String) {
        let answer = self.post("/session", json!({ "name": name, "password": password, "code": code })).await;
        let status = answer.status();
        if status == 204 {
            self.cookie = cookie(&answer);
        }
        let problem: Value = serde_json::from_str(&answer.text().await.unwrap()).unwrap_or_default();
        (status, problem["code"].as_str().unwrap_or_default().to_owned())
    }
}
