//! Offices in which files take long ways, with all that their steps need.

use std::{collections::BTreeMap, fs, os::unix::fs::PermissionsExt, path::PathBuf, process::Command};

use wetbank_standins::SftpStandin;
use wetbank_testbed::{MAIL_USER, PostOffice};

use super::{
    Archive, Office,
    cuts::Way,
    desk::Desk,
    leftovers, names,
    servers::{Scene, mailbox, sftp},
    wait_for,
};

const RULES: &str = r#"
[rule.long-way]
retry = { attempts = 20, first = "100ms", longest = "1s" }
starts = { arrival = { place = "office", folder = "in" } }
[[rule.long-way.branch]]
steps = [
  { compress = { with = "zstd" } },
  { encrypt = { passphrase = { secret = "phrase" } } },
  { note = { text = "number {{ count }}" } },
  { decrypt = { passphrase = { secret = "phrase" } } },
  { expand = {} },
  { make-folder = { to = "archive", folder = "made/{{ file.stem }}" } },
  { load = { into = "survey", table = "gauge" } },
  { call = { url = "http://127.0.0.1:@desk@/told", json = { name = "{{ file.name }}" } } },
  { program = { run = "stamp", args = ["{{ local }}"], as = "{{ file.stem }}.txt", again = true } },
  { mail = { by = "post", to = "wardens@merrow.example", subject = "told of {{ file.name }}" } },
  { mail = { by = "post", to = "wardens@merrow.example", subject = "carried {{ file.name }}", attach = ["*"] } },
  { copy = { to = "archive", folder = "copied" } },
  { move = { to = "archive", folder = "moved", as = "{{ count | pad(3) }}-{{ file.name }}" } },
]
original = { move-to = "done" }

[rule.report]
retry = { attempts = 20, first = "100ms", longest = "1s" }
starts = { chain = { after = ["moved"], rules = ["long-way"] } }
[[rule.report.branch]]
steps = [
  { extract = { from = "survey", table = "gauge", as = "{{ file.stem }}.csv" } },
  { sign = { by = "merrow" } },
  { deliver = { to = "archive", folder = "reports" } },
]
"#;

fn sqlite(file: &std::path::Path, query: &str) -> String {
    let script = "import sqlite3, sys\nc = sqlite3.connect(sys.argv[1], timeout=30)\nr = c.execute(sys.argv[2]).fetchall()\nc.commit()\nprint('\\n'.join('|'.join(map(str, row)) for row in r))";
    let output = Command::new("python3").args(["-c", script]).arg(file).arg(query).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

/// How often each identifier of a letter was sent, by its subject.
fn sent(post: &PostOffice) -> BTreeMap<String, Vec<String>> {
    let mut by_subject: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for letter in post.sent() {
        let field = |name: &str| letter.lines().find_map(|line| line.strip_prefix(name)).unwrap_or_default().to_owned();
        by_subject.entry(field("Subject: ")).or_default().push(field("Message-ID: "));
    }
    by_subject
}

/// An office in which a file takes a long way, with all that its steps need.
pub struct LongWay {
    office: Office,
    post: PostOffice,
    desk: Desk,
    database: PathBuf,
}

fn content(number: usize) -> String {
    format!("station,level\nB{number:03},{number}.5\n")
}

impl LongWay {
    pub fn new() -> Self {
        let (post, desk, office) = (PostOffice::start(), Desk::always("200 OK|noted"), Office::open());
        let database = office.path("survey.db");
        sqlite(&database, "CREATE TABLE gauge (station TEXT, level REAL)");
        for (name, secret) in [("post", MAIL_USER.1), ("phrase", "grey heron at low tide")] {
            assert!(office.wetbank_with(&["secret", "set", name], secret).status.success());
        }
        office.allow("stamp", "sleep 0.02; cat \"$1\"; echo stamped");
        office.import_key("merrow");
        for folder in ["archive", "office/in"] {
            fs::create_dir_all(office.path(folder)).unwrap();
            fs::set_permissions(office.path(folder), fs::Permissions::from_mode(0o755)).unwrap();
        }
        let places = format!(
            "{}[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.archive]\nkind = \"folder\"\nroot = \"@/archive\"\n\
             [database.survey]\nkind = \"sqlite\"\nfile = \"{}\"\n",
            mailbox("post", &post),
            database.display()
        );
        office.book(&format!("{places}{}", RULES.replace("@desk@", &desk.port.to_string())));
        Self { office, post, desk, database }
    }

    /// Each of so many files went its whole way once and left nothing behind.
    pub fn check(&self, files: usize) {
        let (office, post) = (&self.office, &self.post);
        let expected: Vec<String> = (0..files).map(|number| format!("sheet-{number:03}.txt")).collect();
        assert_eq!(names(&office.path("archive/copied")), expected);
        let moved = names(&office.path("archive/moved"));
        let (counts, mut moved): (Vec<_>, Vec<_>) =
            moved.iter().map(|name| name.split_once('-').map(|(a, b)| (a.to_owned(), b.to_owned())).unwrap()).unzip();
        moved.sort();
        assert_eq!(moved, expected);
        let numbers: Vec<String> = (1..=files).map(|number| format!("{number:03}")).collect();
        assert_eq!(counts, numbers, "no number was given twice, and none is missing");
        for number in 0..files {
            let path = office.path(&format!("archive/copied/sheet-{number:03}.txt"));
            assert_eq!(fs::read_to_string(path).unwrap(), content(number) + "stamped\n");
            assert!(office.path(&format!("archive/made/sheet-{number:03}")).is_dir());
        }
        let rows = sqlite(&self.database, "SELECT count(*), count(DISTINCT station) FROM gauge");
        assert_eq!(rows, format!("{files}|{files}"));
        // What cannot be done exactly once bears the same sign each time.
        let mut keys: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (head, body) in self.desk.asked() {
            let key = head
                .lines()
                .find_map(|line| line.to_ascii_lowercase().strip_prefix("idempotency-key: ").map(str::to_owned));
            keys.entry(String::from_utf8_lossy(&body).into_owned()).or_default().push(key.unwrap());
        }
        wait_for("all are told of", || (sent(post).len() == 2 * files).then_some(()));
        let letters = sent(post);
        assert_eq!((keys.len(), letters.len()), (files, 2 * files));
        for (what, mut signs) in keys.into_iter().chain(letters) {
            signs.dedup();
            assert_eq!(signs.len(), 1, "{what}: {signs:?}");
        }
        assert_eq!(leftovers(&office.path("archive")).len() + leftovers(&office.path("office")).len(), 0);
        office.wait_work_cleared();
        wait_for("the outbox is empty", || names(&office.data().join("outbox")).is_empty().then_some(()));
    }
}

impl Way for LongWay {
    fn office(&mut self) -> &mut Office {
        &mut self.office
    }

    fn put(&self, number: usize) {
        self.office.put(&format!("office/in/sheet-{number:03}.csv"), content(number).as_bytes());
    }

    fn is_through(&self, files: usize) -> bool {
        names(&self.office.path("office/in/done")).len() == files
            && names(&self.office.path("archive/reports")).len() == 2 * files
    }
}

/// An office whose files travel in parcels, to servers that stay when the service goes.
pub struct Parcels {
    scene: Scene,
    store: Archive,
    _machine: SftpStandin,
}

const PARCELS: &str = r#"
[rule.opens]
retry = { attempts = 20, first = "100ms", longest = "1s" }
starts = { arrival = { place = "office", folder = "zips", names = ["*.zip"] } }
[[rule.opens.branch]]
steps = [
  { unpack = {} },
  { copy = { to = "store", folder = "copies" } },
  { encrypt = { passphrase = { secret = "machine" } } },
  { deliver = { to = "machine", folder = "in" } },
]
original = { mark = "{{ file.name }}.done" }

[rule.pairs]
retry = { attempts = 20, first = "100ms", longest = "1s" }
starts = { arrival = { place = "office", folder = "pairs", names = ["*.csv"], gather = { count = 2 } } }
[[rule.pairs.branch]]
steps = [
  { pack = { as = "{{ count | pad(3) }}.zip" } },
  { copy = { to = "store", folder = "pairs", as = "{{ count | pad(3) }}-{{ file.name }}" } },
  { move = { to = "machine", folder = "pairs" } },
]
original = { move-to = "sent" }
"#;

impl Parcels {
    pub fn new() -> Self {
        let scene = Scene::new();
        let (machine, machine_place) = sftp(&scene, "machine", "machine");
        let (store, store_place) = scene.bucket("store");
        for folder in ["office/zips", "office/pairs"] {
            fs::create_dir_all(scene.office.path(folder)).unwrap();
        }
        scene.book(&[&machine_place, &store_place, PARCELS]);
        Self { scene, store, _machine: machine }
    }

    fn at(&self, below: &str) -> Vec<String> {
        names(&self.scene.office.path(below))
    }

    /// Everything arrived once, under its one name, and nothing is left over.
    pub fn check(&self, files: usize) {
        let both = |number: usize| [format!("a-{number:03}.csv"), format!("b-{number:03}.csv")];
        let all = || (0..files).flat_map(both);
        let mut sealed: Vec<String> = all().map(|name| name + ".pgp").collect();
        sealed.sort();
        assert_eq!(self.at("machine/in"), sealed);
        assert_eq!(self.at("office/pairs/sent").len(), 2 * files);
        let numbers = || (1..=files).map(|number| format!("{number:03}.zip"));
        assert_eq!(self.at("machine/pairs"), numbers().collect::<Vec<_>>());
        let mut keys: Vec<String> = all().map(|name| format!("copies/{name}")).collect();
        keys.extend(numbers().map(|name| format!("pairs/{}-{name}", &name[..3])));
        keys.sort();
        assert_eq!(self.store.keys(), keys);
        assert_eq!(self.store.open_uploads(), 0);
        for name in all() {
            assert_eq!(self.store.object(&format!("copies/{name}")).unwrap(), name.as_bytes());
        }
        // Each file went in one parcel.
        let script = "import sys, zipfile\nprint('\\n'.join(sorted(n for z in sys.argv[1:] for n in zipfile.ZipFile(z).namelist())))";
        let packs = self.at("machine/pairs").into_iter().map(|name| self.scene.office.path("machine/pairs").join(name));
        let output = Command::new("python3").args(["-c", script]).args(packs).output().unwrap();
        let mut packed: Vec<String> = all().collect();
        packed.sort();
        assert_eq!(String::from_utf8_lossy(&output.stdout).lines().collect::<Vec<_>>(), packed);
        assert!(leftovers(&self.scene.office.path("machine")).is_empty());
        assert!(leftovers(&self.scene.office.path("office")).is_empty());
        self.scene.office.wait_work_cleared();
    }
}

impl Way for Parcels {
    fn office(&mut self) -> &mut Office {
        &mut self.scene.office
    }

    fn put(&self, number: usize) {
        let office = &self.scene.office;
        let script =
            "import sys, zipfile\nz = zipfile.ZipFile(sys.argv[1], 'w')\n[z.writestr(n, n) for n in sys.argv[2:]]";
        let (zip, both) = (office.path("made.zip"), ["a", "b"].map(|which| format!("{which}-{number:03}.csv")));
        assert!(Command::new("python3").args(["-c", script]).arg(&zip).args(&both).status().unwrap().success());
        office.put(&format!("office/zips/{number:03}.zip"), &fs::read(zip).unwrap());
        for name in both {
            office.put(&format!("office/pairs/{name}"), name.as_bytes());
        }
    }

    fn is_through(&self, files: usize) -> bool {
        let done = |name: &&String| name.ends_with(".done");
        self.at("office/zips").iter().filter(done).count() == files && self.at("office/pairs/sent").len() == 2 * files
    }
}
