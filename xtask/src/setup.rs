//! Installing what is missing.

use std::path::Path;

use anyhow::{Context, Result, bail};

use crate::steps::{run, say, silent};

/// Debian packages, each with a file that shows it is there.
const PACKAGES: [(&str, &str); 19] = [
    ("openssh-server", "/usr/sbin/sshd"),
    ("pebble", "/usr/bin/pebble"),
    ("openssh-client", "/usr/bin/sftp"),
    ("apache2-bin", "/usr/sbin/apache2"),
    ("proftpd-core", "/usr/sbin/proftpd"),
    ("proftpd-mod-crypto", "/usr/lib/proftpd/mod_tls.so"),
    ("samba", "/usr/sbin/smbd"),
    ("smbclient", "/usr/bin/smbclient"),
    ("dovecot-imapd", "/usr/lib/dovecot/imap"),
    ("exim4-daemon-light", "/usr/sbin/exim4"),
    ("postgresql", "/usr/share/doc/postgresql"),
    ("openssl", "/usr/bin/openssl"),
    ("curl", "/usr/bin/curl"),
    ("libfaketime", "/usr/share/doc/libfaketime"),
    // Any name below localhost is this machine: buckets whose name stands before the host.
    ("libnss-myhostname", "/usr/share/doc/libnss-myhostname"),
    ("python3-venv", "/usr/share/doc/python3-venv"),
    ("gnupg", "/usr/bin/gpg"),
    ("chromium", "/usr/bin/chromium"),
    ("chromium-driver", "/usr/bin/chromedriver"),
];

/// What only the bench compares with.
const COMPARED: [(&str, &str); 2] = [("zip", "/usr/bin/zip"), ("sqlite3", "/usr/bin/sqlite3")];

/// Servers that only tests need and that are unpacked, not installed: some exclude each other, and each would
/// start a service.
const UNPACKED: [&str; 6] =
    ["nginx", "libnginx-mod-http-dav-ext", "lighttpd", "lighttpd-mod-webdav", "pure-ftpd", "vsftpd"];
/// Where they are unpacked.
const SERVERS: &str = ".servers";

/// A server with the S3 REST API.
const OBJECT_STORE: &str = "moto[s3,server]==5.2.5";

/// What holds the API against its own description.
const API_CHECKER: &str = "schemathesis==4.32.5";

/// Everything that building and testing need.
pub fn everything() -> Result<()> {
    packages()?;
    servers()?;
    python()?;
    console()
}

/// Unpacks servers into a folder of the project and installs the libraries they need.
pub fn servers() -> Result<()> {
    if Path::new(SERVERS).exists() {
        return Ok(());
    }
    say(&format!("unpacking {}", UNPACKED.join(", ")));
    // It becomes the folder once all is in it.
    let aside = format!("{SERVERS}.part");
    let _ = std::fs::remove_dir_all(&aside);
    std::fs::create_dir_all(&aside)?;
    apt_get(&["update"])?;
    run("sh", &["-c", &format!("cd {aside} && apt-get -qq download {}", UNPACKED.join(" "))])?;
    let mut libraries = Vec::new();
    for entry in std::fs::read_dir(&aside)? {
        let package = entry?.path().display().to_string();
        if !package.ends_with(".deb") {
            continue;
        }
        run("dpkg-deb", &["-x", &package, &aside])?;
        let needed = silent("dpkg-deb", &["-f", &package, "Depends"])?;
        let names = needed.split(',').filter_map(|one| one.split_ascii_whitespace().next());
        libraries.extend(names.filter(|name| name.starts_with("lib")).map(str::to_owned));
    }
    libraries.sort();
    libraries.dedup();
    let mut install = vec!["install", "--no-install-recommends", "--no-upgrade"];
    install.extend(libraries.iter().map(String::as_str));
    apt_get(&install)?;
    std::fs::rename(&aside, SERVERS)?;
    Ok(())
}

/// The Python programs that tests need, in a folder of the project.
pub fn python() -> Result<()> {
    if [".venv/bin/moto_server", ".venv/bin/schemathesis"].iter().all(|program| Path::new(program).exists()) {
        return Ok(());
    }
    say(&format!("installing {OBJECT_STORE}, {API_CHECKER}"));
    run("/usr/bin/python3", &["-m", "venv", ".venv"])?;
    run(".venv/bin/pip", &["install", "--quiet", "--disable-pip-version-check", OBJECT_STORE, API_CHECKER])
}

/// System packages.
pub fn packages() -> Result<()> {
    install(&PACKAGES)
}

/// What the bench needs besides.
pub fn compared() -> Result<()> {
    install(&COMPARED)
}

fn install(packages: &[(&str, &str)]) -> Result<()> {
    let missing: Vec<&str> =
        packages.iter().filter(|(_, file)| !Path::new(file).exists()).map(|(name, _)| *name).collect();
    if missing.is_empty() {
        return Ok(());
    }
    say(&format!("installing {}", missing.join(", ")));
    if !Path::new("/usr/bin/apt-get").exists() {
        bail!("install these by hand, this system has no apt-get: {}", missing.join(", "));
    }
    apt_get(&["update"])?;
    let mut install = vec!["install", "--no-install-recommends"];
    install.extend(&missing);
    apt_get(&install)
}

fn apt_get(more: &[&str]) -> Result<()> {
    let admin = silent("id", &["-u"])?.trim() == "0";
    let mut words: Vec<&str> = if admin { Vec::new() } else { vec!["sudo"] };
    words.extend(["env", "DEBIAN_FRONTEND=noninteractive", "apt-get", "-qq", "-y"]);
    words.extend(more);
    run(words[0], &words[1..])
}

/// The console's npm packages.
pub fn console() -> Result<()> {
    silent("node", &["--version"]).context("Node.js is missing: install version 20 or newer")?;
    // npm writes this file last, so it is as new as what is installed.
    let done = Path::new("console/node_modules/.package-lock.json");
    let lock = Path::new("console/package-lock.json");
    let fresh = match (done.metadata(), lock.metadata()) {
        (Ok(done), Ok(lock)) => done.modified()? >= lock.modified()?,
        _ => false,
    };
    if fresh {
        return Ok(());
    }
    // Not `ci`: it insists that the lock file names packages of other systems, which npm leaves
    // out of it when they are optional.
    run("npm", &["--prefix", "console", "install", "--no-save", "--no-audit", "--no-fund", "--loglevel=error"])
}
