//! What is committed is folded into the file while the writer goes on.

use std::{fs, time::Duration};

use wetbank_core::Cause;

use super::*;

#[tokio::test]
async fn what_is_written_comes_into_the_file_without_the_writer_and_nothing_is_left_beside_it() {
    let (folder, journal) = open().await;
    let size = |name: &str| fs::metadata(folder.path().join(name)).map_or(0, |file| file.len());
    for batch in 0..60 {
        let sightings = (0..250).map(|file| sighting(&format!("office:/{batch}/{file}.csv"), "1")).collect();
        journal.take_in(sightings, Cause::Arrival, at(0)).await.unwrap();
    }
    // Nobody closes or asks for anything.
    let deadline = std::time::Instant::now() + Duration::from_secs(20);
    while size("journal.db") < 3 << 20 {
        assert!(std::time::Instant::now() < deadline, "{} bytes", size("journal.db"));
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    journal.close().await;
    assert_eq!(size("journal.db-wal"), 0);
    assert_eq!(
        Journal::open(folder.path())
            .await
            .unwrap()
            .open_counts()
            .await
            .unwrap()
            .iter()
            .map(|count| count.count)
            .sum::<i64>(),
        15_000
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn however_long_it_is_written_without_a_pause_what_lies_beside_the_file_stays_small() {
    let (folder, journal) = open().await;
    let mut longest = 0;
    let writers = (0..4).map(|writer| {
        let journal = &journal;
        async move {
            for batch in 0..60 {
                let name = |file: i32| format!("office:/{writer}-{batch}/{file}.csv");
                let sightings = (0..100).map(|file| sighting(&name(file), "1")).collect();
                journal.take_in(sightings, Cause::Arrival, at(0)).await.unwrap();
            }
        }
    });
    let log = folder.path().join("journal.db-wal");
    let watch = async {
        loop {
            longest = longest.max(fs::metadata(&log).map_or(0, |file| file.len()));
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    tokio::select! {
        _ = futures_util::future::join_all(writers) => {}
        () = watch => {}
    }
    assert!(longest > 1 << 20, "{longest} bytes are too few to tell anything");
    assert!(longest < 16 << 20, "{longest} bytes wait to be folded");
}
