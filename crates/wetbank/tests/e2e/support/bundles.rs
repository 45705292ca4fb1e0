//! Changes on both sides of a twin, in bundles.

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
};

use super::{
    Office,
    cuts::Way,
    sides::{below, kept},
};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[twin.readings]
near = { place = "office", folder = "in" }
far = { place = "store", folder = "shared" }
way = "both"
settle = "0s"
starts = { change = { look-every = "300ms" } }
"#;

/// Two folders of which everything happens to files that can: each bundle makes files on both sides, changes,
/// deletes and renames what the bundle before brought there, and changes one file on both.
pub struct Bundles {
    office: Office,
    far: PathBuf,
}

fn write(path: &Path, content: &str) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, content).unwrap();
}

impl Bundles {
    pub fn new() -> Self {
        let office = Office::open();
        let far = office.path("store");
        Self::between(office, "[place.store]\nkind = \"folder\"\nroot = \"@/store\"\n", &far)
    }

    /// With a place called `store`, whose root is this folder.
    pub fn between(office: Office, store: &str, root: &Path) -> Self {
        let far = root.join("shared");
        fs::create_dir_all(office.path("office/in")).unwrap();
        fs::create_dir_all(&far).unwrap();
        office.book(&format!("{store}{BOOK}"));
        Self { office, far }
    }

    fn near(&self) -> PathBuf {
        self.office.path("office/in")
    }

    fn far(&self) -> PathBuf {
        self.far.clone()
    }

    /// Both sides are alike, and no content is gone that a bundle ever had.
    pub fn check(&self, bundles: usize) {
        let (near, far) = (below(&self.near()), below(&self.far()));
        assert_eq!(near, far);
        let there = near.into_values().chain(kept(&self.near())).chain(kept(&self.far()));
        let there: BTreeSet<String> = there.map(|content| String::from_utf8(content).unwrap()).collect();
        for number in 0..bundles {
            let before = ["deleted", "changed", "renamed"].map(|name| format!("{name} {number}"));
            let after = ["new here", "new there"].map(|name| format!("{name} {number}"));
            for content in before.into_iter().chain(after) {
                assert!(there.contains(&content), "{content} is gone: {there:?}");
            }
        }
        for number in 1..bundles {
            let changed = ["changed there", "both here", "both there"];
            for content in changed.map(|name| format!("{name} {number}")) {
                assert!(there.contains(&content), "{content} is gone: {there:?}");
            }
        }
        let aside = super::leftovers(&self.near()).into_iter().chain(super::leftovers(&self.far()));
        let aside: Vec<PathBuf> = aside.filter(|path| !path.to_string_lossy().ends_with(".mark")).collect();
        assert!(aside.is_empty(), "{aside:?}");
    }
}

impl Way for Bundles {
    fn office(&mut self) -> &mut Office {
        &mut self.office
    }

    fn put(&self, number: usize) {
        let (near, far) = (self.near(), self.far());
        if number > 0 {
            fs::remove_file(near.join(format!("deleted {number}"))).unwrap();
            write(&far.join(format!("deep/er/changed {number}")), &format!("changed there {number}"));
            fs::create_dir_all(near.join("moved")).unwrap();
            fs::rename(near.join(format!("renamed {number}")), near.join(format!("moved/renamed {number}"))).unwrap();
            write(&near.join(format!("both {number}")), &format!("both here {number}"));
            write(&far.join(format!("both {number}")), &format!("both there {number}"));
        }
        write(&near.join(format!("new here {number}")), &format!("new here {number}"));
        write(&far.join(format!("new there {number}")), &format!("new there {number}"));
        if number == 0 {
            for name in ["deleted", "deep/er/changed", "renamed", "both"] {
                let content = format!("{} 0", name.trim_start_matches("deep/er/"));
                write(&near.join(format!("{name} 0")), &content);
            }
        }
        // What the next one changes has to be on both sides before.
        let next = number + 1;
        for name in ["deleted", "deep/er/changed", "renamed", "both"] {
            let content = format!("{} {next}", name.trim_start_matches("deep/er/"));
            write(&near.join(format!("{name} {next}")), &content);
        }
    }

    fn is_through(&self, bundles: usize) -> bool {
        let (near, far) = (below(&self.near()), below(&self.far()));
        let number = bundles - 1;
        let there = [format!("new here {number}"), format!("new there {number}"), format!("both {bundles}")];
        let gone = [format!("deleted {number}"), format!("renamed {number}")];
        let is_done = number == 0 || gone.iter().all(|name| !far.contains_key(name));
        // What the next one changes has to be on record as alike, which a service that was cut off cannot say.
        let is_known = || {
            let shown = self.office.wetbank(&["--json", "twin", "show", "readings"]);
            let shown: serde_json::Value = serde_json::from_slice(&shown.stdout).unwrap_or_default();
            shown["state"] == "alike"
        };
        near == far && there.iter().all(|name| near.contains_key(name)) && is_done && is_known()
    }
}
