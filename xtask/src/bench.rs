//! The figures we promise, measured on the release binary against the system's own tools, in
//! one run on one machine. Ratios mean something; absolute times belong to the machine.

use std::{
    fs,
    io::Write,
    net::TcpListener,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    thread::sleep,
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use serde_json::Value;
use tempfile::TempDir;

use crate::{
    bench_errands, bench_places, setup,
    steps::{build, say},
};

const BINARY: &str = "target/release/wetbank";
const MIB: usize = 1 << 20;
/// Nothing that is measured here takes longer, or it hangs.
const PATIENCE: Duration = Duration::from_secs(300);

/// How long SHA-256 of a file takes by itself: nothing that records it can be faster, and on a
/// processor without SHA instructions it takes longer than all the rest.
fn sha256_alone(file: &Path) -> Result<Duration> {
    shell(&format!("openssl dgst -sha256 '{}' > /dev/null", file.display()))
}

pub(crate) struct Figure {
    pub what: String,
    pub ours: String,
    pub theirs: String,
    pub ratio: String,
    pub promised: &'static str,
    pub kept: bool,
}

type Measure = fn(&mut Vec<Figure>) -> Result<()>;

/// What is measured, by the names that choose it.
const FIGURES: [(&str, Measure); 16] = [
    ("pieces", pieces),
    ("large", large_copy),
    ("small", small_copies),
    ("burst", burst),
    ("one", one_file),
    ("sftp", sftp),
    ("openpgp", openpgp),
    ("idle", idle),
    ("share", bench_places::share),
    ("ftp", bench_places::ftp),
    ("webdav", bench_places::webdav),
    ("bucket", bench_places::bucket),
    ("entries", bench_places::entries),
    ("schedules", bench_errands::schedules),
    ("zip", bench_errands::zip),
    ("table", bench_errands::table),
];
/// With this the release binary is measured that is there.
const BUILT: &str = "--built";

/// Builds the release binary and measures. Words choose figures by their beginning.
pub fn run_all(words: &[String]) -> Result<()> {
    let chosen: Vec<&String> = words.iter().filter(|word| *word != BUILT).collect();
    if let Some(unknown) = chosen.iter().find(|word| !FIGURES.iter().any(|(name, _)| name.starts_with(word.as_str()))) {
        let names = FIGURES.map(|(name, _)| name).join(" ");
        bail!(
            "no figure begins with {unknown:?}. cargo xtask bench [{BUILT}] [FIGURE…], of these, by their beginning:\n{names}"
        );
    }
    setup::packages()?;
    setup::compared()?;
    if !words.iter().any(|word| word == BUILT) {
        build()?;
    }
    let mut figures = Vec::new();
    for (name, measure) in FIGURES {
        if chosen.is_empty() || chosen.iter().any(|word| name.starts_with(word.as_str())) {
            say(&format!("measuring: {name}"));
            measure(&mut figures)?;
        }
    }
    say("");
    say("| figure | wetbank | compared with | ratio | promised | |");
    say("|---|---|---|---|---|---|");
    for f in &figures {
        let sign = if f.kept { "✓" } else { "✗" };
        say(&format!("| {} | {} | {} | {} | {} | {sign} |", f.what, f.ours, f.theirs, f.ratio, f.promised));
    }
    Ok(())
}

/// What the places do by themselves, without rules and journal.
fn pieces(figures: &mut Vec<Figure>) -> Result<()> {
    let output = Command::new("cargo").args(["bench", "--workspace", "--bench", "pieces"]).output()?;
    if !output.status.success() {
        bail!("the bench of the places: {}", String::from_utf8_lossy(&output.stderr));
    }
    for line in String::from_utf8_lossy(&output.stdout).lines().filter(|line| line.starts_with('|')) {
        let fields: Vec<&str> = line.split('|').map(str::trim).collect();
        let [_, what, ours, theirs, ratio, promised, sign, _] = fields[..] else { bail!("a strange line: {line}") };
        figures.push(Figure {
            what: what.to_owned(),
            ours: ours.to_owned(),
            theirs: theirs.to_owned(),
            ratio: ratio.to_owned(),
            promised: promised.to_owned().leak(),
            kept: sign == "✓",
        });
    }
    Ok(())
}

/// A service on a data folder of its own.
pub(crate) struct Office {
    folder: TempDir,
    service: Child,
}

impl Drop for Office {
    fn drop(&mut self) {
        let _ = self.service.kill();
        let _ = self.service.wait();
    }
}

impl Office {
    pub(crate) fn open(folders: &[&str], book: &str, secrets: &[(&str, &str)]) -> Result<Self> {
        let folder = tempfile::Builder::new().prefix("wetbank-bench-").tempdir_in("target")?;
        for name in folders {
            fs::create_dir_all(folder.path().join(name))?;
        }
        let service = Command::new(fs::canonicalize(BINARY)?)
            .args(["serve", "--listen", "127.0.0.1:0", "--data"])
            .arg(fs::canonicalize(folder.path())?.join("data"))
            .env("WETBANK_LOG", "error")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        let office = Self { folder, service };
        wait(|| office.path("data/address").exists())?;
        for (name, value) in secrets {
            office.wetbank(&["secret", "set", name], value)?;
        }
        let root = fs::canonicalize(office.folder.path())?;
        fs::write(office.path("book.toml"), book.replace('@', &root.display().to_string()))?;
        office.wetbank(&["book", "apply", &office.path("book.toml").display().to_string()], "")?;
        Ok(office)
    }

    pub(crate) fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    pub(crate) fn wetbank(&self, words: &[&str], input: &str) -> Result<Value> {
        let mut child = Command::new(BINARY)
            .arg("--json")
            .args(words)
            .env("WETBANK_DATA", self.path("data"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()?;
        child.stdin.take().context("a pipe")?.write_all(input.as_bytes())?;
        let output = child.wait_with_output()?;
        if !output.status.success() {
            bail!("wetbank {words:?}: {}", String::from_utf8_lossy(&output.stderr));
        }
        Ok(serde_json::from_slice(&output.stdout).unwrap_or(Value::Null))
    }

    /// Waits until so many files are done and journalled.
    pub(crate) fn wait_done(&self, count: i64) -> Result<()> {
        // Asking costs the service time, too: many files are asked for less often.
        let pause = Duration::from_millis(if count > 1000 { 200 } else { 10 });
        wait(|| {
            sleep(pause);
            self.wetbank(&["status"], "").is_ok_and(|s| s["today"]["done"].as_i64() >= Some(count))
        })
    }

    /// Resident memory at its highest, in MiB.
    pub(crate) fn peak(&self) -> Result<f64> {
        self.memory("VmHWM:")
    }

    pub(crate) fn memory(&self, field: &str) -> Result<f64> {
        let status = fs::read_to_string(format!("/proc/{}/status", self.service.id()))?;
        let line = status.lines().find(|line| line.starts_with(field)).context("a line of /proc")?;
        let kib: f64 = line.split_whitespace().nth(1).context("a number")?.parse()?;
        Ok(kib / 1024.0)
    }

    /// Processor time used so far, in clock ticks of a hundredth of a second.
    pub(crate) fn ticks(&self) -> Result<u64> {
        let stat = fs::read_to_string(format!("/proc/{}/stat", self.service.id()))?;
        let fields: Vec<&str> = stat.rsplit(") ").next().context("fields")?.split(' ').collect();
        Ok(fields[11].parse::<u64>()? + fields[12].parse::<u64>()?)
    }
}

pub(crate) fn wait(mut is: impl FnMut() -> bool) -> Result<()> {
    let end = Instant::now() + PATIENCE;
    while !is() {
        if Instant::now() > end {
            bail!("it takes too long");
        }
        sleep(Duration::from_micros(500));
    }
    Ok(())
}

pub(crate) fn shell(line: &str) -> Result<Duration> {
    let began = Instant::now();
    let output = Command::new("sh").args(["-ec", line]).output()?;
    if !output.status.success() {
        bail!("{line}: {}", String::from_utf8_lossy(&output.stderr));
    }
    Ok(began.elapsed())
}

pub(crate) fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

pub(crate) fn seconds(time: Duration) -> String {
    format!("{:.2} s", time.as_secs_f64())
}

/// A file of bytes that no disk and no link can squeeze.
pub(crate) fn noise(path: &Path, mib: usize) -> Result<()> {
    shell(&format!(
        "openssl rand {} > '{}' 2>/dev/null || head -c {} /dev/urandom > '{}'",
        mib * MIB,
        path.display(),
        mib * MIB,
        path.display()
    ))
    .map(drop)
}

const COPY: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.archive]\nkind = \"folder\"\nroot = \"@/archive\"\n\
[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", below = true } }\n\
[[rule.keep.branch]]\nsteps = [ { copy = { to = \"archive\", folder = \"{{ file.folder }}\" } } ]\n";

fn at_most(
    what: impl Into<String>,
    ours: Duration,
    theirs: (&str, Duration),
    limit: f64,
    promised: &'static str,
) -> Figure {
    let ratio = ours.as_secs_f64() / theirs.1.as_secs_f64();
    Figure {
        what: what.into(),
        ours: seconds(ours),
        theirs: format!("{} {}", theirs.0, seconds(theirs.1)),
        ratio: format!("{ratio:.2}"),
        promised,
        kept: ratio <= limit,
    }
}

pub(crate) fn at_least(
    what: impl Into<String>,
    ours: Duration,
    theirs: (&str, Duration),
    limit: f64,
    promised: &'static str,
) -> Figure {
    let ratio = theirs.1.as_secs_f64() / ours.as_secs_f64();
    Figure {
        what: what.into(),
        ours: seconds(ours),
        theirs: format!("{} {}", theirs.0, seconds(theirs.1)),
        ratio: format!("{ratio:.2} times as fast"),
        promised,
        kept: ratio >= limit,
    }
}

fn large_copy(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office/in", "archive/in", "theirs"], COPY, &[])?;
    noise(&office.path("source"), 1024)?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..3 {
        let folder = office.folder.path().display();
        shell(&format!("cp '{folder}/source' '{folder}/office/.wetbank-{round}'; sync"))?;
        theirs.push(shell(&format!(
            "cp '{folder}/source' '{folder}/theirs/{round}'; sync '{folder}/theirs/{round}' '{folder}/theirs'"
        ))?);
        let there = office.path(&format!("archive/in/{round}"));
        let began = Instant::now();
        fs::rename(office.path(&format!("office/.wetbank-{round}")), office.path(&format!("office/in/{round}")))?;
        wait(|| there.exists())?;
        ours.push(began.elapsed());
        office.wait_done(round + 1)?;
        fs::remove_file(there)?;
        fs::remove_file(office.path(&format!("theirs/{round}")))?;
        fs::remove_file(office.path(&format!("office/in/{round}")))?;
        sleep(Duration::from_millis(500));
    }
    let mut figure = at_most(
        "1 GiB copied here, SHA-256 and BLAKE3 on record",
        median(ours),
        ("cp, sync", median(theirs)),
        1.7,
        "at most 1.7",
    );
    figure.theirs += &format!("; SHA-256 alone {}", seconds(sha256_alone(&office.path("source"))?));
    figures.push(figure);
    Ok(())
}

pub(crate) fn tree(at: &Path, folders: usize, files: usize, bytes: usize) -> Result<()> {
    for folder in 0..folders {
        let folder = at.join(format!("{folder:03}"));
        fs::create_dir_all(&folder)?;
        for file in 0..files / folders {
            fs::write(folder.join(format!("{file:04}.csv")), vec![(file % 251) as u8; bytes])?;
        }
    }
    Ok(())
}

fn small_copies(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office/in", "archive/in", "theirs"], COPY, &[])?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..3i64 {
        let source = office.path("office/aside");
        tree(&source, 20, 20_000, 4096)?;
        let folder = office.folder.path().display();
        shell("sync; sleep 3")?;
        theirs.push(shell(&format!(
            "cp -r '{folder}/office/aside' '{folder}/theirs/{round}'; sync -f '{folder}/theirs'"
        ))?);
        let began = Instant::now();
        fs::rename(source, office.path(&format!("office/in/r{round}")))?;
        office.wait_done((round + 1) * 20_000)?;
        ours.push(began.elapsed());
    }
    figures.push(at_most(
        "20,000 files of 4 KiB copied here through a rule, journalled",
        median(ours),
        ("cp -r, sync", median(theirs)),
        1.2,
        "at most 1.2",
    ));
    Ok(())
}

fn burst(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office/in/old", "archive"], COPY, &[])?;
    let began = Instant::now();
    let writers: Vec<_> = (0..4)
        .map(|writer| {
            let root = office.path("office/in");
            std::thread::spawn(move || -> std::io::Result<()> {
                for file in 0..5000 {
                    let folder =
                        if file % 2 == 0 { root.join("old") } else { root.join(format!("new-{writer}-{}", file / 50)) };
                    fs::create_dir_all(&folder)?;
                    fs::write(folder.join(format!("{writer}-{file}.csv")), [writer; 1024])?;
                }
                Ok(())
            })
        })
        .collect();
    for writer in writers {
        writer.join().map_err(|_| anyhow::anyhow!("a writer broke off"))??;
    }
    office.wait_done(20_000)?;
    let took = began.elapsed();
    sleep(Duration::from_secs(3));
    let done = office.wetbank(&["status"], "")?["today"]["done"].as_i64().unwrap_or(0);
    let count: usize = walk(&office.path("archive"))?;
    let rate = 20_000.0 / took.as_secs_f64();
    figures.push(Figure {
        what: "20,000 files dropped by four writers, half into new folders".to_owned(),
        ours: seconds(took),
        theirs: format!("{count} arrived, {done} runs, peak {:.0} MiB", office.peak()?),
        ratio: format!("{rate:.0} files/s"),
        promised: "at least 2,000/s, none lost, none twice",
        kept: rate >= 2000.0 && count == 20_000 && done == 20_000,
    });
    Ok(())
}

fn walk(folder: &Path) -> Result<usize> {
    let mut count = 0;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        count += if entry.file_type()?.is_dir() { walk(&entry.path())? } else { 1 };
    }
    Ok(count)
}

fn one_file(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office/in", "archive/in"], COPY, &[])?;
    let mut times = Vec::new();
    for number in 0..200 {
        let there = office.path(&format!("archive/in/{number}.csv"));
        let began = Instant::now();
        fs::write(office.path(&format!("office/in/{number}.csv")), b"one reading")?;
        wait(|| there.exists())?;
        times.push(began.elapsed());
        sleep(Duration::from_millis(5));
    }
    times.sort();
    let ms = |time: Duration| time.as_secs_f64() * 1000.0;
    let middle = ms(times[times.len() / 2]);
    figures.push(Figure {
        what: "one file alone, from close to committed".to_owned(),
        ours: format!("median {middle:.1} ms"),
        theirs: format!("99th percentile {:.1} ms", ms(times[times.len() * 99 / 100])),
        ratio: "–".to_owned(),
        promised: "median under 30 ms",
        kept: middle < 30.0,
    });
    Ok(())
}

struct Sshd(Child, u16, TempDir, String);

impl Drop for Sshd {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn sshd() -> Result<Sshd> {
    let folder = TempDir::new()?;
    let at = folder.path().display();
    shell(&format!(
        "chmod 755 '{at}'; ssh-keygen -q -N '' -t ed25519 -f '{at}/host'; ssh-keygen -q -N '' -t ed25519 -f '{at}/client'; cp '{at}/client.pub' '{at}/authorized'; mkdir -p /run/sshd"
    ))?;
    let port = TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    fs::write(
        folder.path().join("config"),
        format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey {at}/host\nPidFile none\nUsePAM no\nStrictModes no\nAuthorizedKeysFile {at}/authorized\nSubsystem sftp internal-sftp\nMaxStartups 100\nLogLevel ERROR\n"
        ),
    )?;
    let child = Command::new("/usr/sbin/sshd").args(["-D", "-f", &format!("{at}/config")]).spawn()?;
    wait(|| std::net::TcpStream::connect(("127.0.0.1", port)).is_ok())?;
    let shown = Command::new("ssh-keygen").args(["-l", "-f", &format!("{at}/host")]).output()?;
    let fingerprint =
        String::from_utf8_lossy(&shown.stdout).split_whitespace().nth(1).context("a fingerprint")?.to_owned();
    Ok(Sshd(child, port, folder, fingerprint))
}

fn sftp(figures: &mut Vec<Figure>) -> Result<()> {
    let server = sshd()?;
    let user = String::from_utf8_lossy(&Command::new("id").arg("-un").output()?.stdout).trim().to_owned();
    let book = format!(
        "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.server]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"{user}\"\nkey = {{ secret = \"key\" }}\nhost-key = \"{}\"\nroot = \"@/remote\"\n\
         [rule.send]\nstarts = {{ arrival = {{ place = \"office\", folder = \"in\", below = true }} }}\n\
         [[rule.send.branch]]\nsteps = [ {{ deliver = {{ to = \"server\", sha256 = false }} }} ]\n",
        server.1, server.3
    );
    let key = fs::read_to_string(server.2.path().join("client"))?;
    let office = Office::open(&["office/in", "remote", "theirs"], &book, &[("key", &key)])?;
    let root = fs::canonicalize(office.folder.path())?;
    let at = server.2.path().display();
    let client = |options: &str, batch: &str| {
        shell(&format!(
            "printf '{batch}' | sftp -q -b - {options} -P {} -i '{at}/client' -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null {user}@127.0.0.1 >/dev/null",
            server.1
        ))
    };
    noise(&root.join("source"), 512)?;
    let (mut ours, mut plain, mut gcm) = (Vec::new(), Vec::new(), Vec::new());
    let mut done = 0;
    for round in 0..3 {
        let (from, to) = (root.join("source"), root.join("theirs"));
        plain.push(client("", &format!("put {} {}/a{round}\\n", from.display(), to.display()))?);
        gcm.push(client("-c aes128-gcm@openssh.com", &format!("put {} {}/b{round}\\n", from.display(), to.display()))?);
        fs::copy(&from, root.join(format!("office/.wetbank-{round}")))?;
        shell("sync")?;
        let there = root.join(format!("remote/{round}"));
        let began = Instant::now();
        fs::rename(root.join(format!("office/.wetbank-{round}")), root.join(format!("office/in/{round}")))?;
        wait(|| there.exists())?;
        ours.push(began.elapsed());
        done += 1;
        office.wait_done(done)?;
        shell(&format!("rm -f '{0}'/theirs/* '{0}'/remote/{round}", root.display()))?;
    }
    let ours = median(ours);
    for (client, limit, promised) in
        [(("sftp", median(plain)), 1.4, "at least 1.4"), (("sftp, AES-128-GCM", median(gcm)), 1.0, "as fast")]
    {
        figures.push(at_least("512 MiB to sshd, BLAKE3 on record", ours, client, limit, promised));
    }
    let (mut small, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..3 {
        let aside = root.join("office/aside");
        tree(&aside, 1, 2000, 4096)?;
        theirs.push(client(
            "",
            &format!("put -r {} {}/t{round}\\n", aside.join("000").display(), root.join("theirs").display()),
        )?);
        // A folder that is moved in holds files nobody was seen closing: they count as complete
        // once they are two seconds old, and that is not what is measured here.
        shell(&format!("rm -rf '{0}'/remote/*; sync; sleep 3", root.display()))?;
        let began = Instant::now();
        fs::rename(aside.join("000"), root.join(format!("office/in/r{round}")))?;
        wait(|| {
            // Listing costs processor time, too.
            sleep(Duration::from_millis(20));
            fs::read_dir(root.join("remote")).is_ok_and(|d| {
                d.flatten().filter(|e| !e.file_name().to_string_lossy().starts_with('.')).count() >= 2000
            })
        })?;
        small.push(began.elapsed());
        done += 2000;
        office.wait_done(done)?;
        fs::remove_dir(aside)?;
    }
    figures.push(at_least(
        "2,000 files of 4 KiB to sshd through a rule, journalled",
        median(small),
        ("sftp put -r", median(theirs)),
        2.3,
        "at least 2.3",
    ));
    Ok(())
}

fn openpgp(figures: &mut Vec<Figure>) -> Result<()> {
    let home = TempDir::new()?;
    let at = home.path().display();
    shell(&format!(
        "chmod 700 '{at}'; GNUPGHOME='{at}' gpg --batch --quiet --passphrase '' --quick-generate-key bench default default never; GNUPGHOME='{at}' gpg --armor --export bench > '{at}/key.asc'"
    ))?;
    let book = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[rule.seal]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n\
                [[rule.seal.branch]]\nsteps = [ { encrypt = { to = [\"bench\"] } } ]\n";
    let office = Office::open(&["office/in"], book, &[])?;
    office.wetbank(&["key", "import", "bench", &format!("{at}/key.asc")], "")?;
    noise(&office.path("source"), 512)?;
    let root = office.folder.path().display();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..3i64 {
        fs::copy(office.path("source"), office.path(&format!("office/.wetbank-{round}")))?;
        shell("sync")?;
        theirs.push(shell(&format!("GNUPGHOME='{at}' gpg --batch --yes --quiet --trust-model always --compress-algo none -r bench -o '{root}/theirs.pgp' --encrypt '{root}/source'; sync '{root}/theirs.pgp'"))?);
        let began = Instant::now();
        fs::rename(office.path(&format!("office/.wetbank-{round}")), office.path(&format!("office/in/{round}")))?;
        office.wait_done(round + 1)?;
        ours.push(began.elapsed());
    }
    let mut figure = at_least(
        "512 MiB encrypted with OpenPGP",
        median(ours),
        ("gpg without compression", median(theirs)),
        0.9,
        "at least 0.9",
    );
    let peak = office.peak()?;
    figure.ours = format!("{}, peak {peak:.0} MiB", figure.ours);
    figure.kept &= peak < 120.0;
    figures.push(figure);
    Ok(())
}

fn idle(figures: &mut Vec<Figure>) -> Result<()> {
    let mut book = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n".to_owned();
    for rule in 0..20 {
        book.push_str(&format!(
            "[rule.r{rule}]\nstarts = {{ arrival = {{ place = \"office\", folder = \"d{rule}\", below = true }} }}\n[[rule.r{rule}.branch]]\nsteps = [ {{ copy = {{ folder = \"out\" }} }} ]\n"
        ));
    }
    let folders: Vec<String> = (0..2000).map(|n| format!("office/d{}/{n}", n % 20)).collect();
    let office = Office::open(&folders.iter().map(String::as_str).collect::<Vec<_>>(), &book, &[])?;
    sleep(Duration::from_secs(5));
    let before = office.ticks()?;
    sleep(Duration::from_secs(20));
    let used = office.ticks()? - before;
    let memory = office.memory("VmRSS:")?;
    figures.push(Figure {
        what: "idle, 20 rules over 2,000 folders".to_owned(),
        ours: format!("{memory:.0} MiB"),
        theirs: format!("{} ms of processor in 20 s", used * 10),
        ratio: "–".to_owned(),
        promised: "under 60 MiB, no measurable processor",
        kept: memory < 60.0 && used <= 2,
    });
    Ok(())
}
