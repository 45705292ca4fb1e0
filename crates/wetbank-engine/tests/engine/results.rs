//! What steps make of a file: it is the next step's file, and nothing of it stays in the work folder.

use std::fs;

use wetbank_core::ItemState;

use crate::support::{Office, branch, by_hand};

async fn done(steps: &str, name: &str, content: impl AsRef<[u8]>) -> Office {
    let office = Office::new(&by_hand("", &branch(steps))).await;
    office.put(&format!("office/in/{name}"), content);
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Done, "{:?}", item.why);
    let left = || fs::read_dir(office.path("data/work")).map_or(0, Iterator::count);
    for _ in 0..200 {
        if left() == 0 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    assert_eq!(left(), 0, "something stays in the work folder");
    office
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_compressed_is_the_next_steps_file_and_expands_to_what_it_was() {
    for (with, ending) in [("gzip", "gz"), ("zstd", "zst")] {
        let text = "06:00;1.20\n".repeat(5_000);
        let steps = format!(
            "{{ compress = {{ with = \"{with}\" }} }}, {{ copy = {{ to = \"archive\" }} }}, {{ expand = {{ as = \"again.csv\" }} }}, {{ copy = {{ to = \"harbour\" }} }}"
        );
        let office = done(&steps, "a.csv", &text).await;
        assert_eq!(office.names("archive"), [format!("a.csv.{ending}")]);
        assert!(fs::metadata(office.path(&format!("archive/a.csv.{ending}"))).unwrap().len() < 1_000);
        assert_eq!(office.read("harbour/again.csv"), text);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_of_no_bytes_is_a_file() {
    let office = done("{ compress = {} }, { expand = {} }, { copy = { to = \"archive\" } }", "empty.csv", "").await;
    assert_eq!(office.read("archive/empty.csv"), "");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_archive_is_held_and_says_so() {
    let office = Office::new(&by_hand("", &branch("{ expand = {} }, { copy = { to = \"archive\" } }"))).await;
    office.put("office/in/a.csv.gz", "this was never compressed");
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Held);
    assert!(item.why.is_some());
    assert!(office.names("archive").is_empty());
    assert_eq!(office.read("office/in/a.csv.gz"), "this was never compressed");
}

#[tokio::test(flavor = "multi_thread")]
async fn more_than_may_come_out_of_it_is_held() {
    let packed = done("{ compress = {} }, { copy = { to = \"archive\" } }", "a.csv", vec![0; 3_000_000]).await;
    let bomb = fs::read(packed.path("archive/a.csv.gz")).unwrap();
    let office =
        Office::new(&by_hand("", &branch("{ expand = { most = \"1 MB\" } }, { copy = { to = \"archive\" } }"))).await;
    office.put("office/in/a.csv.gz", bomb);
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Held);
    assert_eq!(office.engine.journal().hold(item.id).await.unwrap().as_deref(), Some("too-large"));
    assert!(office.names("archive").is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn text_is_converted_and_what_cannot_be_is_held() {
    let step = "{ convert-text = { to = \"windows-1252\", lines = \"cr-lf\" } }, { copy = { to = \"archive\" } }";
    let office = done(step, "a.csv", "Höhe\n1,20 €\n").await;
    assert_eq!(fs::read(office.path("archive/a.csv")).unwrap(), b"H\xF6he\r\n1,20 \x80\r\n");
    let office = Office::new(&by_hand("", &branch(step))).await;
    office.put("office/in/a.csv", "水位\n");
    assert_eq!(office.run(1).await[0].state, ItemState::Held);
    assert!(office.names("archive").is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_passphrase_seals_and_opens() {
    let office = Office::new("").await;
    office.engine.set_secret("tides", &"grey heron".into()).await.unwrap();
    let steps = "{ encrypt = { passphrase = { secret = \"tides\" } } }, { copy = { to = \"archive\" } }, { decrypt = { passphrase = { secret = \"tides\" }, as = \"plain.csv\" } }, { copy = { to = \"harbour\" } }";
    office.arrange(&by_hand("", &branch(steps))).await;
    office.put("office/in/a.csv", "06:00;1.20");
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Done, "{:?}", item.why);
    assert_eq!(office.names("archive"), ["a.csv.pgp"]);
    let sealed = fs::read(office.path("archive/a.csv.pgp")).unwrap();
    assert!(!sealed.windows(5).any(|part| part == b"06:00"));
    assert_eq!(office.read("harbour/plain.csv"), "06:00;1.20");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_taken_name_is_refused_replaced_kept_beside_or_skipped() {
    for (exists, state, left) in [
        ("refuse", ItemState::Held, vec!["a.csv"]),
        ("replace", ItemState::Done, vec!["a.csv"]),
        ("keep-both", ItemState::Done, vec!["a (2).csv", "a.csv"]),
        ("skip-same", ItemState::Held, vec!["a.csv"]),
    ] {
        let step = format!("{{ copy = {{ to = \"archive\", exists = \"{exists}\" }} }}");
        let office = Office::new(&by_hand("", &branch(&step))).await;
        office.put("archive/a.csv", "theirs");
        office.put("office/in/a.csv", "ours");
        assert_eq!(office.run(1).await[0].state, state, "{exists}");
        assert_eq!(office.names("archive"), left, "{exists}");
        let kept = if exists == "replace" { "ours" } else { "theirs" };
        assert_eq!(office.read("archive/a.csv"), kept, "{exists}");
    }
    let office = Office::new(&by_hand("", &branch("{ copy = { to = \"archive\", exists = \"skip-same\" } }"))).await;
    office.put("archive/a.csv", "the same");
    office.put("office/in/a.csv", "the same");
    assert_eq!(office.run(1).await[0].state, ItemState::Done);
    assert_eq!(office.names("archive"), ["a.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_goes_through_with_its_holes_and_its_bytes() {
    let mut content = vec![0_u8; 1 << 20];
    content[500_000] = 7;
    let office = done("{ copy = { to = \"archive\" } }", "holes.bin", &content).await;
    assert!(fs::read(office.path("archive/holes.bin")).unwrap() == content);
}
