//! The service is ended without warning at many random instants. Every file still arrives
//! once and whole, and nothing is left behind.

use std::{
    collections::HashSet,
    fs,
    path::PathBuf,
    time::{Duration, Instant, SystemTime},
};

use crate::support::{Archive, Office, leftovers, names, wait_for};
use wetbank_standins::BucketStandin;

const FILES: usize = 500;

/// A generator of our own, so that a failing run's seed can be tried again.
struct Random(u64);

impl Random {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % limit
    }
}

fn seed() -> u64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().subsec_nanos().into()
}

fn content(number: usize) -> Vec<u8> {
    // Some are so large that a bucket takes them in parts.
    let times = if number % 50 == 3 { 250_000 } else { 1 + number % 7 * 3000 };
    format!("file {number} ").repeat(times).into_bytes()
}

/// Where the files are to arrive, as its owner sees it.
trait Far {
    fn names(&self, office: &Office) -> Vec<String>;
    fn content(&self, office: &Office, name: &str) -> Vec<u8>;
}

/// A folder, below the office's own unless it is absolute.
struct Folder(PathBuf);

impl Far for Folder {
    fn names(&self, office: &Office) -> Vec<String> {
        names(&office.folder.path().join(&self.0))
    }

    fn content(&self, office: &Office, name: &str) -> Vec<u8> {
        fs::read(office.folder.path().join(&self.0).join(name)).unwrap()
    }
}

impl Far for BucketStandin {
    fn names(&self, _: &Office) -> Vec<String> {
        self.keys()
    }

    fn content(&self, _: &Office, name: &str) -> Vec<u8> {
        self.object(name).unwrap()
    }
}

fn survive(book: &dyn Fn(&Office) -> String, far: &dyn Far) {
    let seed = seed();
    let mut random = Random(seed);
    let mut office = Office::open();
    for folder in ["office/in", "archive"] {
        fs::create_dir_all(office.path(folder)).unwrap();
    }
    office.wetbank_with(&["secret", "set", "server"], "grey heron");
    office.book(&book(&office));
    let mut given = 0;
    let mut kills = 0;
    let end = Instant::now() + Duration::from_secs(150);
    while given < FILES || kills < 25 {
        assert!(Instant::now() < end, "seed {seed}: {given} files, {kills} kills");
        for _ in 0..random.below(60) {
            if given < FILES {
                office.put(&format!("office/in/{given:03}.csv"), &content(given));
                given += 1;
            }
        }
        std::thread::sleep(Duration::from_millis(random.below(120)));
        office.kill();
        kills += 1;
        office.start();
    }
    office.wait_idle();
    let holds = office.holds();
    assert!(holds.is_empty(), "seed {seed}: {holds:?}");
    wait_for("every file", || (far.names(&office).len() >= FILES).then_some(()));
    office.wait_idle();
    for number in 0..FILES {
        let there = far.content(&office, &format!("{number:03}.csv"));
        assert!(there == content(number), "seed {seed}: file {number} is not whole");
    }
    let arrived = far.names(&office);
    let others: Vec<_> = arrived.iter().filter(|name| name.len() != "000.csv".len()).collect();
    assert!(arrived.len() == FILES && others.is_empty(), "seed {seed}: arrived twice, or left behind: {others:?}");
    let rest = leftovers(office.folder.path());
    assert!(rest.is_empty(), "seed {seed}: {rest:?}");
    assert_eq!(names(&office.path("office/in")), ["done"], "seed {seed}: every original is set aside");
    // Each file was taken once, and its item ended well: counts add up.
    let mut files = HashSet::new();
    let mut before = i64::MAX.to_string();
    loop {
        let page = office.json(&["run", "list", "--limit", "500", "--before", &before]);
        for run in page["runs"].as_array().unwrap() {
            if run["rule"] == "keep" {
                assert_eq!(run["state"], "done", "seed {seed}: {run}");
                assert!(files.insert(run["file"].as_str().unwrap().to_owned()), "seed {seed}: twice: {run}");
            }
        }
        match page["next"].as_i64() {
            Some(next) => before = next.to_string(),
            None => break,
        }
    }
    assert_eq!(files.len(), FILES, "seed {seed}");
}

#[test]
fn five_hundred_deliveries_survive_kills_between_folders() {
    survive(
        &|_| {
            r#"
[place.office]
kind = "folder"
root = "@/office"
[place.archive]
kind = "folder"
root = "@/archive"
[rule.keep]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.keep.branch]]
steps = [ { copy = { to = "archive", exists = "keep-both" } } ]
original = { move-to = "done" }
"#
            .to_owned()
        },
        &Folder("archive".into()),
    );
}

#[test]
fn five_hundred_deliveries_survive_kills_on_their_way_to_a_server() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let root = tempfile::TempDir::new().unwrap();
    let server = runtime
        .block_on(wetbank_standins::SftpStandin::start(wetbank_standins::SftpStandinOptions {
            listen: ([127, 0, 0, 1], 0).into(),
            root: root.path().to_owned(),
            user: "merrow".to_owned(),
            password: "grey heron".to_owned(),
        }))
        .unwrap();
    let book = format!(
        r#"
[place.office]
kind = "folder"
root = "@/office"
[place.server]
kind = "sftp"
host = "127.0.0.1"
port = {}
user = "merrow"
password = {{ secret = "server" }}
host-key = "{}"
[rule.keep]
starts = {{ arrival = {{ place = "office", folder = "in" }} }}
[[rule.keep.branch]]
steps = [ {{ deliver = {{ to = "server", exists = "keep-both" }} }} ]
original = {{ move-to = "done" }}
"#,
        server.address().port(),
        server.fingerprint()
    );
    survive(&|_| book.clone(), &Folder(root.path().to_owned()));
}

#[test]
fn five_hundred_deliveries_survive_kills_on_their_way_to_a_bucket() {
    let archive = Archive::open();
    let book = |office: &Office| {
        let places = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n".to_owned();
        let rule = r#"
[rule.keep]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.keep.branch]]
steps = [ { deliver = { to = "server", exists = "keep-both" } } ]
original = { move-to = "done" }
"#;
        places + archive.place(office, "server").as_str() + rule
    };
    survive(&book, &archive.store);
    assert_eq!(archive.store.open_uploads(), 0, "no parts are left behind");
}
