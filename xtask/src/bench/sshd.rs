//! The figures of OpenSSH's server against its own client.

use std::{
    fs,
    net::TcpListener,
    process::{Child, Command},
    thread::sleep,
    time::{Duration, Instant},
};

use anyhow::{Context, Result};
use tempfile::TempDir;

use super::{Figure, Office, at_least, median, noise, shell, tree, wait};

/// A server, its port, its folder, and the fingerprint of its key.
pub(super) struct Sshd(Child, u16, TempDir, String);

impl Drop for Sshd {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Sshd {
    /// What signs in.
    pub(super) fn key(&self) -> Result<String> {
        Ok(fs::read_to_string(self.2.path().join("client"))?)
    }

    /// The place in the book, with a folder of the office as its root.
    pub(super) fn place(&self, root: &str) -> Result<String> {
        Ok(format!(
            "[place.server]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"{}\"\nkey = {{ secret = \"key\" }}\nhost-key = \"{}\"\nroot = \"@/{root}\"\n",
            self.1,
            user()?,
            self.3
        ))
    }

    /// Has the system's own client do what a batch says.
    pub(super) fn client(&self, options: &str, batch: &str) -> Result<Duration> {
        let (at, user) = (self.2.path().display(), user()?);
        fs::write(self.2.path().join("batch"), batch)?;
        shell(&format!(
            "sftp -q -b '{at}/batch' {options} -P {} -i '{at}/client' -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null {user}@127.0.0.1 >/dev/null",
            self.1
        ))
    }
}

fn user() -> Result<String> {
    Ok(String::from_utf8_lossy(&Command::new("id").arg("-un").output()?.stdout).trim().to_owned())
}

pub(super) fn sshd() -> Result<Sshd> {
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

pub(super) fn sftp(figures: &mut Vec<Figure>) -> Result<()> {
    let server = sshd()?;
    let book = format!(
        "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n{}\
         [rule.send]\nstarts = {{ arrival = {{ place = \"office\", folder = \"in\", below = true }} }}\n\
         [[rule.send.branch]]\nsteps = [ {{ deliver = {{ to = \"server\", sha256 = false }} }} ]\n",
        server.place("remote")?
    );
    let office = Office::open(&["office/in", "remote", "theirs"], &book, &[("key", &server.key()?)])?;
    let root = fs::canonicalize(office.folder.path())?;
    let client = |options: &str, batch: &str| server.client(options, batch);
    noise(&root.join("source"), 512)?;
    let (mut ours, mut plain, mut gcm) = (Vec::new(), Vec::new(), Vec::new());
    let mut done = 0;
    for round in 0..3 {
        let (from, to) = (root.join("source"), root.join("theirs"));
        plain.push(client("", &format!("put {} {}/a{round}\n", from.display(), to.display()))?);
        gcm.push(client("-c aes128-gcm@openssh.com", &format!("put {} {}/b{round}\n", from.display(), to.display()))?);
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
            &format!("put -r {} {}/t{round}\n", aside.join("000").display(), root.join("theirs").display()),
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
