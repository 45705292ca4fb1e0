//! A partner who comes over SFTP, with OpenSSH's own client.

use std::{
    fs,
    io::Write,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
};

use tempfile::TempDir;
use wetbank_testbed::client_key;

use super::Office;

/// Somebody at a partner's.
pub struct Partner {
    pub folder: TempDir,
    pub account: String,
    key: PathBuf,
    known: PathBuf,
    host: String,
    port: String,
}

/// A partner with this account, its key as the book has it. The office listens for SFTP.
pub fn key_of(folder: &Path) -> (PathBuf, String) {
    let (file, _) = client_key(folder, &["ed25519"], "");
    let line = fs::read_to_string(file.with_extension("pub")).unwrap();
    (file, line.trim().to_owned())
}

impl Office {
    /// An office that receives partners, with an account whose section says this besides its key and partner.
    pub fn receiving(account: &str, rules: &str) -> (Self, Partner) {
        let mut office = Self::open();
        office.stop();
        office.start_with(&["--sftp", "127.0.0.1:0"]);
        fs::create_dir_all(office.path("archive")).unwrap();
        let folder = TempDir::new().unwrap();
        let (key, line) = key_of(folder.path());
        office.book(&format!(
            "{}\n[partner.lindmoor]\ntitle = \"Lindmoor Laboratory\"\n[account.lindmoor]\npartner = \"lindmoor\"\n\
             keys = [ \"{line}\" ]\n{account}\n{rules}",
            super::PLACES
        ));
        let partner = office.partner("lindmoor", folder, key);
        (office, partner)
    }

    /// Somebody who comes with a key.
    pub fn partner(&self, account: &str, folder: TempDir, key: PathBuf) -> Partner {
        let reception = self.json(&["reception", "show"]);
        let (host, port) = reception["sftp"].as_str().unwrap().rsplit_once(':').unwrap();
        let known = folder.path().join("known");
        let lines = reception["host_keys"].as_array().unwrap().iter();
        let lines = lines.map(|key| format!("[{host}]:{port} {}\n", key["line"].as_str().unwrap()));
        fs::write(&known, lines.collect::<String>()).unwrap();
        Partner { folder, account: account.to_owned(), key, known, host: host.to_owned(), port: port.to_owned() }
    }
}

impl Partner {
    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    /// Where the server listens.
    pub fn address(&self) -> String {
        format!("{}:{}", self.host, self.port)
    }

    /// The file with the private key.
    pub fn key(&self) -> &Path {
        &self.key
    }

    /// The options of every client of OpenSSH's.
    pub fn options(&self) -> Vec<String> {
        let option = |text: String| ["-o".to_owned(), text];
        let known = option(format!("UserKnownHostsFile={}", self.known.display()));
        let strict = option("StrictHostKeyChecking=yes".to_owned());
        let port = option(format!("Port={}", self.port));
        [known, strict, port].into_iter().flatten().collect()
    }

    fn sftp(&self, with: &[&str]) -> Command {
        let mut command = Command::new("sftp");
        command.args(self.options()).args(with).arg("-b").arg("-");
        command.arg(format!("{}@{}", self.account, self.host));
        command.current_dir(self.folder.path());
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        command
    }

    /// Has OpenSSH's client do these lines and waits for its end.
    pub fn does(&self, lines: &str) -> Output {
        let child = self.begins(lines);
        child.wait_with_output().unwrap()
    }

    /// Has it begin these lines.
    pub fn begins(&self, lines: &str) -> Child {
        let key = format!("IdentityFile={}", self.key.display());
        let with = ["-o", key.as_str(), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes"];
        let mut child = self.sftp(&with).spawn().unwrap();
        child.stdin.take().unwrap().write_all(lines.as_bytes()).unwrap();
        child
    }

    /// The same, which must go well. Answers what it printed.
    pub fn must(&self, lines: &str) -> String {
        let output = self.does(lines);
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        assert!(output.status.success(), "{lines}\n{}\n{}", text(&output.stdout), text(&output.stderr));
        text(&output.stdout)
    }

    /// The same, which must not go well. Answers what it complained of.
    pub fn cannot(&self, lines: &str) -> String {
        let output = self.does(lines);
        assert!(!output.status.success(), "{lines}\n{}", String::from_utf8_lossy(&output.stdout));
        String::from_utf8_lossy(&output.stderr).into_owned()
    }

    /// Does these lines, answering what is asked for with these texts in turn.
    pub fn answers(&self, texts: &[&str], lines: &str) -> Output {
        let script = self.path("answer.sh");
        let left = self.path("answers");
        fs::write(&left, texts.join("\n") + "\n").unwrap();
        fs::write(&script, format!("#!/bin/sh\nhead -n 1 '{0}'\nsed -i 1d '{0}'\n", left.display())).unwrap();
        fs::set_permissions(&script, fs::Permissions::from_mode(0o755)).unwrap();
        let with = ["-o", "PubkeyAuthentication=no", "-o", "BatchMode=no", "-o", "NumberOfPasswordPrompts=2"];
        let mut command = self.sftp(&with);
        command.env("SSH_ASKPASS", &script).env("SSH_ASKPASS_REQUIRE", "force").env("DISPLAY", ":9");
        let mut child = command.spawn().unwrap();
        child.stdin.take().unwrap().write_all(lines.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }
}
