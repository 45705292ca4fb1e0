//! Files and folders as nobody expects them: nothing is lost, and what cannot be done is told with its cause.

use std::{
    fs,
    os::unix::fs::symlink,
    time::{Duration, SystemTime},
};

use rustix::fs::{CWD, Mode, mkfifoat};
use wetbank_core::ItemState;

use crate::support::{Office, branch, by_hand, on_arrival};

const COPY: &str = "{ copy = { to = \"archive\" } }";

/// A name of as many bytes as a name can have.
fn longest(end: &str) -> String {
    format!("{}{end}", "n".repeat(255 - end.len()))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_as_long_as_a_name_can_be_goes_through() {
    let office = Office::new(&on_arrival(&(branch(COPY) + "\noriginal = \"delete\""))).await;
    let name = longest(".csv");
    office.put(&format!("office/in/{name}"), "levels");
    assert_eq!(office.only().await.state, ItemState::Done);
    assert_eq!((office.read(&format!("archive/{name}")), office.names("office/in").len()), ("levels".to_owned(), 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_a_step_makes_too_long_is_held_and_the_file_stays() {
    for (steps, is_done) in [
        ("{ compress = {} }, { copy = { to = \"archive\" } }", false),
        ("{ copy = { to = \"archive\", as = \"{{ file.name }}-{{ today }}\" } }", false),
        // The name is made to fit, and still tells what it is.
        ("{ copy = { to = \"archive\", as = \"{{ file.name }}-{{ today }}\", fit-name = true } }", true),
    ] {
        let office = Office::new(&on_arrival(&(branch(steps) + "\noriginal = \"delete\""))).await;
        let name = longest(".csv");
        office.put(&format!("office/in/{name}"), "levels");
        let item = office.only().await;
        if is_done {
            assert_eq!(item.state, ItemState::Done, "{steps}: {item:?}");
            let names = office.names("archive");
            assert!(names.len() == 1 && names[0].len() <= 255 && names[0].starts_with("nnn"), "{names:?}");
            continue;
        }
        assert_eq!(item.state, ItemState::Held, "{steps}: {item:?}");
        let why = item.why.as_deref().unwrap_or_default();
        assert!(why.contains("too long") || why.contains("255"), "{steps}: {why}");
        assert_eq!(office.read(&format!("office/in/{name}")), "levels");
        assert!(office.names("archive").is_empty(), "{:?}", office.names("archive"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn times_long_ago_and_far_ahead_are_times() {
    let office = Office::new(&on_arrival(&branch(
        "{ copy = { to = \"archive\", folder = \"{{ file.modified | date('%Y') }}\" } }",
    )))
    .await;
    let moon = SystemTime::UNIX_EPOCH - Duration::from_secs(14_159_040);
    let far = SystemTime::UNIX_EPOCH + Duration::from_secs(7_258_204_800);
    for (name, time) in [("old.csv", moon), ("new.csv", far), ("first.csv", SystemTime::UNIX_EPOCH)] {
        let aside = office.path("aside");
        fs::write(&aside, "levels").unwrap();
        fs::File::options().write(true).open(&aside).unwrap().set_modified(time).unwrap();
        fs::rename(aside, office.path(&format!("office/in/{name}"))).unwrap();
    }
    let items = office.at_rest(3).await;
    assert!(items.iter().all(|item| item.state == ItemState::Done), "{items:#?}");
    assert_eq!(office.names("archive"), ["1969", "1970", "2200"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_file_is_not_taken_and_not_followed() {
    let office = Office::new(&by_hand("", &(branch(COPY) + "\noriginal = \"delete\""))).await;
    office.put("elsewhere/secret.csv", "not ours");
    symlink(office.path("elsewhere/secret.csv"), office.path("office/in/link.csv")).unwrap();
    symlink(office.path("elsewhere"), office.path("office/in/folder-link")).unwrap();
    symlink("nowhere", office.path("office/in/broken.csv")).unwrap();
    fs::create_dir(office.path("office/in/folder.csv")).unwrap();
    mkfifoat(CWD, office.path("office/in/pipe.csv"), Mode::from_raw_mode(0o600)).unwrap();
    office.put("office/in/real.csv", "levels");
    let items = office.run(1).await;
    assert_eq!((items[0].file.path.to_string().as_str(), items[0].state), ("in/real.csv", ItemState::Done));
    assert_eq!(office.names("archive"), ["real.csv"]);
    assert_eq!(office.read("elsewhere/secret.csv"), "not ours");
    assert_eq!(office.names("office/in"), ["broken.csv", "folder-link", "folder.csv", "link.csv", "pipe.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_lies_where_a_folder_is_wanted_and_a_folder_where_a_file_is_are_told() {
    for (steps, taken) in [
        ("{ copy = { to = \"archive\", folder = \"2026/levels\" } }", "archive/2026"),
        ("{ copy = { to = \"archive\", exists = \"replace\" } }", "archive/a.csv/inner"),
        ("{ move = { to = \"archive\", exists = \"replace\" } }", "archive/a.csv/inner"),
        ("{ make-folder = { to = \"archive\", folder = \"2026\" } }", "archive/2026"),
    ] {
        let office = Office::new(&on_arrival(&branch(steps))).await;
        office.put(taken, "somebody else's");
        office.put("office/in/a.csv", "levels");
        let item = office.only().await;
        assert_eq!(item.state, ItemState::Held, "{steps}: {item:?}");
        assert!(!item.why.as_deref().unwrap_or_default().is_empty(), "{item:?}");
        assert_eq!(
            (office.read(taken).as_str(), office.read("office/in/a.csv").as_str()),
            ("somebody else's", "levels")
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn one_file_under_two_names_is_two_files() {
    let office = Office::new(&on_arrival(&(branch(COPY) + "\noriginal = \"delete\""))).await;
    office.put("both", "levels");
    for name in ["a.csv", "b.csv"] {
        fs::hard_link(office.path("both"), office.path(&format!("office/in/{name}"))).unwrap();
    }
    let items = office.at_rest(2).await;
    assert!(items.iter().all(|item| item.state == ItemState::Done), "{items:#?}");
    assert_eq!(
        (office.names("archive"), office.read("both")),
        (vec!["a.csv".to_owned(), "b.csv".to_owned()], "levels".to_owned())
    );
    assert!(office.names("office/in").is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_look_like_something_else_are_names() {
    let names = [
        "-rf",
        "a b.csv",
        "a\nb.csv",
        "#1.csv",
        "%2e%2e",
        "~",
        "*.csv",
        "a\\b.csv",
        "\u{202e}vsc.a",
        "ὰ.csv",
        "con",
        ".hidden",
    ];
    let office = Office::new(&on_arrival(&(branch(COPY) + "\noriginal = { move-to = \"sent\" }"))).await;
    for name in names {
        office.put(&format!("office/in/{name}"), name);
    }
    let items = office.at_rest(names.len()).await;
    assert!(items.iter().all(|item| item.state == ItemState::Done), "{items:#?}");
    for name in names {
        assert_eq!(
            (office.read(&format!("archive/{name}")), office.read(&format!("office/in/sent/{name}"))),
            (name.to_owned(), name.to_owned())
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn five_hundred_files_at_once_are_each_done_once() {
    let office = Office::new(&on_arrival(&(branch(COPY) + "\noriginal = \"delete\""))).await;
    for number in 0..500 {
        office.put(&format!("office/in/gauge-{number:04}.csv"), format!("{number}"));
    }
    office
        .until("all are done", |items| items.len() == 500 && items.iter().all(|item| item.state == ItemState::Done))
        .await;
    let names = office.names("archive");
    assert_eq!((names.len(), names[0].as_str(), names[499].as_str()), (500, "gauge-0000.csv", "gauge-0499.csv"));
    assert!(
        (0..500).step_by(97).all(|number| office.read(&format!("archive/gauge-{number:04}.csv")) == number.to_string())
    );
    assert!(office.names("office/in").is_empty());
}
