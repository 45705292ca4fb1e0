//! FTP servers other than ProFTPD.

use std::{fs, os::unix::fs::PermissionsExt, path::PathBuf, process::Command};

use tempfile::TempDir;

use crate::{FTP_USER, Server, free_port, process::run, unpacked::unpacked};

/// An FTP server that serves one folder, without TLS.
#[derive(Debug)]
pub struct FtpServer {
    /// The port it listens on.
    pub port: u16,
    /// The folder it serves.
    pub root: PathBuf,
    /// That folder in the server's words.
    pub path: &'static str,
    /// Who may sign in, with the password of all.
    pub user: &'static str,
    _folders: [TempDir; 2],
    _server: Server,
}

fn open_folder() -> TempDir {
    let folder = TempDir::new().unwrap();
    // Both work as another user when a test runs as root.
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o777)).unwrap();
    folder
}

/// The folder they serve, in their words.
const OFFICE: &str = "/office";

/// The same in the root of all paths.
fn below(above: &TempDir) -> PathBuf {
    let root = above.path().join(OFFICE.trim_start_matches('/'));
    fs::create_dir(&root).unwrap();
    fs::set_permissions(&root, fs::Permissions::from_mode(0o777)).unwrap();
    root
}

impl FtpServer {
    /// vsftpd, which lists only for people; with more lines of configuration.
    pub fn vsftpd(more: &str) -> Self {
        let (folder, above, port) = (open_folder(), open_folder(), free_port());
        let root = below(&above);
        // Nobody may write into the root of all paths.
        fs::set_permissions(above.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let empty = folder.path().join("empty");
        fs::create_dir(&empty).unwrap();
        // The user's home must be there; nothing is done in it.
        let config = format!(
            "listen=YES\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\nanonymous_enable=YES\nlocal_enable=NO\n\
             write_enable=YES\nanon_upload_enable=YES\nanon_mkdir_write_enable=YES\nanon_other_write_enable=YES\n\
             anon_world_readable_only=NO\nanon_umask=022\nanon_root={}\nsecure_chroot_dir={}\n\
             ftp_username=daemon\nnopriv_user=nobody\npasv_min_port=20000\npasv_max_port=30000\nxferlog_enable=NO\n\
             seccomp_sandbox=NO\n{more}\n",
            above.path().display(),
            empty.display()
        );
        let file = folder.path().join("config");
        fs::write(&file, config).unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).unwrap();
        let server = Server::start(Command::new(unpacked("/usr/sbin/vsftpd")).arg(file), port);
        Self { port, root, path: OFFICE, user: "anonymous", _folders: [folder, above], _server: server }
    }

    /// Pure-FTPd.
    pub fn pure() -> Self {
        let (folder, above, port) = (open_folder(), open_folder(), free_port());
        let root = below(&above);
        let (users, database) = (folder.path().join("users"), folder.path().join("database"));
        // Its own way to keep a password is made to take seconds of a processor for each sign-in.
        let hashed = run("openssl", &["passwd", "-6", FTP_USER.1]);
        let home = above.path().display();
        fs::write(&users, format!("{}:{}:33:33::{home}/./::::::::::::\n", FTP_USER.0, hashed.trim())).unwrap();
        let made = Command::new(unpacked("/usr/bin/pure-pw")).arg("mkdb").arg(&database).arg("-f").arg(&users).status();
        assert!(made.unwrap().success());
        let mut command = Command::new(unpacked("/usr/sbin/pure-ftpd"));
        command
            .args(["-S", &format!("127.0.0.1,{port}"), "-l", &format!("puredb:{}", database.display())])
            .args(["-E", "-H", "-4", "-p", "20000:30000", "-u", "1", "-c", "200", "-C", "200", "-L", "20000:20"])
            .arg("-g")
            .arg(folder.path().join("pid"));
        let server = Server::start(&mut command, port);
        Self { port, root, path: OFFICE, user: FTP_USER.0, _folders: [folder, above], _server: server }
    }
}
