//! A file that takes the name of another version: until it lies there whole, the other one has the name.

use std::fs;

use wetbank_core::{
    Cause,
    twin::{Choices, Pair, Twin, Way},
};
use wetbank_engine::Passing;

use crate::{
    support::{Office, file},
    twins::{kept, twin},
};

/// A place to which a file of this length takes some seconds.
const SLOW: &str = "[place.slow]\nkind = \"folder\"\nroot = \"@/slow\"\nrate = \"200 kB/s\"\n";
const LONG: usize = 600_000;

/// Both sides have a small file, and the near one has a long one of its name now.
async fn about_to_replace(way: Way) -> (Office, Twin) {
    let office = Office::new("").await;
    fs::create_dir(office.path("slow")).unwrap();
    office.arrange(SLOW).await;
    let twin = Twin { folders: Pair { near: file("office:/in"), far: file("slow:/") }, ..twin(way) };
    office.put("office/in/map.bin", "as it was");
    office.engine.pass(&twin, Cause::Hand, &Choices::default()).await.unwrap();
    assert_eq!(read(&office), b"as it was");
    office.put("office/in/map.bin", vec![7; LONG]);
    (office, twin)
}

fn read(office: &Office) -> Vec<u8> {
    fs::read(office.path("slow/map.bin")).expect("it has its name")
}

/// Whether a part of the long one is there under another name.
fn travels(office: &Office) -> bool {
    let names = fs::read_dir(office.path("slow")).unwrap().map(|entry| entry.unwrap());
    names.filter(|entry| entry.file_type().unwrap().is_file()).any(|entry| {
        entry.file_name().to_string_lossy().starts_with(".wetbank-") && entry.metadata().unwrap().len() > 0
    })
}

/// A pass that is on its way with the long one.
async fn on_its_way(office: &Office, twin: &Twin) -> tokio::task::JoinHandle<Passing> {
    let (engine, twin) = (office.engine.clone(), twin.clone());
    let pass = tokio::spawn(async move { engine.pass(&twin, Cause::Hand, &Choices::default()).await.unwrap() });
    office.until("it to travel", |_| travels(office)).await;
    pass
}

#[tokio::test(flavor = "multi_thread")]
async fn the_version_before_has_the_name_while_the_next_one_travels() {
    let (office, twin) = about_to_replace(Way::Update).await;
    let pass = on_its_way(&office, &twin).await;
    assert_eq!(read(&office), b"as it was", "whoever reads it now finds it");
    assert!(kept(&office, "slow").is_empty());
    pass.await.unwrap();
    assert!(read(&office) == vec![7; LONG] && !travels(&office));
    assert_eq!(kept(&office, "slow"), ["as it was"]);
    assert_eq!(office.engine.pass(&twin, Cause::Hand, &Choices::default()).await.unwrap().run, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_that_changed_each_has_a_name_while_one_travels() {
    let (office, twin) = about_to_replace(Way::Both).await;
    office.put("slow/map.bin", "changed there");
    let pass = on_its_way(&office, &twin).await;
    assert_eq!(read(&office), b"changed there");
    pass.await.unwrap();
    assert!(read(&office) == vec![7; LONG] && !travels(&office));
    let names = office.names("slow");
    assert!(names.iter().any(|name| name.starts_with("map (far ")), "{names:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_changes_while_its_successor_travels_stays_and_nothing_is_left_beside_it() {
    let (office, twin) = about_to_replace(Way::Update).await;
    let pass = on_its_way(&office, &twin).await;
    office.put("slow/map.bin", "changed meanwhile");
    assert_eq!(pass.await.unwrap().left, 1, "the next pass plans it anew");
    assert_eq!(read(&office), b"changed meanwhile");
    assert!(!travels(&office) && kept(&office, "slow").is_empty());
}
