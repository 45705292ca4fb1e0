//! A real browser, driven as a person would.

use std::{
    process::Command,
    time::{Duration, Instant},
};

use tempfile::TempDir;
use thirtyfour::{ChromiumLikeCapabilities, error::WebDriverErrorInner, prelude::*};
use wetbank_testbed::{Server, free_port};

use super::{Office, people::behind};

/// A window with the console in it.
pub struct Browser {
    pub driver: WebDriver,
    _profile: TempDir,
    // With it end the browsers that it started, also when a test fails.
    _process: Server,
}

impl Browser {
    pub async fn open() -> Self {
        Self::open_with(&[]).await
    }

    /// The same with further words to the browser.
    pub async fn open_with(words: &[&str]) -> Self {
        let port = free_port();
        let process = Server::start(Command::new("chromedriver").arg(format!("--port={port}")), port);
        let profile = TempDir::new().unwrap();
        let mut wanted = DesiredCapabilities::chrome();
        for word in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,800",
            &format!("--user-data-dir={}", profile.path().display()),
        ] {
            wanted.add_arg(word).unwrap();
        }
        for word in words {
            wanted.add_arg(word).unwrap();
        }
        let driver = WebDriver::new(format!("http://127.0.0.1:{port}"), wanted).await.unwrap();
        Self { driver, _profile: profile, _process: process }
    }

    /// Signs in as whoever may read the data folder, by a link that is made for that.
    pub async fn sign_in(&self, office: &Office) {
        let made = office.json(&["link"]);
        let link = behind(made["address"].as_str().unwrap());
        self.driver.goto(format!("{}/sign-in#{link}", office.url())).await.unwrap();
        self.click("//button[text()='Sign in']").await;
        self.find("//nav[@aria-label='Pages']").await;
    }

    /// Waits for an element.
    pub async fn find(&self, path: &str) -> WebElement {
        let end = Instant::now() + Duration::from_secs(30);
        loop {
            if let Ok(found) = self.driver.find(By::XPath(path)).await
                && found.is_displayed().await.unwrap_or(false)
            {
                return found;
            }
            if Instant::now() > end {
                let page = self.driver.find(By::Tag("body")).await.unwrap().text().await.unwrap_or_default();
                panic!("never on the page: {path}\n{page}");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    pub async fn click(&self, path: &str) {
        let end = Instant::now() + Duration::from_secs(30);
        while let Err(error) = self.click_on(&self.find(path).await).await {
            // The page drew it anew between the look and the click: a person would click the one that is there.
            let is_stale = matches!(error.as_inner(), WebDriverErrorInner::StaleElementReference(_));
            assert!(is_stale && Instant::now() < end, "{path} cannot be clicked: {error}");
        }
    }

    /// Clicks where it can be seen: not behind what stays at the page's end.
    async fn click_on(&self, element: &WebElement) -> WebDriverResult<()> {
        let words = "arguments[0].scrollIntoView({ block: 'center' })";
        self.driver.execute(words, vec![element.to_json()?]).await?;
        element.click().await
    }

    pub async fn text(&self) -> String {
        self.driver.find(By::Tag("main")).await.unwrap().text().await.unwrap()
    }
}

/// Finds what a person would: the input of a label, or what is called so for those who hear the page.
const BY_LABEL: &str = "
    const [label] = arguments;
    const seen = (one) => one && one.getClientRects().length > 0;
    const words = (one) => one.textContent.replace(/\\s+/g, ' ').trim();
    const named = [...document.querySelectorAll('[aria-label]')].find((one) => one.getAttribute('aria-label') === label && seen(one));
    if (named) return named;
    const labels = [...document.querySelectorAll('label')].filter(seen);
    const found = labels.find((one) => [label, `${label} needed`].includes(words(one))) ?? labels.find((one) => words(one).startsWith(label));
    return found ? (found.control ?? document.getElementById(found.htmlFor)) : null;
";

impl Browser {
    /// The field with this label.
    pub async fn field(&self, label: &str) -> WebElement {
        let end = Instant::now() + Duration::from_secs(30);
        loop {
            let found = self.driver.execute(BY_LABEL, vec![label.into()]).await.unwrap();
            if let Ok(found) = found.element() {
                return found;
            }
            assert!(Instant::now() < end, "no field is called {label:?}:\n{}", self.text().await);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Types into the field with this label, in place of what is in it.
    pub async fn fill(&self, label: &str, text: &str) {
        let field = self.field(label).await;
        self.click_on(&field).await.unwrap();
        field.send_keys(Key::Control + "a").await.unwrap();
        field.send_keys(Key::Delete + text).await.unwrap();
    }

    /// Picks from the list with this label.
    pub async fn pick(&self, label: &str, value: &str) {
        let path = format!("./option[@value='{value}']");
        let end = Instant::now() + Duration::from_secs(30);
        loop {
            // What there is to pick from may still be on its way.
            if let Ok(option) = self.field(label).await.find(By::XPath(&path)).await {
                return option.click().await.unwrap();
            }
            assert!(Instant::now() < end, "{label} never had {value}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Presses the button that is called so.
    pub async fn press(&self, name: &str) {
        let mut named = format!("@aria-label='{name}' or normalize-space(.)='{name}'");
        // What is only heard comes first in some names, and what is only seen later.
        let begin = if name.contains(':') { name.to_owned() } else { format!("{name}:") };
        named.push_str(&format!(" or starts-with(normalize-space(.), '{begin}')"));
        self.click(&format!("//button[({named}) and not(@disabled)]")).await;
    }

    pub async fn go(&self, office: &Office, path: &str) {
        self.driver.goto(format!("{}{path}", office.url())).await.unwrap();
    }
}
