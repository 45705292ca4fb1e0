//! An authority that gives certificates to whoever proves that a name is theirs (ACME), and a name server for which every
//! name leads to this machine.

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
};

use crate::{Server, certificate::vouched, free_port};

/// An authority of our own.
#[derive(Debug)]
pub struct Authority {
    /// The address of its directory.
    pub directory: String,
    /// Who vouches for its own server, PEM.
    pub root: PathBuf,
    /// The port of each name at which it looks for proofs.
    pub looks_at: u16,
    log: PathBuf,
    _servers: [Server; 2],
}

impl Authority {
    /// Starts one that keeps its files in this folder.
    pub fn start(folder: &Path) -> Self {
        let folder = folder.join("authority");
        fs::create_dir_all(&folder).unwrap();
        let [root, file, key] = ["root.crt", "server.crt", "server.key"];
        vouched(&folder, [root, file, key]);
        let (port, management, looks_at, names, told) =
            (free_port(), free_port(), free_port(), free_port(), free_port());
        let config = folder.join("config.json");
        let text = format!(
            r#"{{"pebble": {{"listenAddress": "127.0.0.1:{port}", "managementListenAddress": "127.0.0.1:{management}",
            "certificate": "{}", "privateKey": "{}", "httpPort": {looks_at}, "tlsPort": {}, "ocspResponderURL": "",
            "externalAccountBindingRequired": false}}}}"#,
            folder.join(file).display(),
            folder.join(key).display(),
            free_port()
        );
        fs::write(&config, text).unwrap();
        let mut server = Command::new("pebble-challtestsrv");
        server.args(["-http01", "", "-https01", "", "-tlsalpn01", "", "-defaultIPv6", ""]);
        server.args(["-dns01", &format!("127.0.0.1:{names}"), "-management", &format!("127.0.0.1:{told}")]);
        let named = Server::start(&mut server, told);
        let log = folder.join("log");
        let command = format!(
            "exec pebble -config '{}' -dnsserver 127.0.0.1:{names} > '{}' 2>&1",
            config.display(),
            log.display()
        );
        let mut authority = Command::new("sh");
        // It waits for some seconds otherwise, as a real one may.
        authority.args(["-c", &command]).env("PEBBLE_VA_NOSLEEP", "1");
        let asked = Server::start(&mut authority, port);
        let directory = format!("https://127.0.0.1:{port}/dir");
        Self { directory, root: folder.join(root), looks_at, log, _servers: [asked, named] }
    }

    /// How many certificates it was asked for.
    pub fn orders(&self) -> usize {
        fs::read_to_string(&self.log).unwrap().matches("Added order").count()
    }
}
