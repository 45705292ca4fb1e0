//! Just enough of the WebDriver protocol to look at a page once it is there.

use std::{
    io::{BufRead, BufReader, Read, Write},
    net::{TcpListener, TcpStream},
    path::Path,
    process::{Child, Command, Stdio},
    thread::sleep,
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use serde_json::{Value, json};
use tempfile::TempDir;

/// A page is there within this time, or never.
const PATIENCE: Duration = Duration::from_secs(20);
/// What still moves has come to rest after this time.
const REST: Duration = Duration::from_millis(1500);

/// A headless browser.
pub struct Browser {
    driver: Child,
    port: u16,
    session: String,
    _profile: TempDir,
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.call("DELETE", "", &Value::Null);
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

impl Browser {
    /// Opens a window of 1280×800 that prefers light or dark colours.
    pub fn open(dark: bool) -> Result<Self> {
        let port = TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("chromedriver cannot be started")?;
        let profile = tempfile::tempdir()?;
        let mut browser = Self { driver, port, session: String::new(), _profile: profile };
        let end = Instant::now() + PATIENCE;
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            if Instant::now() > end {
                bail!("chromedriver does not listen");
            }
            sleep(Duration::from_millis(50));
        }
        let mut words: Vec<String> =
            "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --hide-scrollbars \
             --disable-background-networking --disable-component-update --disable-sync --window-size=1280,943"
                .split_whitespace()
                .map(str::to_owned)
                .collect();
        words.push(format!("--user-data-dir={}", browser._profile.path().display()));
        words.push(format!("--blink-settings=preferredColorScheme={}", if dark { 0 } else { 1 }));
        let wanted = json!({ "capabilities": { "alwaysMatch": { "goog:chromeOptions": { "args": words } } } });
        let opened = browser.call("POST", "", &wanted)?;
        browser.session = format!("/{}", opened["sessionId"].as_str().context("a session")?);
        Ok(browser)
    }

    /// Goes to an address and waits until the page says what it has to say.
    pub fn go(&self, address: &str) -> Result<()> {
        self.call("POST", "/url", &json!({ "url": address }))?;
        let end = Instant::now() + PATIENCE;
        let ready =
            "return document.querySelector('main h1') !== null && !document.body.innerText.includes('Loading…')";
        while self.call("POST", "/execute/sync", &json!({ "script": ready, "args": [] }))? != true {
            if Instant::now() > end {
                bail!("{address} never shows anything");
            }
            sleep(Duration::from_millis(100));
        }
        sleep(REST);
        Ok(())
    }

    /// Clicks on the first element that a selector finds, and waits until the page has come to rest.
    pub fn click(&self, selector: &str) -> Result<()> {
        self.call(
            "POST",
            "/execute/sync",
            &json!({ "script": "document.querySelector(arguments[0]).click()", "args": [selector] }),
        )?;
        sleep(REST);
        Ok(())
    }

    /// Puts a picture of the window into a file.
    pub fn picture(&self, file: &Path) -> Result<()> {
        let picture = self.call("GET", "/screenshot", &Value::Null)?;
        let mut decoder =
            Command::new("base64").arg("-d").stdin(Stdio::piped()).stdout(std::fs::File::create(file)?).spawn()?;
        decoder.stdin.take().context("a pipe")?.write_all(picture.as_str().context("a picture")?.as_bytes())?;
        if !decoder.wait()?.success() {
            bail!("the picture cannot be read");
        }
        Ok(())
    }

    fn call(&self, method: &str, path: &str, body: &Value) -> Result<Value> {
        let body = if body.is_null() { String::new() } else { body.to_string() };
        let mut stream = TcpStream::connect(("127.0.0.1", self.port))?;
        write!(
            stream,
            "{method} /session{}{path} HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
            self.session,
            body.len()
        )?;
        // It keeps the connection open whatever we ask, so only the length tells the end.
        stream.set_read_timeout(Some(PATIENCE))?;
        let mut reader = BufReader::new(stream);
        let (mut line, mut length) = (String::new(), 0);
        while reader.read_line(&mut line)? > 2 {
            if let Some(value) = line.to_ascii_lowercase().strip_prefix("content-length:") {
                length = value.trim().parse()?;
            }
            line.clear();
        }
        let mut body = vec![0; length];
        reader.read_exact(&mut body)?;
        let mut answer: Value = serde_json::from_slice(&body)?;
        let value = answer["value"].take();
        if let Some(error) = value.get("error").and_then(Value::as_str) {
            bail!("the browser: {error}: {}", value["message"].as_str().unwrap_or_default());
        }
        Ok(value)
    }
}
