//! What a server shows of itself, to be confirmed by a person.

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
    /// A certificate's, under the usual key.
    pub(crate) fn certificate(fingerprint: String) -> Self {
        Self { what: "certificate", fingerprint, key: "certificate" }
    }

    /// Whether a typed fingerprint is this one.
    pub fn is(&self, typed: &str) -> bool {
        let typed = typed.trim();
        // Hexadecimal has no case and colons are decoration; a host key's form is exact.
        self.fingerprint == typed
            || (self.what == "certificate" && wetbank_tls::digits(&self.fingerprint) == wetbank_tls::digits(typed))
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
