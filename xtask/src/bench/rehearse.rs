//! Rehearsing what came.

use std::fs;

use anyhow::{Context, Result};
use serde_json::Value;

use super::{Figure, Office, silent_wait};

/// Files that came.
const FILES: u64 = 10_000;
/// A rehearsal over them answers in this time, in milliseconds.
const PROMISED: u64 = 2_000;

const RULE: &str = r#"
[rule.keep]
starts = { arrival = { place = "office", folder = "in", names = ["*.csv"] } }

[[rule.keep.branch]]
title = "Large"
if    = { file = "size", over = "1 MB" }
steps = [ { hold = { why = "large" } } ]

[[rule.keep.branch]]
title    = "Readings"
steps    = [ { compress = {} }, { copy = { to = "harbour", folder = "{{ file.modified | date('%Y/%m') }}/{{ file.stem }}" } } ]
original = { move-to = "done" }
"#;

pub(crate) fn rehearse(figures: &mut Vec<Figure>) -> Result<()> {
    let book = format!(
        "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.harbour]\nkind = \"folder\"\nroot = \"@/harbour\"\n{}",
        // One that takes nothing watches, so that everything is on record and stays.
        RULE.replace("rule.keep", "rule.watch").replace("*.csv", "*.none")
    );
    let office = Office::open(&["office/in", "harbour"], &book, &[])?;
    for number in 0..FILES {
        fs::write(office.path(&format!("office/in/gauge-{number:05}.csv")), "7;1.93\n")?;
    }
    let count = || office.wetbank(&["arrival", "keep"], "").ok()?["count"].as_u64();
    silent_wait(|| count().is_some_and(|count| count >= FILES))?;
    let draft = office.path("draft.toml");
    fs::write(&draft, RULE)?;
    let draft = draft.display().to_string();
    let changed = office.path("changed.toml");
    fs::write(&changed, RULE.replace("rule.keep", "rule.watch"))?;
    let changed = changed.display().to_string();
    for (what, words) in [
        ("10,000 files that came, rehearsed", ["rule", "rehearse", "--draft", &draft]),
        ("the same, two versions compared", ["rule", "rehearse", "--draft", &changed]),
    ] {
        let told: Value = office.wetbank(&words, "")?;
        let took = told["took"].as_u64().context("how long it took")?;
        figures.push(Figure {
            what: what.to_owned(),
            ours: format!("{took} ms"),
            theirs: "–".to_owned(),
            ratio: "–".to_owned(),
            promised: "under 2 s",
            kept: took < PROMISED && told["files"] == FILES,
        });
    }
    Ok(())
}
