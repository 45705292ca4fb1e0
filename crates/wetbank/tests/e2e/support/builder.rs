//! Arranging by hand in the console, as somebody who never saw the book.

use thirtyfour::prelude::*;

use super::{Office, browser::Browser};

impl Browser {
    /// Adds a place of this kind with its form; each field is found by its label. Secrets are typed here, too.
    pub async fn add_place(&self, office: &Office, kind: &str, name: &str, fields: &[(&str, &str)]) {
        self.go(office, "/places/new").await;
        self.click(&format!("//label[contains(., '{kind}')]/input")).await;
        self.fill("Name", name).await;
        for (label, value) in fields {
            self.fill(label, value).await;
        }
        self.press("Add and test").await;
        self.find(&format!("//h1[contains(., '{name}')]")).await;
    }

    /// Confirms what a server of the open place showed of itself.
    pub async fn confirm_identity(&self) {
        let shown =
            self.find("//section[@aria-label='Test']//span[starts-with(., 'SHA256:')]").await.text().await.unwrap();
        self.click("//button[contains(., 'Confirm this')]").await;
        self.until(&format!(
            "return !document.querySelector('[aria-label=\"Test\"]').textContent.includes('{shown}');"
        ))
        .await;
    }

    /// Opens an empty rule.
    pub async fn new_rule(&self, office: &Office, name: &str) {
        self.go(office, "/rules/new?from=nothing").await;
        self.fill("Name", name).await;
    }

    /// A file that comes into a folder starts it.
    pub async fn starts_when_a_file_comes(&self, place: &str, folder: &[&str], names: &str) {
        self.press("What starts it").await;
        self.press("Add: A file comes").await;
        self.pick("Place", place).await;
        self.browse("Folder", folder).await;
        if !names.is_empty() {
            self.fill("Named", names).await;
        }
    }

    /// It looks for files when it starts.
    pub async fn looks_for(&self, place: &str, folder: &[&str], names: &str) {
        self.press("Which files it looks for").await;
        self.press("Add to Finds").await;
        self.pick("Place", place).await;
        self.browse("Folder", folder).await;
        if !names.is_empty() {
            self.fill("Named", names).await;
        }
    }

    /// Picks a folder by going there.
    pub async fn browse(&self, label: &str, folder: &[&str]) {
        if folder.is_empty() {
            return;
        }
        self.press(&format!("Browse for {label}")).await;
        for part in folder {
            self.click(&format!("//dialog[@open]//td//button[contains(., '{part}')]")).await;
        }
        self.click(&format!("//dialog[@open]//button[contains(., 'Take') and contains(., '{}')]", folder.join("/")))
            .await;
    }

    /// Puts a step at the end of a branch; it is open then.
    pub async fn add_step(&self, branch: usize, at: usize, kind: &str) {
        self.press(&format!("Add a step to branch {branch}, as step {at}")).await;
        self.click(&format!("//dialog[@open]//button[contains(., '{kind}')]")).await;
    }

    /// Picks a placeholder for a field.
    pub async fn insert(&self, label: &str, title: &str) {
        self.press(&format!("Insert into {label}")).await;
        self.click(&format!("//dialog[@aria-label='Insert']//button[contains(., \"{title}\")]")).await;
    }

    /// Puts what is open in force.
    pub async fn put_in_force(&self) {
        self.press("Put in force").await;
        self.until("return !document.querySelector('[aria-label=\"Not in force yet\"]');").await;
    }
}

impl Browser {
    /// Ticks one of several that there are to pick from.
    pub async fn tick(&self, of: &str, what: &str) {
        self.click(&format!("//fieldset[legend='{of}']//label[contains(normalize-space(.), '{what}')]/input")).await;
    }

    /// Picks from a list that stands in a part of the form.
    pub async fn pick_in(&self, part: &str, label: &str, value: &str) {
        let select = format!("{}//div[label[starts-with(normalize-space(.), '{label}')]]//select", of(part));
        self.click(&format!("{select}/option[@value='{value}']")).await;
    }

    /// Types into a field with placeholders that stands in a part of the form.
    pub async fn fill_in(&self, part: &str, label: &str, text: &str) {
        let path = format!("{}//*[@role='textbox' and @aria-label='{label}']", of(part));
        self.click(&path).await;
        self.find(&path).await.send_keys(text).await.unwrap();
    }

    /// Picks a placeholder for it.
    pub async fn insert_in(&self, part: &str, label: &str, title: &str) {
        self.click(&format!("{}//button[@aria-label='Insert into {label}']", of(part))).await;
        self.click(&format!("//dialog[@aria-label='Insert']//button[contains(., \"{title}\")]")).await;
    }
}

impl Browser {
    /// What stands in the editor of a section's text.
    pub async fn book_text(&self, label: &str) -> String {
        self.find(&format!("//*[contains(@class, 'cm-content') and @aria-label='{label}']")).await;
        let words = "return [...document.querySelectorAll('.cm-line')].map((line) => line.textContent).join('\\n')";
        self.driver.execute(words, Vec::new()).await.unwrap().json().as_str().unwrap().to_owned()
    }

    /// Types another one in its place.
    pub async fn type_book(&self, label: &str, text: &str) {
        let content = self.find(&format!("//*[contains(@class, 'cm-content') and @aria-label='{label}']")).await;
        content.click().await.unwrap();
        content.send_keys(Key::Control + "a").await.unwrap();
        content.send_keys(text).await.unwrap();
    }
}

fn of(part: &str) -> String {
    format!("//fieldset[@aria-label='{part}' or legend='{part}']")
}
