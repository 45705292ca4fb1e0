//! A cloud drive at either end of a rule: signing in by agreeing, watching by changes, and what
//! happens when the agreement ends.

use std::fs;

use crate::support::{Office, wait_for};
use tokio::runtime::Runtime;
use wetbank_standins::{DriveStandin, DriveStandinOptions, DriveUser};

const RIGHTS: [&str; 2] = ["files.read", "files.write"];

/// Two organisations have files on it; it is stopped when this goes.
struct Cloud {
    drive: DriveStandin,
    _runtime: Runtime,
}

impl std::ops::Deref for Cloud {
    type Target = DriveStandin;

    fn deref(&self) -> &DriveStandin {
        &self.drive
    }
}

impl Cloud {
    fn open() -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
        let user = |tenant: &str, name: &str| DriveUser {
            tenant: tenant.to_owned(),
            name: name.to_owned(),
            password: "grey heron".to_owned(),
        };
        let options = DriveStandinOptions::new(vec![user("merrow", "tove"), user("harlan", "odd")]);
        Self { drive: runtime.block_on(DriveStandin::start(options)).unwrap(), _runtime: runtime }
    }

    fn place(&self, name: &str, tenant: &str) -> String {
        format!(
            "\n[place.{name}]\nkind = \"webdav\"\nurl = \"{}\"\n\
             agreement = {{ server = \"{}\", client = \"wetbank\", rights = {RIGHTS:?}, grant = {{ secret = \"{name}-grant\" }} }}\n",
            self.files(tenant),
            self.url()
        )
    }

    /// Agrees for a place, as its user did on the page before.
    fn agree(&self, office: &Office, place: &str, user: &str) {
        let grant = self.grant(user, &RIGHTS);
        assert!(office.wetbank_with(&["secret", "set", &format!("{place}-grant")], &grant).status.success());
    }
}

fn folders(office: &Office) {
    for folder in ["office/in", "archive"] {
        fs::create_dir_all(office.path(folder)).unwrap();
    }
}

const ARCHIVE: &str = "[place.archive]\nkind = \"folder\"\nroot = \"@/archive\"\n\n\
    [rule.fetch]\nstarts = { arrival = { place = \"drive\", folder = \"in\", look-every = \"200ms\", settle = \"300ms\" } }\n\
    [[rule.fetch.branch]]\nsteps = [ { copy = { to = \"archive\", exists = \"keep-both\" } } ]\n";

#[test]
fn a_drive_is_added_shown_what_it_allows_and_signed_in_to_with_a_code() {
    let (office, cloud) = (Office::open(), Cloud::open());
    let (files, server) = (cloud.files("merrow"), cloud.url());
    let mut words = vec!["place", "add", "drive", "--kind", "webdav", "--url", &files, "--agreement", &server];
    words.extend(["--client", "wetbank", "--right", "files.read", "--right", "files.write"]);
    let added = office.wetbank(&words);
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stderr));
    let tested = office.wetbank(&["place", "test", "drive"]);
    let shown = String::from_utf8_lossy(&tested.stdout).into_owned();
    assert!(shown.contains("nobody has signed in") && shown.contains("wetbank place sign-in drive"), "{shown}");
    let unasked = office.wetbank(&["place", "sign-in", "drive"]);
    let said = String::from_utf8_lossy(&unasked.stderr).into_owned();
    assert!(said.contains("see and read the files") && said.contains("--yes"), "{said}");
    let signing = std::thread::scope(|scope| {
        let waiting = scope.spawn(|| office.wetbank(&["place", "sign-in", "drive", "--yes"]));
        wait_for("the code to be asked for", || cloud.agree_to_any_device("tove").then_some(()));
        waiting.join().unwrap()
    });
    let (said, shown) = (String::from_utf8_lossy(&signing.stderr), String::from_utf8_lossy(&signing.stdout));
    assert!(signing.status.success() && said.contains("Signed in."), "{said}{shown}");
    assert!(shown.contains("✓ list"), "{shown}");
    let exported = office.wetbank(&["book", "export", "-"]);
    assert!(!String::from_utf8_lossy(&exported.stdout).contains("grey heron"));
}

#[test]
fn a_watched_drive_is_asked_for_changes_and_not_listed_again() {
    let (office, cloud) = (Office::open(), Cloud::open());
    folders(&office);
    cloud.put("merrow", "in/before.csv", "0", "Tove");
    cloud.agree(&office, "drive", "tove");
    office.book(&(cloud.place("drive", "merrow") + ARCHIVE));
    let there = |name: &str| {
        let file = office.path("archive").join(name);
        wait_for(name, || file.exists().then(|| fs::read(&file).unwrap()))
    };
    there("before.csv");
    cloud.put("merrow", "in/new.csv", "1", "Odd");
    assert_eq!(there("new.csv"), b"1");
    cloud.put("merrow", "in/new.csv", "replaced", "Odd");
    assert_eq!(there("new (2).csv"), b"replaced", "a replaced file is a new one");
    // A server that forgot what it told is looked through anew, and takes nothing twice.
    cloud.forget_changes();
    cloud.put("merrow", "in/after.csv", "3", "Tove");
    assert_eq!(there("after.csv"), b"3");
    cloud.be_busy(3, 1);
    cloud.put("merrow", "in/busy.csv", "4", "Tove");
    assert_eq!(there("busy.csv"), b"4");
    office.wait_idle();
    assert_eq!(office.runs().len(), 5);
    let (looks, reports) = (cloud.asked("PROPFIND"), cloud.asked("REPORT"));
    assert!(reports > 10, "changes were asked {reports} times");
    // Two for each file that is read, and none for the folder.
    assert!(looks <= 4 * 5, "{looks} times looked");
    assert!(office.holds().is_empty());
}

#[test]
fn when_the_agreement_ends_files_wait_and_go_on_once_somebody_signs_in_again() {
    let (office, cloud) = (Office::open(), Cloud::open());
    folders(&office);
    cloud.agree(&office, "drive", "tove");
    let rule = "\n[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n\n\
        [rule.put]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n\
        [[rule.put.branch]]\nsteps = [ { move = { to = \"drive\", folder = \"in\" } } ]\n";
    office.book(&(cloud.place("drive", "merrow") + rule));
    office.put("office/in/first.csv", b"1");
    wait_for("the first one", || cloud.get("merrow", "in/first.csv"));
    cloud.revoke_all();
    office.put("office/in/second.csv", b"2");
    office.put("office/in/third.csv", b"3");
    let place = || office.json(&["place", "show", "drive"]);
    wait_for("the end to be noticed", || (place()["state"] == "away").then_some(()));
    let shown = place();
    assert!(shown["error"].as_str().unwrap().contains("nobody is signed in to it"), "{shown}");
    assert!(shown["remedy"].as_str().unwrap().contains("Sign in again"), "{shown}");
    wait_for("both to be taken in", || (office.runs().len() == 3).then_some(()));
    assert!(office.holds().is_empty(), "files wait, they are not held");
    assert!(office.path("office/in/second.csv").exists() && office.path("office/in/third.csv").exists());
    cloud.agree(&office, "drive", "tove");
    for name in ["in/second.csv", "in/third.csv"] {
        wait_for(name, || cloud.get("merrow", name));
    }
    office.wait_idle();
    assert!(!office.path("office/in/second.csv").exists());
    assert_eq!(cloud.paths("merrow"), ["in/first.csv", "in/second.csv", "in/third.csv"]);
}

#[test]
fn files_go_from_one_organisations_drive_to_anothers() {
    let (office, cloud) = (Office::open(), Cloud::open());
    cloud.agree(&office, "drive", "tove");
    cloud.agree(&office, "theirs", "odd");
    let rule = "\n[rule.over]\nstarts = { arrival = { place = \"drive\", folder = \"out\", look-every = \"200ms\", settle = \"300ms\" } }\n\
        [[rule.over.branch]]\nsteps = [ { copy = { to = \"theirs\", folder = \"from merrow\" } } ]\n";
    office.book(&(cloud.place("drive", "merrow") + cloud.place("theirs", "harlan").as_str() + rule));
    cloud.put("merrow", "out/proof.pdf", "pages", "Tove");
    let proof = wait_for("the proof", || cloud.get("harlan", "from merrow/proof.pdf"));
    assert_eq!(&proof[..], b"pages");
    office.wait_idle();
    let run = office.json(&["run", "show", &office.runs()[0]["id"].to_string()]);
    assert_eq!(run["items"][0]["state"], "done");
}
