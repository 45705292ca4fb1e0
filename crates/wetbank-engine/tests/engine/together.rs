//! Files of one run that are done together, and rules that start others.

use std::fs;

use wetbank_core::ItemState;
use wetbank_journal::ItemRecord;

use crate::support::{Office, branch, by_hand};

fn all_done(count: usize) -> impl Fn(&[ItemRecord]) -> bool {
    move |items| items.len() == count && items.iter().all(|item| item.state == ItemState::Done)
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_packed_into_one_and_taken_out_again() {
    let pack = by_hand(
        "",
        "[[rule.keep.branch]]\noriginal = \"delete\"\nsteps = [ { pack = { as = \"readings.zip\" } }, { copy = { to = \"archive\" } } ]",
    );
    let unpack = "[rule.open]\nstarts = { arrival = { place = \"archive\" } }\n[[rule.open.branch]]\nsteps = [ { unpack = {} }, { copy = { to = \"harbour\" } } ]\n";
    let office = Office::new("").await;
    for number in 0..5 {
        office.put(&format!("office/in/{number}.csv"), format!("reading {number}"));
    }
    office.arrange(&format!("{pack}{unpack}")).await;
    office.engine.run_rule("keep", true).await.unwrap();
    // Five and the archive of the one rule; the archive and five of the other.
    office.until("all of them", all_done(12)).await;
    assert!(office.names("office/in").is_empty(), "each original ends after the archive arrived");
    assert_eq!(office.names("harbour").len(), 5);
    assert_eq!(office.read("harbour/3.csv"), "reading 3");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_of_checksums_is_what_sha256sum_reads() {
    let steps = "{ copy = { to = \"archive\" } }, { manifest = {} }, { copy = { to = \"archive\" } }";
    let office = Office::new(&by_hand("", &branch(steps))).await;
    for name in ["a.csv", "b c.csv"] {
        office.put(&format!("office/in/{name}"), name);
    }
    office.engine.run_rule("keep", true).await.unwrap();
    office.until("listed", all_done(3)).await;
    let checked = std::process::Command::new("sha256sum")
        .args(["--check", "--strict", "SHA256SUMS"])
        .current_dir(office.path("archive"))
        .output();
    let checked = checked.unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    fs::write(office.path("archive/a.csv"), "otherwise").unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_without_files_has_nothing_to_do_and_one_that_needs_some_is_held() {
    let office = Office::new(&by_hand("", &branch("{ copy = { to = \"archive\" } }"))).await;
    let run = office.engine.run_rule("keep", true).await.unwrap();
    let ended = async |run: i64| loop {
        let told = office.engine.journal().run(run).await.unwrap().unwrap();
        if matches!(told.state.as_str(), "done" | "held" | "skipped") {
            return told;
        }
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    };
    assert_ne!(ended(run).await.state, "held");
    office
        .arrange(
            &by_hand("", &branch("{ copy = { to = \"archive\" } }"))
                .replace("folder = \"in\" }", "folder = \"in\", least = 2 }"),
        )
        .await;
    office.put("office/in/a.csv", "only one");
    let run = office.engine.run_rule("keep", true).await.unwrap();
    let told = ended(run).await;
    assert_eq!(told.state, "held", "{told:?}");
    assert!(told.why.is_some() || !office.engine.journal().holds(None, 10).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_starts_another_with_what_it_copied_and_a_circle_ends_in_a_hold() {
    let chain = "[rule.on]\nstarts = { chain = { after = [\"copied\"], rules = [\"keep\"] } }\n[[rule.on.branch]]\nsteps = [ { move = { to = \"harbour\", as = \"{{ chain.rule }}-{{ file.name }}\" } } ]\n";
    let office = Office::new(&format!("{}{chain}", by_hand("", &branch("{ copy = { to = \"archive\" } }")))).await;
    office.put("office/in/a.csv", "a");
    office.engine.run_rule("keep", true).await.unwrap();
    office.until("both", all_done(2)).await;
    assert_eq!((office.names("archive").len(), office.read("harbour/keep-a.csv")), (0, "a".to_owned()));

    let rule = |name: &str, other: &str, to: &str| {
        format!(
            "[rule.{name}]\nstarts = {{ chain = {{ after = [\"copied\"], rules = [\"{other}\", \"first\"] }} }}\n\
             [[rule.{name}.branch]]\nsteps = [ {{ copy = {{ to = \"{to}\", exists = \"keep-both\" }} }} ]\n"
        )
    };
    let first = "[rule.first]\nstarts = { hand = {} }\nfinds = [ { place = \"office\", folder = \"in\" } ]\n\
                 [[rule.first.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n";
    let circle = format!("{first}{}{}", rule("here", "there", "harbour"), rule("there", "here", "archive"));
    let office = Office::new(&circle).await;
    office.put("office/in/a.csv", "a");
    office.engine.run_rule("first", true).await.unwrap();
    let items = office.until("held", |items| items.iter().any(|item| item.state == ItemState::Held)).await;
    let held: Vec<_> = items.iter().filter(|item| item.state == ItemState::Held).collect();
    assert!(held[0].why.as_deref().unwrap().contains("circle"), "{:?}", held[0].why);
}
