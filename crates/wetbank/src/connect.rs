//! Finding the service to talk to.

use std::path::PathBuf;

use anyhow::{Context, Result};
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

/// A client for `WETBANK_URL` with `WETBANK_TOKEN`, whose certificate is that of `WETBANK_CERTIFICATE` if it is set, or for the service of a data folder of this
/// machine, which leaves its address and token there.
pub(crate) fn client(data: Option<PathBuf>) -> Result<Client> {
    if let Ok(url) = std::env::var("WETBANK_URL") {
        let token = std::env::var("WETBANK_TOKEN")
            .map_err(|_| NoService("WETBANK_URL is set but WETBANK_TOKEN is not".to_owned()))?;
        let trusted = std::env::var("WETBANK_CERTIFICATE").ok();
        return Ok(Client::new(&url, &token, trusted.as_deref())?);
    }
    let data = data_folder(data);
    let read = |name: &str| std::fs::read_to_string(data.join(name));
    let address = read("address").map_err(|_| {
        NoService(format!(
            "no service runs on the data folder {0}; start one with: wetbank serve --data {0}",
            data.display()
        ))
    })?;
    let token = read("token").with_context(|| format!("the token in {} cannot be read", data.display()))?;
    let (url, trusted) = match address.trim().split_once(' ') {
        Some((url, fingerprint)) => (url.to_owned(), Some(fingerprint)),
        None => (format!("http://{}", address.trim()), None),
    };
    Ok(Client::new(&url, token.trim(), trusted)?)
}
