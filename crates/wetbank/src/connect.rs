//! Finding the service to talk to.

use std::{io::Write, path::PathBuf};

use anyhow::{Context, Result};
use serde::{Deserialize, Serialize};
use wetbank_client::Client;

/// The address that `wetbank serve` takes unless told otherwise.
pub(crate) const DEFAULT_LISTEN: &str = "127.0.0.1:8270";

/// No service to talk to.
#[derive(Debug)]
pub(crate) struct NoService(String);

impl std::fmt::Display for NoService {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for NoService {}

/// The data folder: the option, `WETBANK_DATA`, or `wetbank` in the user's data folder.
pub(crate) fn data_folder(option: Option<PathBuf>) -> PathBuf {
    let home = || {
        let base = std::env::var_os("XDG_DATA_HOME").map(PathBuf::from);
        let base = base.or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/share")));
        base.unwrap_or_else(|| PathBuf::from(".")).join("wetbank")
    };
    option.or_else(|| std::env::var_os("WETBANK_DATA").map(PathBuf::from)).unwrap_or_else(home)
}

/// A service elsewhere that was signed in to.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Kept {
    pub url: String,
    pub token: String,
    /// What the token is called there, if we had it made.
    pub name: Option<String>,
    /// The fingerprint of its certificate, if no authority vouches for it.
    pub certificate: Option<String>,
}

/// Where it is kept: for this user only.
fn kept_file() -> PathBuf {
    let home = || PathBuf::from(std::env::var_os("HOME").unwrap_or_default()).join(".config");
    std::env::var_os("XDG_CONFIG_HOME").map_or_else(home, PathBuf::from).join("wetbank/login.toml")
}

/// Keeps a sign-in, in one step: nobody reads half of it, and nobody else reads it at all.
pub(crate) fn keep(kept: &Kept) -> Result<PathBuf> {
    let file = kept_file();
    let folder = file.parent().unwrap_or(&file);
    let written = || {
        std::fs::create_dir_all(folder)?;
        let mut aside = tempfile::Builder::new().prefix(".login").tempfile_in(folder)?;
        aside.write_all(toml::to_string(kept).map_err(std::io::Error::other)?.as_bytes())?;
        aside.as_file().sync_all()?;
        aside.persist(&file).map_err(|error| error.error)?;
        Ok::<_, std::io::Error>(())
    };
    written().with_context(|| format!("{} cannot be written", file.display()))?;
    Ok(file)
}

/// The sign-in that is kept.
pub(crate) fn kept() -> Result<Option<Kept>> {
    let file = kept_file();
    match std::fs::read_to_string(&file) {
        Ok(text) => {
            Ok(Some(toml::from_str(&text).with_context(|| format!("{} is not what was kept", file.display()))?))
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error).with_context(|| format!("{} cannot be read", file.display())),
    }
}

/// Forgets it.
pub(crate) fn forget() -> Result<()> {
    let file = kept_file();
    std::fs::remove_file(&file).with_context(|| format!("{} cannot be removed", file.display()))
}

/// A client for `WETBANK_URL` with `WETBANK_TOKEN`, whose certificate is that of `WETBANK_CERTIFICATE` if it is set; or
/// for the service of a data folder of this machine, which leaves its address and token there; or, if nobody named a data
/// folder and none runs on the usual one, for the service that was signed in to.
pub(crate) fn client(data: Option<PathBuf>) -> Result<Client> {
    if let Ok(url) = std::env::var("WETBANK_URL") {
        let token = std::env::var("WETBANK_TOKEN")
            .map_err(|_| NoService("WETBANK_URL is set but WETBANK_TOKEN is not".to_owned()))?;
        let trusted = std::env::var("WETBANK_CERTIFICATE").ok();
        return Ok(Client::new(&url, &token, trusted.as_deref())?);
    }
    let is_named = data.is_some() || std::env::var_os("WETBANK_DATA").is_some();
    let data = data_folder(data);
    let read = |name: &str| std::fs::read_to_string(data.join(name));
    let address = match read("address") {
        Ok(address) => address,
        Err(_) => {
            if !is_named && let Some(kept) = kept()? {
                return Ok(Client::new(&kept.url, &kept.token, kept.certificate.as_deref())?);
            }
            return Err(NoService(format!(
                "no service runs on the data folder {0}; start one with: wetbank serve --data {0}; or sign in to one \
                 elsewhere with: wetbank login URL",
                data.display()
            ))
            .into());
        }
    };
    let token = read("token").with_context(|| format!("the token in {} cannot be read", data.display()))?;
    let (url, trusted) = match address.trim().split_once(' ') {
        Some((url, fingerprint)) => (url.to_owned(), Some(fingerprint)),
        None => (format!("http://{}", address.trim()), None),
    };
    Ok(Client::new(&url, token.trim(), trusted)?)
}
