//! A run that is stopped, and an engine that stops: what was begun is on record and goes on.

use std::time::Duration;

use wetbank_core::ItemState;
use wetbank_engine::{Engine, EngineOptions};
use wetbank_journal::ItemRecord;

use crate::support::{Office, branch, by_hand};

/// So slow that a file of this length takes some seconds.
const LONG: usize = 800_000;
const SLOW: &str = "[place.slow]\nkind = \"folder\"\nroot = \"@/slow\"\nrate = \"200 kB/s\"\n";

async fn slowly() -> Office {
    let office = Office::new("").await;
    std::fs::create_dir(office.path("slow")).unwrap();
    office.put("office/in/a.bin", vec![7; LONG]);
    office.arrange(&format!("{SLOW}{}", by_hand("", &branch("{ copy = { to = \"slow\" } }")))).await;
    office
}

fn works(items: &[ItemRecord]) -> bool {
    items.len() == 1 && items[0].state == ItemState::Working
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_is_stopped_in_the_middle_of_a_file_holds_it_and_leaves_no_half() {
    let office = slowly().await;
    let run = office.engine.run_rule("keep", true).await.unwrap();
    office.until("at work", works).await;
    let told = office.engine.stop_run(run).await.unwrap();
    assert_eq!(told.held + told.stopping, 1, "{told:?}");
    let item = office.only().await;
    assert_eq!(item.state, ItemState::Held);
    assert!(!office.is_there("slow/a.bin"), "half a file never has its name");
    assert_eq!(std::fs::metadata(office.path("office/in/a.bin")).unwrap().len(), LONG as u64);
    assert!(office.engine.stop_run(run).await.is_err(), "nothing is going any more");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_going_on_is_told_while_it_goes() {
    let office = slowly().await;
    let run = office.engine.run_rule("keep", true).await.unwrap();
    office.until("at work", works).await;
    let end = std::time::Instant::now() + Duration::from_secs(20);
    while office.engine.moving().is_empty() {
        assert!(std::time::Instant::now() < end, "nothing is told");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    office.engine.stop_run(run).await.unwrap();
    office.only().await;
    assert!(office.engine.moving().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engine_that_stops_leaves_its_work_to_the_next_one() {
    let office = slowly().await;
    office.engine.run_rule("keep", true).await.unwrap();
    office.until("at work", works).await;
    office.engine.stop().await;
    assert!(!office.is_there("slow/a.bin"));
    let Office { folder, engine } = office;
    drop(engine);
    let options = EngineOptions { data: folder.path().join("data"), programs: None, new_vault_key: false };
    let office = Office { engine: Engine::start(options).await.unwrap(), folder };
    assert_eq!(office.only().await.state, ItemState::Done);
    assert_eq!(std::fs::read(office.path("slow/a.bin")).unwrap(), vec![7; LONG]);
    assert_eq!(office.names("slow"), ["a.bin"], "and nothing beside it");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_engines_never_share_a_data_folder() {
    let office = Office::new("").await;
    let options = EngineOptions { data: office.path("data"), programs: None, new_vault_key: false };
    let refused = Engine::start(options).await.unwrap_err().to_string();
    assert!(refused.contains("data"), "{refused}");
}
