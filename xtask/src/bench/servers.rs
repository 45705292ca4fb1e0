//! Every kind of server against the plainest client for its protocol.

use std::{
    fs,
    io::{BufRead, BufReader},
    process::{Child, Command, Stdio},
    time::Instant,
};

use anyhow::{Context, Result};

use super::{Figure, Office, at_least, errands::step_of, median, noise, shell, tree, wait};

const SIGN_IN: (&str, &str) = ("merrow", "grey heron");
/// What a store that believes any signature is told.
const WHO: &str =
    "AWS4-HMAC-SHA256 Credential=merrow/20260314/us-east-1/s3/aws4_request, SignedHeaders=host, Signature=0";
const ROUNDS: usize = 3;
const SMALL: usize = 2000;
/// So many are sent one by one; the others would take as long each.
const ONE_BY_ONE: usize = 100;
const ENTRIES: usize = 100_000;

/// A server of the test bed.
struct Server {
    child: Child,
    address: String,
    root: String,
}

impl Drop for Server {
    fn drop(&mut self) {
        // It ends with its input.
        drop(self.child.stdin.take());
        let _ = self.child.wait();
    }
}

impl Server {
    fn start(kind: &str) -> Result<Self> {
        let words = ["run", "--quiet", "--package", "wetbank-testbed", "--bin", "testbed", "--", kind];
        let mut child = Command::new("cargo").args(words).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
        let mut lines = BufReader::new(child.stdout.take().context("its output")?).lines();
        let mut line = || lines.next().context("the server says where it is")?.context("a line");
        let (address, root) = (line()?, line()?);
        Ok(Self { child, address, root })
    }
}

/// How the plainest client sends and fetches one file.
struct Plain {
    name: &'static str,
    put: Box<Line>,
    get: Box<Line>,
}

/// A line for the shell from two names.
type Line = dyn Fn(&str, &str) -> String;

fn curl(base: String, how: String) -> Plain {
    let (there, with) = (base.clone(), how.clone());
    Plain {
        name: "curl",
        put: Box::new(move |from, name| format!("curl -sSf {with} -T '{from}' '{there}/{name}'")),
        get: Box::new(move |name, to| format!("curl -sSf {how} -o '{to}' '{base}/{name}'")),
    }
}

fn smbclient(server: &str) -> Plain {
    let port = server.rsplit(':').next().unwrap_or_default();
    let (user, password) = SIGN_IN;
    let base = format!("smbclient //127.0.0.1/survey -p {port} -U '{user}%{password}' --client-protection=encrypt");
    let same = base.clone();
    Plain {
        name: "smbclient, encrypted",
        put: Box::new(move |from, name| format!("{base} -c 'put {from} {name}' >/dev/null 2>&1")),
        get: Box::new(move |name, to| format!("{same} -c 'get {name} {to}' >/dev/null 2>&1")),
    }
}

/// The place in the book, and its client.
fn place(kind: &str, server: &Server) -> (String, Plain) {
    let (address, root, (user, password)) = (&server.address, &server.root, SIGN_IN);
    let sign_in = format!("user = \"{user}\"\npassword = {{ secret = \"server\" }}\n");
    let basic = format!("-u '{user}:{password}'");
    let (text, plain) = match kind {
        "share" => (format!("host = \"{address}\"\nshare = \"survey\"\n{sign_in}"), smbclient(address)),
        "ftp" => (
            format!("host = \"{address}\"\nroot = \"{root}\"\nsecurity = \"none\"\n{sign_in}"),
            curl(format!("ftp://{address}/{root}"), basic),
        ),
        "webdav" => (format!("url = \"{address}\"\n{sign_in}"), curl(address.clone(), basic)),
        _ => (
            format!(
                "url = \"{address}\"\nbucket = \"bench\"\naccess-key = \"{user}\"\nsecret-key = {{ secret = \"server\" }}\n"
            ),
            curl(format!("{address}/bench"), format!("-H 'authorization: {WHO}'")),
        ),
    };
    (format!("[place.server]\nkind = \"{kind}\"\n{text}"), plain)
}

fn kind(kind: &'static str, figures: &mut Vec<Figure>) -> Result<()> {
    let server = Server::start(kind)?;
    let (text, plain) = place(kind, &server);
    if kind == "bucket" {
        shell(&format!("curl -sSf -X PUT -H 'authorization: {WHO}' '{}/bench'", server.address))?;
    }
    let rule = |name: &str, from: &str, step: &str| {
        format!(
            "[rule.{name}]\nstarts = {{ hand = {{}} }}\nfinds = [ {from} ]\n[[rule.{name}.branch]]\nsteps = [ {step} ]\n"
        )
    };
    let office = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n";
    let up = rule(
        "up",
        "{ place = \"office\", folder = \"large\" }",
        "{ copy = { to = \"server\", folder = \"up\", exists = \"replace\", sha256 = false } }",
    );
    let down = rule(
        "down",
        "{ place = \"server\", folder = \"up\" }",
        "{ copy = { to = \"office\", folder = \"down\", exists = \"replace\", sha256 = false } }",
    );
    let book = format!("{office}{text}{up}{down}");
    let office = Office::open(&["office/large", "office/small", "theirs"], &book, &[("server", SIGN_IN.1)])?;
    let root = fs::canonicalize(office.path("."))?;
    let large = root.join("office/large/file");
    noise(&large, 512)?;
    let (mut up, mut down, mut their_up, mut their_down) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let (name, here) = (format!("theirs-{round}"), root.join(format!("theirs/{round}")).display().to_string());
        shell("sync")?;
        their_up.push(shell(&(plain.put)(&large.display().to_string(), &name))?);
        shell("sync")?;
        up.push(step_of(&office, "up", "copy")?);
        // What comes here is on disk before we say so.
        their_down.push(shell(&format!("{}; sync '{here}'", (plain.get)(&name, &here)))?);
        down.push(step_of(&office, "down", "copy")?);
        shell(&format!("rm -rf '{here}' '{}/office/down'", root.display()))?;
        if kind != "bucket" {
            // A name that is taken costs the server more, which its plain client is not asked for.
            shell(&format!("rm -rf '{}/up' '{}/{name}'", server.root, server.root))?;
        }
    }
    let synced = format!("{}, sync", plain.name);
    for (what, ours, theirs, client) in [("to", up, their_up, plain.name), ("from", down, their_down, &synced)] {
        let what = format!("512 MiB {what} a {kind} server, BLAKE3 on record");
        figures.push(at_least(what, median(ours), (client, median(theirs)), 0.9, "at least 0.9"));
    }
    tree(&root.join("office/small"), 1, SMALL, 4096)?;
    let began = Instant::now();
    for file in 0..ONE_BY_ONE {
        let from = root.join(format!("office/small/000/{file:04}.csv")).display().to_string();
        shell(&(plain.put)(&from, &format!("one-{file}")))?;
    }
    let theirs = began.elapsed() * u32::try_from(SMALL / ONE_BY_ONE)?;
    let began = Instant::now();
    let done = 2 * ROUNDS as i64 + i64::try_from(SMALL)?;
    office.wetbank(&["place", "copy", "office:/small", "server:/"], "")?;
    office.wait_done(done)?;
    let ours = began.elapsed();
    let what = format!("2,000 files of 4 KiB to a {kind} server");
    figures.push(at_least(what, ours, (&format!("one {} a file", plain.name), theirs), 3.0, "at least 3"));
    Ok(())
}

/// How much memory a folder of many entries takes that is looked through again and again.
fn many_entries(kind: &'static str, figures: &mut Vec<Figure>) -> Result<()> {
    let server = Server::start(kind)?;
    tree(std::path::Path::new(&server.root), 1, ENTRIES, 1)?;
    shell(&format!("chmod -R a+rX '{}'", server.root))?;
    let (text, _) = place(kind, &server);
    let office = Office::open(&["office"], &text, &[("server", SIGN_IN.1)])?;
    office.wetbank(&["place", "test", "server"], "")?;
    let before = office.peak()?;
    let rule = "[rule.none]\nstarts = { arrival = { place = \"server\", folder = \"000\", names = [\"*.none\"], look-every = \"1s\" } }\n\
                [[rule.none.branch]]\nsteps = [ { hold = { why = \"none\" } } ]\n";
    fs::write(office.path("more.toml"), format!("{text}{rule}"))?;
    let began = Instant::now();
    office.wetbank(&["book", "apply", &office.path("more.toml").display().to_string()], "")?;
    let ticks = office.ticks()?;
    // A look takes processor time; three of them are over when none is taken any more for a while.
    wait(|| began.elapsed().as_secs() >= 20)?;
    let grown = office.peak()? - before;
    figures.push(Figure {
        what: format!("a folder of 100,000 entries on a {kind} server, looked through for 20 s"),
        ours: format!("{grown:.0} MiB more at most"),
        theirs: format!("{} ms of processor", (office.ticks()? - ticks) * 10),
        ratio: "–".to_owned(),
        promised: "at most 30 MiB more",
        kept: grown <= 30.0,
    });
    Ok(())
}

pub(crate) fn share(figures: &mut Vec<Figure>) -> Result<()> {
    kind("share", figures)
}

pub(crate) fn ftp(figures: &mut Vec<Figure>) -> Result<()> {
    kind("ftp", figures)
}

pub(crate) fn webdav(figures: &mut Vec<Figure>) -> Result<()> {
    kind("webdav", figures)
}

pub(crate) fn bucket(figures: &mut Vec<Figure>) -> Result<()> {
    kind("bucket", figures)
}

pub(crate) fn entries(figures: &mut Vec<Figure>) -> Result<()> {
    ["share", "ftp", "webdav"].into_iter().try_for_each(|kind| many_entries(kind, figures))
}
