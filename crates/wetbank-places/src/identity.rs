//! What a server shows of itself, to be confirmed by a person.

use wetbank_core::{PlaceName, PlaceSpec};

use crate::{HostKey, PlaceError, ftp, mailbox, place::Result, tls, web};

/// A fingerprint of what a server proves itself with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// `host key` or `certificate`.
    pub what: &'static str,
    /// `SHA256:…`, as the usual tools show it.
    pub fingerprint: String,
    /// The key of the book under which it is confirmed.
    pub key: &'static str,
}

impl Identity {
    /// Whether a typed fingerprint is this one.
    pub fn is(&self, typed: &str) -> bool {
        let typed = typed.trim();
        // Hexadecimal has no case and colons are decoration; a host key's form is exact.
        self.fingerprint == typed
            || (self.what == "certificate" && tls::digits(&self.fingerprint) == tls::digits(typed))
    }
}

/// Asks a place's server what it shows, without signing in or trusting it. Nothing for a place
/// without such a proof: a folder, or a connection that is not secured.
pub async fn shown_identity(place: &PlaceName, spec: &PlaceSpec) -> Result<Option<Identity>> {
    let certificate = |shown: Result<Option<String>>| {
        let key = "certificate";
        Ok::<_, PlaceError>(shown?.map(|fingerprint| Identity { what: "certificate", fingerprint, key }))
    };
    match spec {
        PlaceSpec::Folder { .. } | PlaceSpec::Share(_) => Ok(None),
        PlaceSpec::Sftp(spec) => {
            let fingerprint = HostKey::fetch(place, spec).await?.to_string();
            Ok(Some(Identity { what: "host key", fingerprint, key: "host-key" }))
        }
        PlaceSpec::Ftp(spec) => certificate(ftp::shown_certificate(place, spec).await),
        PlaceSpec::Mailbox(spec) => {
            let shown = mailbox::shown_certificate(place, spec).await?;
            Ok(shown.map(|(fingerprint, key)| Identity { what: "certificate", fingerprint, key }))
        }
        PlaceSpec::Webdav(spec) => certificate(web::shown_certificate(place, &spec.url).await),
        PlaceSpec::Bucket(spec) => certificate(web::shown_certificate(place, &spec.server()).await),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_the_same_in_any_form_and_a_host_key_only_in_its_own() {
        let certificate = Identity { what: "certificate", fingerprint: "SHA256:AB:CD".to_owned(), key: "certificate" };
        assert!(certificate.is("SHA256:ab:cd") && certificate.is(" abcd ") && !certificate.is("SHA256:AB:CE"));
        let key = Identity { what: "host key", fingerprint: "SHA256:AbCd".to_owned(), key: "host-key" };
        assert!(key.is("SHA256:AbCd") && !key.is("SHA256:abcd"));
    }
}
