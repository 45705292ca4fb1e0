//! A real browser, driven as a person would.

use std::{
    process::Command,
    time::{Duration, Instant},
};

use tempfile::TempDir;
use thirtyfour::{ChromiumLikeCapabilities, prelude::*};
use wetbank_testbed::{Server, free_port};

use super::Office;

/// A window with the console in it.
pub struct Browser {
    pub driver: WebDriver,
    _profile: TempDir,
    // With it end the browsers that it started, also when a test fails.
    _process: Server,
}

impl Browser {
    pub async fn open() -> Self {
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
        let driver = WebDriver::new(format!("http://127.0.0.1:{port}"), wanted).await.unwrap();
        Self { driver, _profile: profile, _process: process }
    }

    pub async fn sign_in(&self, office: &Office) {
        self.driver.goto(office.url()).await.unwrap();
        self.find("//h1[text()='Sign in to Wetbank']").await;
        self.find("//input[@type='password']").await.send_keys(office.token()).await.unwrap();
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
        self.find(path).await.click().await.unwrap();
    }

    pub async fn text(&self) -> String {
        self.driver.find(By::Tag("main")).await.unwrap().text().await.unwrap()
    }
}
