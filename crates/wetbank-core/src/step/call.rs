//! The step `call`.

use std::{collections::BTreeMap, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Telling};
use crate::{
    SecretName, Template,
    shape::{Checked, Here, SecretRef, Text, duration, holds, secret, template},
};

/// Call a web address. `Idempotency-Key` is the same at every attempt; redirections are not followed.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Call a web address")]
pub(crate) struct Shape {
    /// The address. Its host is written out: a file must not choose whom is called.
    #[schemars(title = "Address")]
    url: Text<holds::UrlTemplate>,
    /// `get`, `post`, `put`, `patch` or `delete`; `post` if something is sent, else `get`.
    #[schemars(title = "Method")]
    method: Option<Text>,
    /// Headers that are no secret.
    #[serde(default)]
    #[schemars(title = "Headers")]
    headers: BTreeMap<String, Text<holds::Template>>,
    /// A secret that is sent as a bearer token.
    #[schemars(title = "Token")]
    token: Option<SecretRef>,
    /// What is sent: fields of a JSON object.
    #[schemars(title = "Send fields (JSON)")]
    json: Option<BTreeMap<String, Text<holds::Template>>>,
    /// What is sent: a text.
    #[schemars(title = "Send a text")]
    text: Option<Text<holds::TextTemplate>>,
    /// What is sent: the file itself.
    #[serde(default)]
    #[schemars(title = "Send the file")]
    send_file: bool,
    /// How long it may take.
    #[schemars(title = "Time-out", extend("default" = "30s"))]
    timeout: Option<Text<holds::Duration>>,
}

/// How long a call may take, unless the book says otherwise.
const TIMEOUT: Duration = Duration::from_secs(30);
const METHODS: [&str; 5] = ["GET", "POST", "PUT", "PATCH", "DELETE"];

/// A call of a web address.
#[derive(Debug, Clone)]
pub struct Call {
    /// The address.
    pub url: Template,
    /// The method, in capitals.
    pub method: String,
    /// Headers that are no secret.
    pub headers: Vec<(String, Template)>,
    /// A bearer token.
    pub token: Option<SecretName>,
    /// What is sent.
    pub body: CallBody,
    /// How long it may take.
    pub limit: Duration,
}

/// What a call sends.
#[derive(Debug, Clone)]
pub enum CallBody {
    /// Nothing.
    Empty,
    /// An object of texts, as JSON.
    Json(Vec<(String, Template)>),
    /// A text.
    Text(Template),
    /// The file in hand.
    File,
}

fn fields(fields: &BTreeMap<String, Text<holds::Template>>) -> Checked<Vec<(String, Template)>> {
    fields.iter().map(|(key, value)| Ok((key.clone(), template(Some(value), "")?))).collect()
}

impl Shape {
    /// The address begins as one does, and what stands in it is no secret and not chosen by a file.
    fn check_host(&self) -> Checked<()> {
        let url = self.url.str();
        let Some((_, rest)) = url.split_once("://").filter(|(scheme, _)| ["https", "http"].contains(scheme)) else {
            return Err(self.url.wrong(format!("\"{url}\" is no web address; it begins with https://")));
        };
        let host = rest.split(['/', '?', '#']).next().unwrap_or("");
        if host.contains('{') || host.contains('@') {
            let words = "a file must not choose whom is called, and no password stands in an address; write the host out, and a token = { secret = \"…\" }";
            return Err(self.url.wrong(words));
        }
        Ok(())
    }

    fn body(&self, here: &Here<'_>) -> Checked<CallBody> {
        match (&self.json, &self.text, self.send_file) {
            (None, None, false) => Ok(CallBody::Empty),
            (Some(json), None, false) => Ok(CallBody::Json(fields(json)?)),
            (None, Some(text), false) => Ok(CallBody::Text(template(Some(text), "")?)),
            (None, None, true) => Ok(CallBody::File),
            (_, text, _) => {
                let words = "a call sends one of json, text and send-file = true";
                Err(text.as_ref().map_or_else(|| here.wrong(words), |text| text.wrong(words)))
            }
        }
    }

    fn method(&self, body: &CallBody) -> Checked<String> {
        let Some(text) = &self.method else {
            return Ok(if matches!(body, CallBody::Empty) { "GET" } else { "POST" }.to_owned());
        };
        let method = text.str().to_ascii_uppercase();
        if !METHODS.contains(&method.as_str()) {
            let words = format!("unknown method \"{}\"; there are get, post, put, patch and delete", text.str());
            return Err(text.wrong(words));
        }
        Ok(method)
    }

    fn check_headers(&self) -> Checked<()> {
        for (name, value) in &self.headers {
            let is_token = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b));
            if !is_token || name.eq_ignore_ascii_case("authorization") {
                let words =
                    format!("\"{name}\" cannot be a header here; a secret goes into token = {{ secret = \"…\" }}");
                return Err(value.wrong(words));
            }
        }
        Ok(())
    }
}

impl Kind for Call {
    type Shape = Shape;

    const GROUP: Group = Group::Tell;
    const EXAMPLE: &'static str =
        r#"call = { url = "https://desk.merrow.example/arrived", json = { name = "{{ file.name }}" } }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        shape.check_host()?;
        let body = shape.body(here)?;
        let method = shape.method(&body)?;
        shape.check_headers()?;
        Ok(Self {
            url: template(Some(&shape.url), "")?,
            method,
            headers: fields(&shape.headers)?,
            token: secret(shape.token.as_ref())?,
            body,
            limit: duration(shape.timeout.as_ref(), TIMEOUT)?,
        })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        match self.body {
            CallBody::File => ("send it", format!("to {} ({})", telling.address(&self.url), self.method)),
            _ => ("call", format!("{} ({})", telling.address(&self.url), self.method)),
        }
    }

    fn templates(&self) -> Vec<&Template> {
        let body: Vec<&Template> = match &self.body {
            CallBody::Json(fields) => fields.iter().map(|(_, value)| value).collect(),
            CallBody::Text(text) => vec![text],
            CallBody::Empty | CallBody::File => Vec::new(),
        };
        self.headers.iter().map(|(_, value)| value).chain([&self.url]).chain(body).collect()
    }

    fn needs_file(&self) -> bool {
        matches!(self.body, CallBody::File)
    }
}
