//! What is arranged: sections and their versions, secrets, keys, settings.

use wetbank_journal::{Journal, KeyRecord};

use crate::{at, open};

fn own(texts: &[(&str, &str)]) -> Vec<(String, String)> {
    texts.iter().map(|(kind, name)| ((*kind).to_owned(), (*name).to_owned())).collect()
}

async fn put(journal: &Journal, kind: &str, name: &str, text: &str, order: &[(&str, &str)], second: i64) {
    let section = (kind.to_owned(), name.to_owned(), text.to_owned());
    journal
        .change_book(vec![section], Vec::new(), own(order), "tove", at(second), Some("agreed by telephone"))
        .await
        .unwrap();
}

async fn names(journal: &Journal) -> Vec<String> {
    journal.sections().await.unwrap().into_iter().map(|section| section.name).collect()
}

#[tokio::test]
async fn sections_stand_in_the_order_of_the_book_and_keep_every_text() {
    let (folder, journal) = open().await;
    put(&journal, "place", "office", "first", &[("place", "office")], 1).await;
    put(&journal, "rule", "keep", "rule 1", &[("rule", "keep"), ("place", "office")], 2).await;
    put(&journal, "rule", "keep", "rule 2", &[("place", "office"), ("rule", "keep")], 3).await;
    assert_eq!(names(&journal).await, ["office", "keep"]);
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    let kept = journal.sections().await.unwrap();
    assert_eq!((kept[1].text.as_str(), kept[1].version, kept[1].changed), ("rule 2", 2, at(3)));
    let versions = journal.versions("rule", "keep").await.unwrap();
    let told: Vec<_> = versions.iter().map(|v| (v.version, v.text.as_deref(), v.who.as_str())).collect();
    assert_eq!(told, [(2, Some("rule 2"), "tove"), (1, Some("rule 1"), "tove")]);
    assert_eq!(journal.version_text("rule", "keep", 1).await.unwrap().as_deref(), Some("rule 1"));
    assert_eq!(journal.version_text("rule", "keep", 9).await.unwrap(), None);
}

#[tokio::test]
async fn a_section_that_is_removed_is_a_version_without_a_text_and_can_come_back() {
    let (_folder, journal) = open().await;
    put(&journal, "rule", "keep", "rule 1", &[("rule", "keep")], 1).await;
    journal.change_book(Vec::new(), own(&[("rule", "keep")]), Vec::new(), "jonas", at(2), None).await.unwrap();
    assert!(names(&journal).await.is_empty());
    put(&journal, "rule", "keep", "rule 3", &[("rule", "keep")], 3).await;
    let versions = journal.versions("rule", "keep").await.unwrap();
    let told: Vec<_> = versions.iter().map(|v| (v.version, v.text.as_deref(), v.who.as_str())).collect();
    assert_eq!(told, [(3, Some("rule 3"), "tove"), (2, None, "jonas"), (1, Some("rule 1"), "tove")]);
    assert_eq!(journal.sections().await.unwrap()[0].version, 3, "its runs point to the text that they ran by");
}

#[tokio::test]
async fn a_rule_that_is_off_stays_off_when_its_text_changes() {
    let (_folder, journal) = open().await;
    put(&journal, "rule", "keep", "rule 1", &[("rule", "keep")], 1).await;
    assert!(journal.sections().await.unwrap()[0].is_on);
    assert!(journal.switch("rule", "keep", false).await.unwrap());
    put(&journal, "rule", "keep", "rule 2", &[("rule", "keep")], 2).await;
    assert!(!journal.sections().await.unwrap()[0].is_on);
    assert!(!journal.switch("rule", "gone", false).await.unwrap());
}

#[tokio::test]
async fn a_text_by_hand_has_one_version_however_often_it_is_kept() {
    let (_folder, journal) = open().await;
    let keep = async |text: &str| journal.keep_text("by-hand", text, "tove", at(1)).await.unwrap();
    assert_eq!([keep("a").await, keep("b").await, keep("a").await, keep("b").await], [1, 2, 1, 2]);
    assert!(names(&journal).await.is_empty(), "it is in no book");
}

#[tokio::test]
async fn secrets_and_keys_are_replaced_and_removed_whole() {
    let (folder, journal) = open().await;
    journal.set_secret("harbour", vec![1, 2], at(1)).await.unwrap();
    journal.set_secret("harbour", vec![3], at(2)).await.unwrap();
    let key = |sealed: Option<Vec<u8>>| KeyRecord {
        name: "harbour".to_owned(),
        fingerprint: "AB".to_owned(),
        certificate: "text".to_owned(),
        sealed,
        changed: at(3),
    };
    journal.set_key(key(Some(vec![7]))).await.unwrap();
    journal.set_key(key(None)).await.unwrap();
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    assert_eq!(journal.secret("harbour").await.unwrap(), Some(vec![3]));
    assert_eq!(journal.secrets().await.unwrap(), [("harbour".to_owned(), at(2))]);
    let keys = journal.keys().await.unwrap();
    assert_eq!((keys.len(), keys[0].sealed.clone()), (1, Some(vec![7])), "a newer certificate keeps the secret part");
    assert!(journal.remove_secret("harbour").await.unwrap() && !journal.remove_secret("harbour").await.unwrap());
    assert!(journal.remove_key("harbour").await.unwrap() && !journal.remove_key("harbour").await.unwrap());
    assert_eq!(journal.secret("harbour").await.unwrap(), None);
}

#[tokio::test]
async fn settings_are_kept_by_name() {
    let (_folder, journal) = open().await;
    assert_eq!(journal.setting("zone").await.unwrap(), None);
    journal.set_setting("zone", "Europe/London").await.unwrap();
    journal.set_setting("zone", "Europe/Oslo").await.unwrap();
    assert_eq!(journal.setting("zone").await.unwrap().as_deref(), Some("Europe/Oslo"));
}

#[tokio::test]
async fn a_place_is_told_from_what_was_so_before_the_asked_time() {
    let (_folder, journal) = open().await;
    let note = async |state, why: Option<&str>, second| {
        let places = vec!["harbour".to_owned(), "archive".to_owned()];
        journal.note_states(places, state, why.map(str::to_owned), at(second)).await.unwrap();
    };
    note("well", None, 0).await;
    note("away", Some("no route"), 100).await;
    note("well", None, 200).await;
    let states = journal.place_states("harbour", at(150)).await.unwrap();
    let told: Vec<_> = states.iter().map(|s| (s.at, s.state.as_str(), s.why.as_deref())).collect();
    assert_eq!(told, [(at(100), "away", Some("no route")), (at(200), "well", None)]);
    assert!(journal.place_states("nowhere", at(0)).await.unwrap().is_empty());
    // Old news are given up: nine days later only what is new is told.
    note("away", Some("dark"), 9 * 86_400).await;
    let later = journal.place_states("harbour", at(0)).await.unwrap();
    assert_eq!(later.iter().map(|s| s.state.as_str()).collect::<Vec<_>>(), ["away"]);
}
