//! Any kind of place at either end of a rule, with real servers.

use std::fs;

use crate::support::{Archive, Office, PLACES, leftovers, names, wait_for};
use wetbank_testbed::{Apache, FTP_USER, FtpOffer, Proftpd, WEBDAV_USER, WebServer};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[place.harlan]
kind = "ftp"
host = "ftp://127.0.0.1:FTPPORT/"
user = "merrow"
password = { secret = "harlan" }
root = "FTPROOT"

[place.cloud]
kind = "webdav"
url = "DAVURL"
user = "merrow"
password = { secret = "cloud" }

[rule.to-harlan]
starts = { arrival = { place = "office", folder = "out" } }
[[rule.to-harlan.branch]]
steps = [ { deliver = { to = "harlan", folder = "in/{{ file.stem }}" } } ]
original = { move-to = "sent" }

[rule.to-cloud]
starts = { arrival = { place = "harlan", folder = "in", below = true, look-every = "200ms" } }
[[rule.to-cloud.branch]]
steps = [ { move = { to = "cloud", folder = "from harlan" } } ]

[rule.fetch]
starts = { arrival = { place = "cloud", folder = "from harlan", look-every = "200ms" } }
[[rule.fetch.branch]]
steps = [ { copy = { to = "office", folder = "fetched" } } ]
"#;

/// An office with an FTP server and a web server whose certificates are not confirmed yet.
fn connected() -> (Office, Proftpd, Apache) {
    let (office, proftpd, apache) = (Office::open(), Proftpd::start(FtpOffer::Tls), Apache::start(true));
    fs::create_dir_all(office.path("office/out")).unwrap();
    for folder in [proftpd.root.path().join("in"), apache.root.path().join("from harlan")] {
        fs::create_dir(&folder).unwrap();
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(folder, fs::Permissions::from_mode(0o777)).unwrap();
    }
    for (secret, value) in [("harlan", FTP_USER.1), ("cloud", WEBDAV_USER.1)] {
        assert!(office.wetbank_with(&["secret", "set", secret], value).status.success());
    }
    let root = proftpd.root.path().display().to_string();
    let book = BOOK.replace("FTPPORT", &proftpd.port.to_string()).replace("FTPROOT", &root);
    office.book(&book.replace("DAVURL", &apache.url));
    (office, proftpd, apache)
}

#[test]
fn a_file_goes_from_a_folder_to_ftp_to_webdav_and_back_once_the_certificates_are_confirmed() {
    let (office, proftpd, apache) = connected();
    for (place, certificate) in [("harlan", &proftpd.certificate), ("cloud", apache.certificate.as_ref().unwrap())] {
        let tested = office.wetbank(&["--json", "place", "test", place]);
        assert_eq!(tested.status.code(), Some(1), "it is not trusted unasked");
        let told: serde_json::Value = serde_json::from_slice(&tested.stdout).unwrap();
        assert_eq!(told["identity"]["fingerprint"], certificate.fingerprint);
        let wrong = office.wetbank(&["place", "test", place, "--confirm", "SHA256:00:11"]);
        assert_eq!(wrong.status.code(), Some(2));
        let confirmed = office.wetbank(&["place", "test", place, "--write", "--confirm", &certificate.fingerprint]);
        assert!(confirmed.status.success(), "{}", String::from_utf8_lossy(&confirmed.stdout));
    }
    let content: Vec<u8> = (0..3_000_000u32).map(|n| (n % 251) as u8).collect();
    office.put("office/out/survey 07.raw", &content);
    let fetched = office.path("office/fetched/survey 07.raw");
    wait_for("the file to come back", || fetched.exists().then_some(()));
    office.wait_idle();
    assert!(fs::read(&fetched).unwrap() == content);
    assert_eq!(names(&office.path("office/out/sent")), ["survey 07.raw"]);
    assert!(names(&proftpd.root.path().join("in/survey 07")).is_empty(), "it was moved on");
    assert_eq!(names(&apache.root.path().join("from harlan")), ["survey 07.raw"]);
    for root in [proftpd.root.path(), apache.root.path(), &office.path("office")] {
        assert!(leftovers(root).is_empty(), "{root:?}");
    }
    assert_eq!(office.runs().len(), 3, "each rule took it once");
}

#[test]
fn what_should_go_to_a_place_that_is_not_trusted_waits_and_the_place_shows_what_is_to_be_confirmed() {
    let (office, proftpd, _apache) = connected();
    office.put("office/out/a.csv", b"a");
    let why = office.waits_for("harlan");
    assert!(why.contains("certificate is not trusted") && why.contains(&proftpd.certificate.fingerprint), "{why}");
    assert!(office.path("office/out/a.csv").exists());
    assert!(names(&proftpd.root.path().join("in")).is_empty());
}

#[test]
fn what_was_typed_is_shown_back_as_it_was_understood() {
    let (office, proftpd, apache) = connected();
    let places = office.json(&["place", "list"]);
    let address = |name: &str| {
        let place = places.as_array().unwrap().iter().find(|place| place["name"] == name).unwrap();
        place["address"].as_str().unwrap().to_owned()
    };
    assert_eq!(address("harlan"), format!("merrow@127.0.0.1:{}{}", proftpd.port, proftpd.root.path().display()));
    assert_eq!(address("cloud"), apache.url);
}

#[test]
fn a_place_is_added_tested_and_confirmed_from_the_command_line() {
    let (office, apache) = (Office::open(), Apache::start(true));
    let url = format!("  {}// ", apache.url);
    let words = ["place", "add", "cloud", "--kind", "webdav", "--url", url.as_str(), "--user", "merrow", "--password"];
    let added = office.wetbank_with(&words, WEBDAV_USER.1);
    let shown = String::from_utf8_lossy(&added.stdout).into_owned();
    let certificate = apache.certificate.as_ref().unwrap();
    assert_eq!(added.status.code(), Some(1), "{shown}");
    assert!(shown.contains("✓ connect") && shown.contains("✗ secure"), "{shown}");
    assert!(shown.contains(&format!("wetbank place test cloud --confirm {}", certificate.fingerprint)), "{shown}");
    let confirmed = office.wetbank(&["place", "test", "cloud", "--write", "--confirm", &certificate.fingerprint]);
    assert!(confirmed.status.success(), "{}", String::from_utf8_lossy(&confirmed.stdout));
    let file = office.path("exported.toml");
    assert!(office.wetbank(&["book", "export", file.to_str().unwrap()]).status.success());
    let book = fs::read_to_string(file).unwrap();
    assert!(book.contains("[place.cloud]") && !book.contains(WEBDAV_USER.1), "the password is in the vault only");
    let again = office.wetbank_with(&words, WEBDAV_USER.1);
    assert_eq!(again.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&again.stderr).contains("there is a place \"cloud\" already"));
    let wrong = office.wetbank(&["place", "add", "x", "--kind", "ftp", "--host", "h", "--url", "http://h"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("has no key \"url\""));
}

#[test]
fn a_bucket_is_added_and_files_go_through_it_moved_within_it_and_never_echoed() {
    let (store, office) = (Archive::open(), Office::open());
    let (url, root) = (store.url(), office.path("office"));
    office.wetbank(&["place", "add", "office", "--kind", "folder", "--root", root.to_str().unwrap()]);
    let words =
        ["place", "add", "archive", "--kind", "bucket", "--url", &url, "--bucket", "survey", "--access-key", "merrow"];
    let added = office.wetbank_with(&words, "grey heron");
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stdout));
    fs::create_dir_all(office.path("office/out")).unwrap();
    let rules = r#"
[rule.keep]
starts = { arrival = { place = "office", folder = "out" } }
[[rule.keep.branch]]
steps = [ { copy = { to = "archive", folder = "gauges/in", exists = "refuse" } } ]

[rule.sort]
starts = { arrival = { place = "archive", folder = "gauges", below = true, names = ["*.csv"], look-every = "200ms", own-results = true } }
[[rule.sort.branch]]
if = { file = "folder", is = "gauges/in" }
steps = [ { move = { to = "archive", folder = "gauges/{{ file.stem }}" } } ]
[[rule.sort.branch]]
steps = [ { copy = { to = "office", folder = "fetched" } } ]
"#;
    let file = office.path("rules.toml");
    assert!(office.wetbank(&["book", "export", file.to_str().unwrap()]).status.success());
    fs::write(&file, fs::read_to_string(&file).unwrap() + rules).unwrap();
    let applied = office.wetbank(&["book", "apply", file.to_str().unwrap()]);
    assert!(applied.status.success(), "{}", String::from_utf8_lossy(&applied.stderr));
    let large: Vec<u8> = (0..9_000_000u32).map(|n| (n % 251) as u8).collect();
    office.put("office/out/small.csv", b"levels");
    office.put("office/out/large.csv", &large);
    let fetched = || names(&office.path("office/fetched"));
    wait_for("both files to come back", || (fetched() == ["large.csv", "small.csv"]).then_some(()));
    office.wait_idle();
    assert!(fs::read(office.path("office/fetched/large.csv")).unwrap() == large);
    assert_eq!(store.keys(), ["gauges/large/large.csv", "gauges/small/small.csv"]);
    // Each file was kept once, moved once, fetched once.
    let runs = office.runs();
    assert_eq!(runs.len(), 6, "{runs:#?}");
    assert!(runs.iter().all(|run| run["state"] == "done"), "{runs:#?}");
}

#[test]
fn adding_a_place_that_cannot_be_added_touches_no_place_and_no_secret() {
    let office = Office::open();
    let add = |name: &str, more: &[&str]| {
        let mut words = vec!["place", "add", name, "--kind", "ftp", "--host", "h", "--user", "u", "--password"];
        words.extend(more);
        office.wetbank_with(&words, "the right one")
    };
    add("harlan", &[]);
    let secrets = office.json(&["secret", "list"]);
    assert_eq!(secrets[0]["name"], "harlan-password");
    // The same name again, with another password: the one in use stays what it is.
    assert_eq!(add("harlan", &[]).status.code(), Some(2));
    assert_eq!(office.json(&["secret", "list"]), secrets);
    // A mistake in the place leaves no secret behind.
    assert_eq!(add("other", &["--security", "quick"]).status.code(), Some(2));
    assert_eq!(office.json(&["secret", "list"]), secrets);
    // A secret that is there for another reason is not overwritten.
    assert!(office.wetbank_with(&["secret", "set", "third-password"], "somebody else's").status.success());
    let refused = add("third", &[]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("there is a secret \"third-password\" already"));
}

#[test]
fn a_book_whose_places_fail_their_test_is_not_put_in_force() {
    let (office, apache) = (Office::open(), Apache::start(false));
    office.wetbank_with(&["secret", "set", "cloud"], WEBDAV_USER.1);
    let book = |url: &str| {
        let text = format!(
            "[place.cloud]\nkind = \"webdav\"\nurl = \"{url}\"\nuser = \"merrow\"\npassword = {{ secret = \"cloud\" }}\n"
        );
        let file = office.path("book.toml");
        fs::write(&file, text).unwrap();
        office.wetbank(&["book", "apply", "--test", file.to_str().unwrap()])
    };
    let nobody = format!("http://127.0.0.1:{}/dav", wetbank_testbed::free_port());
    let refused = book(&nobody);
    assert_eq!(refused.status.code(), Some(1));
    let told = String::from_utf8_lossy(&refused.stdout).into_owned() + &*String::from_utf8_lossy(&refused.stderr);
    assert!(told.contains("✗ connect") && told.contains("nothing was put in force"), "{told}");
    assert_eq!(office.json(&["place", "list"]), serde_json::json!([]));
    assert!(book(&apache.url).status.success());
    // What is in force and did not change is not tested again.
    drop(apache);
    let again = office.path("book.toml");
    assert!(office.wetbank(&["book", "apply", "--test", again.to_str().unwrap()]).status.success());
    // `-` is standard output, no file of that name.
    let shown = office.wetbank(&["book", "export", "-"]);
    assert!(String::from_utf8_lossy(&shown.stdout).contains("[place.cloud]"));
    assert!(!std::path::Path::new("-").exists());
}

#[test]
fn web_servers_that_insist_on_slashes_take_folders_and_give_what_lies_in_them() {
    let apache = Apache::with_slashes();
    let (nginx, lighttpd) = (WebServer::nginx(), WebServer::lighttpd());
    for (url, root) in
        [(&apache.url, apache.root.path()), (&nginx.url, nginx.root.path()), (&lighttpd.url, lighttpd.root.path())]
    {
        let office = Office::open();
        fs::create_dir_all(office.path("archive")).unwrap();
        assert!(office.wetbank_with(&["secret", "set", "cloud"], WEBDAV_USER.1).status.success());
        let rules = format!(
            "[place.cloud]\nkind = \"webdav\"\nurl = \"{url}\"\nuser = \"merrow\"\npassword = {{ secret = \"cloud\" }}\n\
             [rule.up]\nstarts = {{ arrival = {{ place = \"office\", folder = \"out\" }} }}\n[[rule.up.branch]]\n\
             steps = [ {{ copy = {{ to = \"cloud\", folder = \"in/2026/03\" }} }} ]\n\
             [rule.down]\nstarts = {{ arrival = {{ place = \"cloud\", folder = \"in/2026\", below = true, look-every = \"200ms\", settle = \"100ms\" }} }}\n\
             [[rule.down.branch]]\nsteps = [ {{ copy = {{ to = \"archive\" }} }} ]\n"
        );
        office.book(&format!("{PLACES}{rules}"));
        for number in 0..20 {
            office.put(&format!("office/out/{number}.csv"), b"1");
        }
        wait_for(&format!("all of them through {url}"), || (names(&office.path("archive")).len() == 20).then_some(()));
        assert_eq!(names(&root.join("in/2026/03")).len(), 20);
        let tested = office.wetbank(&["place", "test", "cloud", "--write"]);
        assert!(tested.status.success(), "{}", String::from_utf8_lossy(&tested.stdout));
    }
}
