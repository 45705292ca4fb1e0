//! What somebody hostile could arrange, call, send or put in a file's place.

use std::{
    fs,
    io::{Read, Write},
    net::TcpStream,
    os::unix::fs::{PermissionsExt, symlink},
    process::Command,
    time::{Duration, Instant},
};

use crate::support::{Office, PLACES, desk::Desk, names, office, wait_for};

fn said(output: &std::process::Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned() + &*String::from_utf8_lossy(&output.stdout)
}

#[test]
fn no_place_and_no_database_reaches_the_services_own_data() {
    let mut office = Office::open();
    symlink(office.data(), office.path("office/way")).unwrap();
    fs::create_dir(office.path("data/inbox")).unwrap();
    for root in ["@/data", "@/data/inbox", "@/", "@/office/way", "@/office/../data"] {
        let tried = office.try_book(&format!("[place.own]\nkind = \"folder\"\nroot = \"{root}\"\n"));
        assert!(!tried.status.success(), "{root}");
        let told = said(&tried);
        assert!(told.contains("own data folder") && told.contains("place.own"), "{root}: {told}");
    }
    let data = office.data().display().to_string();
    let added = office.wetbank(&["place", "add", "own", "--kind", "folder", "--root", &data]);
    assert!(!added.status.success(), "{}", said(&added));
    let tried = office.try_book("[database.own]\nkind = \"sqlite\"\nfile = \"@/data/journal.db\"\n");
    assert!(!tried.status.success() && said(&tried).contains("own data"), "{}", said(&tried));
    assert!(office.json(&["place", "list"]).as_array().unwrap().is_empty());
    // A folder that becomes a way to it later is found at the next start.
    fs::create_dir(office.path("later")).unwrap();
    office.book("[place.later]\nkind = \"folder\"\nroot = \"@/later\"\n");
    office.stop();
    fs::remove_dir(office.path("later")).unwrap();
    symlink(office.data(), office.path("later")).unwrap();
    office.start();
    let browsed = office.wetbank(&["place", "browse", "later:/"]);
    assert!(!browsed.status.success() && said(&browsed).contains("own data folder"), "{}", said(&browsed));
}

#[test]
fn a_data_folder_that_others_may_read_stays_so_and_what_is_put_into_it_is_closed() {
    let mut office = Office::open();
    office.stop();
    fs::remove_dir_all(office.data()).unwrap();
    fs::create_dir(office.data()).unwrap();
    fs::set_permissions(office.data(), fs::Permissions::from_mode(0o755)).unwrap();
    office.start();
    office.json(&["status"]);
    let mode = |path: &std::path::Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode(&office.data()), 0o755, "nobody asked for another");
    for name in ["journal.db", "journal.db-wal", "vault.key", "token", "work", "outbox"] {
        assert_eq!(mode(&office.data().join(name)) & 0o077, 0, "{name}");
    }
    let log = fs::read_to_string(office.path("log")).unwrap();
    assert!(log.contains("chmod 700"), "{log}");
}

#[test]
fn half_sent_requests_stop_nobody() {
    let office = office(
        "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n[[rule.keep.branch]]\n\
         steps = [ { copy = { to = \"archive\" } } ]\n",
    );
    let address = office.url().trim_start_matches("http://").to_owned();
    let half = |text: &str| {
        let mut stream = TcpStream::connect(&address).unwrap();
        let _ = stream.write_all(text.as_bytes());
        stream
    };
    let mut open: Vec<_> = (0..700).map(|_| half("GET /api/v1/status HTTP/1.1\r\nHost: 127.0.0.1\r\nX-")).collect();
    let began = Instant::now();
    office.json(&["status"]);
    office.put("office/in/a.csv", b"1");
    wait_for("the file", || office.path("archive/a.csv").exists().then_some(()));
    assert!(began.elapsed() < Duration::from_secs(8), "{:?}", began.elapsed());
    // The last of them was not turned away at once, but is not waited for for ever.
    let last = open.last_mut().unwrap();
    last.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let mut rest = Vec::new();
    let _ = last.read_to_end(&mut rest);
    assert!(began.elapsed() < Duration::from_secs(20), "it is still open");
}

#[test]
fn a_book_that_would_never_be_checked_is_refused_soon_and_a_large_one_is_taken() {
    let office = Office::open();
    let with = |name: &str| {
        format!(
            "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[rule.a]\nstarts = {{ arrival = {{ place = \"office\", folder = \"in\" }} }}\n\
             [[rule.a.branch]]\nsteps = [ {{ copy = {{ folder = \"x\", as = '{name}' }} }} ]\n"
        )
    };
    let began = Instant::now();
    for name in [
        format!("{{% for a in \"{}\" %}}", "x".repeat(900)).repeat(4) + "x" + "{% endfor %}".repeat(4).as_str(),
        format!("{{{{ {}1{} }}}}", "(".repeat(50_000), ")".repeat(50_000)),
        "{{ count | pad(70000) }}".to_owned(),
    ] {
        let tried = office.try_book(&with(&name));
        assert!(!tried.status.success() && said(&tried).contains("template"), "{}", said(&tried));
    }
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
    let comment = format!("# {}\n", "x".repeat(98)).repeat(60_000);
    office.book(&(comment + with("{{ file.name }}").as_str()));
}

#[test]
fn a_files_name_changes_nothing_of_the_address_that_is_called() {
    let desk = Desk::open(vec!["200 OK|", "200 OK|"]);
    let office = office(&format!(
        "[rule.tell]\nstarts = {{ arrival = {{ place = \"office\", folder = \"out\", below = true }} }}\n[[rule.tell.branch]]\n\
         steps = [ {{ call = {{ url = \"http://127.0.0.1:{}/items/{{{{ file.stem }}}}/{{{{ file.path | parts }}}}?name={{{{ file.name }}}}\" }} }} ]\noriginal = \"delete\"\n",
        desk.port
    ));
    office.put("office/out/deep/x?admin=1&y#.csv", b"1");
    wait_for("it is told", || (!office.path("office/out/deep/x?admin=1&y#.csv").exists()).then_some(()));
    let asked = desk.asked();
    let line = asked[0].0.lines().next().unwrap();
    assert_eq!(
        line,
        "GET /items/x%3Fadmin%3D1%26y%23/out/deep/x%3Fadmin%3D1%26y%23.csv?name=x%3Fadmin%3D1%26y%23.csv HTTP/1.1"
    );
    // A part of the path that would lead upwards is not called at all.
    office.put("office/out/...csv", b"1");
    let hold = office.hold();
    assert!(hold["why"].as_str().unwrap().contains("leads elsewhere"), "{hold}");
    assert_eq!(desk.asked().len(), 1);
}

#[test]
fn a_program_gets_the_file_that_came_whatever_is_put_in_its_place() {
    let office = office(
        "[rule.check]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n[[rule.check.branch]]\n\
         steps = [ { program = { run = \"check\", args = [\"{{ local }}\"], as = \"{{ file.stem }}.txt\" } }, { copy = { to = \"archive\" } } ]\n",
    );
    let (secret, incoming) = (office.path("secret"), office.path("office/in/a.csv"));
    fs::write(&secret, "for nobody").unwrap();
    // It puts a link in the file's place before it reads what it was given.
    office.allow("check", &format!("ln -sf {} {}; cat \"$1\"; basename \"$1\"", secret.display(), incoming.display()));
    office.put("office/in/a.csv", b"grades\n");
    wait_for("the result", || office.path("archive/a.txt").exists().then_some(()));
    assert_eq!(fs::read_to_string(office.path("archive/a.txt")).unwrap(), "grades\na.csv\n");
    office.wait_work_cleared();
}

#[test]
fn a_program_whose_child_holds_its_output_open_is_over_at_its_limit() {
    let office = office(
        "[rule.check]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n[[rule.check.branch]]\n\
         steps = [ { program = { run = \"check\", timeout = \"1s\" } } ]\n",
    );
    office.allow("check", "setsid sleep 600 & exec sleep 600");
    office.put("office/in/a.csv", b"1");
    let began = Instant::now();
    let hold = office.hold();
    assert_eq!(hold["code"], "too-much", "{hold}");
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
}

#[test]
fn nothing_strange_in_an_address_breaks_or_misleads() {
    let office = Office::open();
    let curl = |path: &str, more: &[&str]| {
        let output = Command::new("curl")
            .args(["-sS", "-i", "--path-as-is"])
            .args(more)
            .arg(format!("{}{path}", office.url()))
            .output()
            .unwrap();
        String::from_utf8_lossy(&output.stdout).to_ascii_lowercase()
    };
    let bearer = format!("Authorization: Bearer {}", office.token().trim());
    let token = ["-H", bearer.as_str()];
    for path in ["/api/v1/trace?text=abc%00", "/api/v1/rules/a%00b", "/api/v1/runs?rule=%00"] {
        let answer = curl(path, &token);
        assert!(answer.starts_with("http/1.1 400"), "{path}: {answer}");
    }
    let status = curl("/api/v1/status", &token);
    assert!(status.contains("cache-control: no-store"), "{status}");
    let page = curl("/", &[]);
    assert!(page.contains("base-uri 'none'") && page.contains("form-action 'self'"), "{page}");
    curl("/api/v1/status", &["-H", "Authorization: Bearer wrong"]);
    curl("/signal/a%0aWARN%20forged", &["-d", "{}"]);
    let log = fs::read_to_string(office.path("log")).unwrap();
    assert!(log.contains("sign-in was refused") && log.contains("127.0.0.1"), "{log}");
    assert!(!log.lines().any(|line| line.starts_with("WARN forged")), "{log}");
}

#[test]
fn what_only_its_owner_could_read_is_for_no_others_where_it_goes() {
    let office = Office::open();
    fs::create_dir_all(office.path("archive")).unwrap();
    office.import_key("merrow");
    let rules = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n[[rule.keep.branch]]\n\
        steps = [ { copy = { to = \"archive\" } }, { compress = {} }, { copy = { to = \"archive\" } }, { encrypt = { to = [\"merrow\"] } }, { copy = { to = \"archive\" } }, { decrypt = {} }, { copy = { to = \"archive\", as = \"{{ file.name }}.open\" } } ]\n";
    office.book(&format!("{PLACES}{rules}"));
    let mode = |name: &str| fs::metadata(office.path("archive").join(name)).unwrap().permissions().mode() & 0o777;
    for (name, own) in [("private.csv", 0o600), ("public.csv", 0o644)] {
        let aside = office.path("aside");
        fs::write(&aside, "grades").unwrap();
        fs::set_permissions(&aside, fs::Permissions::from_mode(own)).unwrap();
        fs::create_dir_all(office.path("office/in")).unwrap();
        fs::rename(aside, office.path("office/in").join(name)).unwrap();
        let last = format!("{name}.gz.open");
        wait_for("the last of it", || office.path("archive").join(&last).exists().then_some(()));
        assert_eq!((mode(name), mode(&format!("{name}.gz"))), (own, own), "{name}");
        assert_eq!(mode(&format!("{name}.gz.pgp")), 0o644, "whoever has it cannot read it");
        assert_eq!(mode(&last), 0o600, "what is decrypted was closed to all");
    }
}

#[test]
fn what_grows_beyond_measure_is_held_and_allowed_when_somebody_says_so() {
    let office = office(
        "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n[[rule.keep.branch]]\n\
         steps = [ { expand = {} }, { copy = { to = \"archive\" } } ]\n",
    );
    let bomb = office.path("bomb.gz");
    let made = Command::new("sh")
        .args(["-c", &format!("head -c 300000000 /dev/zero | gzip -9 > {}", bomb.display())])
        .status()
        .unwrap();
    assert!(made.success());
    let content = fs::read(&bomb).unwrap();
    office.put("office/in/zeros.gz", &content);
    let hold = office.hold();
    assert_eq!(hold["code"], "too-large", "{hold}");
    assert!(names(&office.path("archive")).is_empty());
    let file = office.path("allowing.toml");
    let allowing = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n[[rule.keep.branch]]\n\
        steps = [ { expand = { most = \"400 MB\" } }, { copy = { to = \"archive\" } } ]\n";
    fs::write(&file, allowing).unwrap();
    assert!(office.wetbank(&["book", "apply", "--part", file.to_str().unwrap()]).status.success());
    office.put("office/in/again.gz", &content);
    wait_for("what was allowed", || office.path("archive/again").exists().then_some(()));
}
