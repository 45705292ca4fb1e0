//! Samba.

use std::{fs, io::Write, os::unix::fs::PermissionsExt, process::Command, process::Stdio};

use tempfile::TempDir;

use crate::{Server, free_port, process::signal_all, run};

/// Who may sign in, and the password.
pub const SHARE_USER: (&str, &str) = ("merrow", "grey heron");
/// The name of the share.
pub const SHARE_NAME: &str = "survey";

/// What a server offers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ShareOffer {
    /// The newest version, with encryption for those who like it.
    Usual,
    /// Nothing without encryption.
    OnlyEncrypted,
    /// Version 3.1.1 without encryption.
    Plain,
    /// Version 3.0.2.
    Older,
    /// Version 2.1.
    Oldest,
    /// Whoever it does not know is a guest.
    Guests,
    /// Nobody may write.
    ReadOnly,
}

/// An SMB server that shares one folder.
#[derive(Debug)]
pub struct Samba {
    /// The port it listens on.
    pub port: u16,
    /// The folder it shares.
    pub root: TempDir,
    folder: TempDir,
    server: Option<Server>,
}

impl Samba {
    /// Starts it.
    pub fn start(offer: ShareOffer) -> Self {
        Self::sharing(offer, TempDir::new().unwrap())
    }

    /// Starts it with this folder.
    pub fn sharing(offer: ShareOffer, root: TempDir) -> Self {
        let (folder, port) = (TempDir::new().unwrap(), free_port());
        fs::set_permissions(root.path(), fs::Permissions::from_mode(0o777)).unwrap();
        let (at, user) = (folder.path().display(), run("id", &["-un"]).trim().to_owned());
        let more = match offer {
            ShareOffer::Usual | ShareOffer::ReadOnly => "",
            ShareOffer::OnlyEncrypted => "smb encrypt = required\n",
            ShareOffer::Plain => "smb encrypt = off\n",
            ShareOffer::Older => "server max protocol = SMB3_02\n",
            ShareOffer::Oldest => "server max protocol = SMB2_10\n",
            ShareOffer::Guests => "map to guest = Bad User\nguest account = nobody\n",
        };
        let mut config = format!(
            "[global]\nserver role = standalone server\nsecurity = user\nworkgroup = MERROW\ninterfaces = 127.0.0.1\n\
             bind interfaces only = yes\nsmb ports = {port}\ndisable netbios = yes\nload printers = no\nprintcap name = /dev/null\n\
             passdb backend = tdbsam:{at}/users.tdb\nusername map = {at}/names\nprivate dir = {at}\nlock directory = {at}\n\
             state directory = {at}\ncache directory = {at}\npid directory = {at}\nncalrpc dir = {at}/rpc\nlog file = {at}/log\n\
             {more}\n[{SHARE_NAME}]\npath = {}\nread only = {}\nguest ok = {}\n",
            root.path().display(),
            if offer == ShareOffer::ReadOnly { "yes" } else { "no" },
            if offer == ShareOffer::Guests { "yes" } else { "no" },
        );
        config += "create mask = 0644\ndirectory mask = 0755\n";
        let file = folder.path().join("config");
        fs::write(&file, config).unwrap();
        fs::write(folder.path().join("names"), format!("{user} = {}\n", SHARE_USER.0)).unwrap();
        let mut add = Command::new("pdbedit")
            .args(["-s", &file.display().to_string(), "-t", "-a", "-u", &user])
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap_or_else(|e| panic!("pdbedit: {e}"));
        write!(add.stdin.take().unwrap(), "{0}\n{0}\n", SHARE_USER.1).unwrap();
        assert!(add.wait().unwrap().success(), "pdbedit did not take the user");
        let mut command = Command::new("/usr/sbin/smbd");
        command.args(["--foreground", "--no-process-group", "--configfile"]).arg(file);
        let server = Some(Server::start(&mut command, port));
        Self { port, root, folder, server }
    }

    /// Sends a signal to it and to everything it started.
    pub fn signal(&self, name: &str) {
        if let Some(server) = &self.server {
            server.signal(name);
        }
    }

    /// Ends it at once, with every connection.
    pub fn crash(&mut self) {
        self.server = None;
    }
}

impl Drop for Samba {
    fn drop(&mut self) {
        self.server = None;
        // What answers questions about accounts was started by it and then set free.
        let helper = fs::read_to_string(self.folder.path().join("samba-dcerpcd.pid"));
        if let Some(helper) = helper.ok().and_then(|id| id.trim().parse().ok()) {
            signal_all(helper, "KILL");
        }
    }
}
