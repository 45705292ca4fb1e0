//! Partners hand files in at our own server and collect them, with OpenSSH's client.

use std::{fs, os::unix::fs::MetadataExt, time::Duration};

use serde_json::Value;

use wetbank_testbed::Sshd;

use crate::support::{Office, browser::Browser, servers::openssh, wait_for};

const BOTH: &str = "place = \"office\"\nfolder = \"lab\"\nmay = \"both\"\ndelete = true\n";

/// Names below a folder of the office that are not ours alone.
fn names(office: &Office, below: &str) -> Vec<String> {
    let Ok(entries) = fs::read_dir(office.path(below)) else { return Vec::new() };
    let mut names: Vec<String> = entries.map(|one| one.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

#[test]
fn what_a_partner_hands_in_is_forwarded_and_what_it_collects_is_on_record() {
    let rule = "[rule.forward]\nstarts = { account = { accounts = [\"lindmoor\"], folder = \"in\", names = [\"*.csv\"] } }\n\
                [[rule.forward.branch]]\nif = { account = \"partner\", is = \"lindmoor\" }\n\
                steps = [ { copy = { to = \"archive\", folder = \"{{ account.name }}\" } } ]\n";
    let account = "place = \"office\"\nfolder = \"lab\"\n\
                   folders = [ { folder = \"in\", may = \"hand-in\" }, { folder = \"out\", may = \"collect\" } ]\n";
    let (office, partner) = Office::receiving(account, rule);
    office.put("office/lab/out/report.pdf", b"levels");
    office.put("office/lab/private/wages.csv", b"1");
    fs::write(partner.path("assay-0412.csv"), "x,2.31\n").unwrap();
    fs::write(partner.path("notes.txt"), "nothing").unwrap();
    partner.must("put assay-0412.csv in/\nput notes.txt in/\nget out/report.pdf\n");
    assert_eq!(fs::read(partner.path("report.pdf")).unwrap(), b"levels");
    wait_for("it is forwarded", || office.path("archive/lindmoor/assay-0412.csv").exists().then_some(()));
    assert_eq!(names(&office, "office/lab/in"), ["assay-0412.csv", "notes.txt"]);
    // Hand in only, collect only, and nothing else is there.
    assert!(partner.cannot("get in/assay-0412.csv\n").contains("Permission denied"));
    assert!(partner.cannot("put assay-0412.csv out/\n").contains("Permission denied"));
    assert!(partner.cannot("rm out/report.pdf\n").contains("Permission denied"));
    for nothing in ["get private/wages.csv\n", "get ../private/wages.csv\n", "cd /private\n", "get /../../etc/passwd\n"]
    {
        let said = partner.cannot(nothing);
        assert!(said.contains("not found") || said.contains("No such file"), "{nothing}: {said}");
    }
    let listed = partner.must("ls -1 /\nls -1 in\n");
    assert!(!listed.contains("private") && listed.contains("in") && listed.contains("assay-0412.csv"), "{listed}");
    let exchanged = office.json(&["account", "exchanged"]);
    let told: Vec<_> = exchanged
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["what"].as_str().unwrap(), one["seen"].as_str().unwrap()))
        .collect();
    assert_eq!(
        told,
        [("collected", "out/report.pdf"), ("handed-in", "in/notes.txt"), ("handed-in", "in/assay-0412.csv")]
    );
    let sum = |text: &[u8]| blake3_of(text);
    assert_eq!(exchanged[0]["blake3"], sum(b"levels"));
    assert_eq!(exchanged[2]["blake3"], sum(b"x,2.31\n"));
    assert_eq!(
        (exchanged[1]["items"].as_array().unwrap().len(), exchanged[2]["items"].as_array().unwrap().len()),
        (0, 1)
    );
    let run = office.json(&["run", "list"]);
    assert_eq!(run["runs"][0]["cause"], "account", "{run}");
    let visits = office.json(&["account", "visits", "lindmoor"]);
    assert!(
        visits.as_array().unwrap().len() >= 5 && visits[0]["how"].as_str().unwrap().starts_with("SHA256:"),
        "{visits}"
    );
}

fn blake3_of(content: &[u8]) -> Value {
    blake3::hash(content).to_hex().to_string().into()
}

#[test]
fn openssh_does_everything_that_it_can() {
    let (office, partner) = Office::receiving(BOTH, "");
    let old = std::time::UNIX_EPOCH + Duration::from_secs(1_700_000_000);
    fs::create_dir_all(partner.path("set/deep")).unwrap();
    for (name, content) in [("set/a.csv", "a"), ("set/deep/b.csv", "bb"), ("empty", "")] {
        fs::write(partner.path(name), content).unwrap();
        let file = fs::File::options().write(true).open(partner.path(name)).unwrap();
        file.set_modified(old).unwrap();
    }
    partner.must("put -rp set\nput -p empty\nmkdir made\nrename set/a.csv made/c.csv\nput set/deep/b.csv made/b.csv\n");
    assert_eq!(fs::read(office.path("office/lab/made/c.csv")).unwrap(), b"a");
    assert_eq!(fs::metadata(office.path("office/lab/set/deep/b.csv")).unwrap().mtime(), 1_700_000_000);
    assert_eq!(fs::metadata(office.path("office/lab/empty")).unwrap().len(), 0);
    let listed = partner.must("ls -l made\nls -l set/deep\n");
    assert!(listed.contains("Nov 14  2023") && listed.contains(" 2 "), "{listed}");
    // Back again, whole and with their times.
    partner.must("get -rp set back\nget made/*.csv\n");
    assert_eq!(fs::read(partner.path("back/deep/b.csv")).unwrap(), b"bb");
    assert_eq!(fs::metadata(partner.path("back/deep/b.csv")).unwrap().mtime(), 1_700_000_000);
    assert!(partner.path("b.csv").exists() && partner.path("c.csv").exists());
    // Both ways gone on with where they ended.
    let long: Vec<u8> = (0..3_000_000_u32).map(|at| (at % 251) as u8).collect();
    fs::write(partner.path("long.bin"), &long[..1_000_000]).unwrap();
    partner.must("put long.bin\n");
    fs::write(partner.path("long.bin"), &long).unwrap();
    partner.must("reput long.bin\n");
    assert!(fs::read(office.path("office/lab/long.bin")).unwrap() == long);
    fs::write(partner.path("part.bin"), &long[..500_000]).unwrap();
    partner.must("reget long.bin part.bin\n");
    assert!(fs::read(partner.path("part.bin")).unwrap() == long);
    partner.must("rm made/*.csv\nrmdir made\nchmod 600 empty\n");
    assert_eq!(names(&office, "office/lab"), ["empty", "long.bin", "set"]);
    let removed = office.json(&["account", "exchanged", "--what", "removed"]);
    assert_eq!(removed.as_array().unwrap().len(), 2, "{removed}");
    assert!(partner.cannot("rmdir set\n").contains("Failure"));
    assert!(partner.cannot("symlink empty link\n").contains("unsupported"));
}

#[test]
fn a_folder_of_thousands_is_listed_and_collected_by_pattern() {
    let (office, partner) = Office::receiving(BOTH, "");
    fs::create_dir_all(office.path("office/lab/many")).unwrap();
    for number in 0..5_000 {
        fs::write(office.path(&format!("office/lab/many/{number:05}.csv")), "1").unwrap();
    }
    fs::write(office.path("office/lab/many/.wetbank-in-somebody"), "part").unwrap();
    let listed = partner.must("ls -1 many\nget many/0001*\n");
    assert_eq!(listed.lines().filter(|line| line.starts_with("many/")).count(), 5_000);
    assert!(partner.path("00017.csv").exists() && !partner.path("00020.csv").exists());
    assert!(!listed.contains("somebody"));
}

#[test]
fn nothing_appears_before_it_is_whole_and_what_was_cut_off_goes_on() {
    let (office, partner) = Office::receiving(BOTH, "");
    let long: Vec<u8> = (0..40_000_000_u32).map(|at| (at / 7 % 251) as u8).collect();
    fs::write(partner.path("long.bin"), &long).unwrap();
    let key = format!("IdentityFile={}", partner.key().display());
    let mut slow = std::process::Command::new("sftp")
        .args(partner.options())
        .args(["-o", &key, "-o", "IdentitiesOnly=yes", "-l", "40000", "-b", "-"])
        .arg("lindmoor@127.0.0.1")
        .current_dir(partner.folder.path())
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    use std::io::Write;
    slow.stdin.take().unwrap().write_all(b"put long.bin\n").unwrap();
    let staged = wait_for("some of it came", || {
        let staged = names(&office, "office/lab").into_iter().find(|name| name.starts_with(".wetbank-in-"))?;
        let length = fs::metadata(office.path("office/lab").join(&staged)).ok()?.len();
        (length > 2_000_000).then_some(staged)
    });
    assert!(!partner.must("ls -la\n").contains(".wetbank"), "it is not listed");
    assert!(partner.cannot("get long.bin back.bin\n").contains("No such file"));
    assert!(partner.cannot("put long.bin\n").contains("Failure"), "nobody else hands it in meanwhile");
    slow.kill().unwrap();
    slow.wait().unwrap();
    assert_eq!(names(&office, "office/lab"), [staged]);
    // The server notices in its own time that the client is gone.
    wait_for("it goes on", || partner.does("reput long.bin\n").status.success().then_some(()));
    assert_eq!(names(&office, "office/lab"), ["long.bin"]);
    assert!(fs::read(office.path("office/lab/long.bin")).unwrap() == long);
    let exchanged = office.json(&["account", "exchanged"]);
    assert_eq!(exchanged[0]["blake3"], blake3_of(&long), "of the whole, not of the rest");
}

#[test]
fn a_one_time_password_lets_its_owner_choose_another_one_and_nothing_else() {
    let (office, partner) = Office::receiving(&format!("{BOTH}password = true\n"), "");
    let once = office.json(&["account", "password", "lindmoor"])["password"].as_str().unwrap().to_owned();
    fs::write(partner.path("a.csv"), "1").unwrap();
    let chosen = "three grey herons";
    let refused = partner.answers(&[&once, "short", "short", "again", "other"], "put a.csv\n");
    assert!(!refused.status.success());
    let taken = partner.answers(&[&once, chosen, chosen], "put a.csv\n");
    assert!(taken.status.success(), "{}", String::from_utf8_lossy(&taken.stderr));
    assert!(office.path("office/lab/a.csv").exists());
    assert!(!partner.answers(&[&once, &once], "ls\n").status.success(), "it counted once");
    assert!(partner.answers(&[chosen], "ls\n").status.success());
    let shown = office.json(&["account", "show", "lindmoor"]);
    assert_eq!(shown["has"]["once"], false);
    let log = fs::read_to_string(office.path("log")).unwrap();
    assert!(!log.contains(chosen) && !log.contains(&once));
}

#[test]
fn who_is_removed_or_sent_away_is_gone_at_once() {
    let (office, partner) = Office::receiving(BOTH, "");
    fs::write(partner.path("a.csv"), "1").unwrap();
    let mut stays = partner.begins("!sleep 30\nput a.csv\n");
    let visit = wait_for("it is here", || {
        let visits = office.json(&["account", "visits", "lindmoor"]);
        let here = visits.as_array()?.iter().find(|one| one.get("ended").is_none())?;
        here["id"].as_i64()
    });
    assert_eq!(office.json(&["account", "list"])[0]["here"], 1);
    assert!(office.wetbank(&["account", "end", &visit.to_string()]).status.success());
    wait_for("its visit ended", || (office.json(&["account", "list"])[0]["here"] == 0).then_some(()));
    let _ = stays.kill();
    let _ = stays.wait();
    assert!(!office.path("office/lab/a.csv").exists());
    let book = fs::read_to_string(office.path("book.toml")).unwrap();
    let over = book.replace("[account.lindmoor]\n", "[account.lindmoor]\nuntil = \"2026-01-31\"\n");
    office.book(&over);
    assert!(partner.cannot("ls\n").contains("Permission denied"));
    let elsewhere = book.replace("[account.lindmoor]\n", "[account.lindmoor]\nfrom = [ \"203.0.113.0/24\" ]\n");
    office.book(&elsewhere);
    assert!(partner.cannot("ls\n").contains("Permission denied"));
    office.book(&book);
    partner.must("ls\n");
}

#[test]
fn room_and_length_are_bounded_in_the_midst_of_a_file() {
    let (office, partner) = Office::receiving(&format!("{BOTH}quota = \"3 MB\"\nlargest = \"2 MB\"\n"), "");
    for (name, length) in [("fits.bin", 1_500_000), ("long.bin", 2_500_000), ("more.bin", 1_800_000)] {
        fs::write(partner.path(name), vec![7; length]).unwrap();
    }
    partner.must("put fits.bin\n");
    assert!(partner.cannot("put long.bin\n").contains("Failure"));
    assert!(partner.cannot("put more.bin\n").contains("Failure"));
    assert_eq!(names(&office, "office/lab").iter().filter(|name| !name.starts_with(".wetbank-")).count(), 1);
    assert!(partner.must("df\n").contains("Avail"));
    // What was cut off is given up, and there is room again.
    partner.must("rm long.bin\nrm more.bin\nrm fits.bin\nput more.bin\n");
    assert_eq!(names(&office, "office/lab"), ["more.bin"]);
}

#[test]
fn all_files_of_a_visit_are_one_run_and_other_things_start_rules_too() {
    let rules = "[rule.together]\nstarts = { account = { together = \"1 min\" } }\n\
                 [[rule.together.branch]]\nsteps = [ { copy = { to = \"archive\", folder = \"visit\" } } ]\n\
                 [rule.came]\nstarts = { account = { on = [\"signed-in\"] } }\n\
                 [[rule.came.branch]]\nsteps = [ { make-folder = { to = \"archive\", folder = \"came-{{ account.name }}\" } } ]\n\
                 [rule.collected]\nstarts = { account = { on = [\"collected\"] } }\n\
                 [[rule.collected.branch]]\nsteps = [ { copy = { to = \"archive\", folder = \"collected\" } } ]\n";
    let (office, partner) = Office::receiving(BOTH, rules);
    for name in ["a.csv", "b.csv", "c.csv"] {
        fs::write(partner.path(name), name).unwrap();
    }
    partner.must("put a.csv\nput b.csv\nput c.csv\nget a.csv back.csv\n");
    wait_for("all are copied", || (names(&office, "archive/visit").len() == 3).then_some(()));
    wait_for("it is known that it came", || office.path("archive/came-lindmoor").exists().then_some(()));
    wait_for("it is known what it collected", || office.path("archive/collected/a.csv").exists().then_some(()));
    let runs = office.json(&["run", "list", "--rule", "together"]);
    assert_eq!(runs["runs"].as_array().unwrap().len(), 1, "{runs}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_manager_lets_a_partner_in_on_its_page_and_sees_what_came() {
    let (office, partner) = Office::receiving(BOTH, "");
    fs::write(partner.path("assay-0412.csv"), "x,2.31\n").unwrap();
    partner.must("put assay-0412.csv\n");
    let browser = Browser::open().await;
    browser.sign_in(&office).await;
    browser.go(&office, "/partners/lindmoor").await;
    browser.find("//section[@aria-label='Accounts']//*[contains(., 'handed in')]").await;
    browser.click("//a[normalize-space()='Add an account']").await;
    browser.fill("Name in the book", "lindmoor-page").await;
    browser.pick("Place", "office").await;
    browser.fill("Folder", "page").await;
    browser.click("//label[normalize-space()='With a password']").await;
    browser.press("Put in force").await;
    browser.find("//h1[normalize-space()='lindmoor-page']").await;
    browser.press("Make a password that counts once").await;
    let once = browser.find("//output//span[contains(@class, 'file')]").await.text().await.unwrap();
    assert_eq!(once.len(), 23, "{once}");
    browser.find("//*[contains(., 'which counts once')]").await;
    browser.go(&office, "/accounts/lindmoor").await;
    // Each part of the page comes in its own time.
    for words in
        ["assay-0412.csv", "handed in", "BLAKE3", "by sftp", "host key ssh-ed25519", "hand in and collect, and remove"]
    {
        browser.find(&format!("//main//*[contains(normalize-space(.), '{words}')]")).await;
    }
}

#[test]
fn j05_what_a_named_account_hands_in_is_forwarded_to_another_server_under_the_same_name() {
    let (office, partner) = Office::receiving("place = \"office\"\nfolder = \"lab\"\nmay = \"both\"\n", "");
    let sshd = Sshd::start();
    let harbour = openssh(&office, &sshd, "harbour", "harbour");
    let rule = "[rule.forward]\nstarts = { account = { on = [\"handed-in\"], accounts = [\"lindmoor\"], folder = \"charts\" } }\n\
                [[rule.forward.branch]]\nif = { all = [ { account = \"event\", is = \"handed-in\" }, { file = \"size\", under = \"1 MB\" }, \
                { account = \"address\", starts-with = \"127.\" } ] }\nsteps = [ { copy = { to = \"harbour\" } } ]\n";
    office.add(&format!("{harbour}{rule}"));
    fs::write(partner.path("B12.chart"), "soundings").unwrap();
    fs::write(partner.path("large.chart"), vec![7; 1_200_000]).unwrap();
    office.put("office/lab/charts/there.chart", b"not handed in");
    partner.must("get charts/there.chart\nput B12.chart charts/\nput large.chart charts/\nput B12.chart\n");
    let there = office.path("harbour");
    wait_for("it is forwarded", || fs::read(there.join("B12.chart")).ok().filter(|kept| kept == b"soundings"));
    wait_for("the others are left", || {
        let runs = office.json(&["run", "list"]);
        let runs = runs["runs"].as_array()?.clone();
        (runs.len() == 2 && runs.iter().all(|run| run["state"] != "running")).then_some(())
    });
    assert_eq!(fs::read_dir(&there).unwrap().count(), 1);
    // Did they fetch it, and when?
    let file = "office:/lab/charts/there.chart";
    let fetched = office.json(&["account", "exchanged", "--file", file]);
    assert_eq!((&fetched[0]["what"], &fetched[0]["address"]), (&"collected".into(), &"127.0.0.1".into()), "{fetched}");
    assert_eq!(fetched.as_array().unwrap().len(), 1);
}
