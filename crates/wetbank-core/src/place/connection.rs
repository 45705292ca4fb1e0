//! What kinds that reach a server have in common.

use std::{ops::Range, time::Duration};

use crate::{
    HostAddress, parse_duration,
    shape::{At, Checked, Mistake, Text, holds},
    typed_folder,
};

/// How long a server may be silent while we wait for it, unless the book says otherwise.
pub const SILENCE: Duration = Duration::from_secs(30);

/// Connections to one server unless the book says otherwise: enough to keep small files moving,
/// few enough for the limits that servers commonly set.
pub(super) const CONNECTIONS: u8 = 4;
/// Web servers and object stores are made for many requests at once.
pub(super) const REQUESTS: u8 = 12;

/// Host and port; a port that stands with the host counts where no other is given.
pub(super) fn address(host: &Text<holds::Host>, port: Option<u16>, usual: u16) -> Checked<(String, u16)> {
    let address = HostAddress::parse(host.str()).at(host)?;
    Ok((address.host, port.or(address.port).unwrap_or(usual)))
}

/// How a server is told on which one signs in: `merrow@ftp.harlan.example:21/out`.
pub(super) fn told_address(user: &str, host: &str, port: u16, root: &str) -> String {
    format!("{user}@{host}:{port}/{}", root.trim_start_matches('/'))
}

/// The root; the folder of a pasted address where no other is given.
pub(super) fn root(root: Option<&Text>, host: &Text<holds::Host>) -> String {
    let pasted = || host.str().split_once("://")?.1.split_once('/').map(|(_, folder)| folder.trim().trim_matches('/'));
    match (root, pasted()) {
        (Some(root), _) => typed_folder(root.str()),
        (None, Some(folder)) if !folder.is_empty() => typed_folder(&format!("/{folder}")),
        (None, _) => String::new(),
    }
}

pub(super) fn connections(given: Option<u8>, usual: u8) -> usize {
    given.unwrap_or(usual).max(1).into()
}

pub(super) fn silence(text: Option<&Text<holds::Duration>>) -> Checked<Duration> {
    let Some(text) = text else { return Ok(SILENCE) };
    let silence = parse_duration(text.str()).at(text)?;
    if silence < Duration::from_secs(1) {
        return Err(text.wrong("timeout must be a second or longer"));
    }
    Ok(silence)
}

/// What an SSH server proves itself with: the 43 characters of base64 that `SHA-256` has in OpenSSH's form.
pub(super) fn host_key(text: Option<&Text<holds::Fingerprint>>) -> Checked<Option<String>> {
    let is_base64 = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'+' || byte == b'/';
    fingerprint(text, "43 letters and digits of base64", |digest| {
        let digest = digest.trim_end_matches('=');
        (digest.len() == 43 && digest.bytes().all(is_base64)).then(|| digest.to_owned())
    })
}

/// What a TLS server proves itself with: 32 bytes in hexadecimal, with or without colons.
pub(super) fn certificate(text: Option<&Text<holds::Fingerprint>>) -> Checked<Option<String>> {
    fingerprint(text, "32 pairs of hexadecimal digits", |digest| {
        let digits: String = digest.chars().filter(|c| *c != ':').collect();
        (digits.len() == 64 && digits.bytes().all(|byte| byte.is_ascii_hexdigit())).then(|| digest.to_owned())
    })
}

fn fingerprint(
    text: Option<&Text<holds::Fingerprint>>,
    form: &str,
    digest: impl Fn(&str) -> Option<String>,
) -> Checked<Option<String>> {
    let Some(text) = text else { return Ok(None) };
    let found = text.str().trim().strip_prefix("SHA256:").and_then(digest);
    let words = || {
        format!("\"{}\" is no fingerprint: it is SHA256: and {form}; \"wetbank place test\" shows it whole", text.str())
    };
    found.map(|digest| Some(format!("SHA256:{digest}"))).ok_or_else(|| text.wrong(words()))
}

/// A text without the blanks around it.
pub(super) fn trimmed(text: &Text) -> String {
    text.str().trim().to_owned()
}

/// What a kind needs was not said.
pub(super) fn lacks(at: &Range<usize>, words: &str) -> Mistake {
    Mistake::missing(at.clone(), words)
}
