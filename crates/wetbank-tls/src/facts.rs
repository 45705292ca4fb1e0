//! What a certificate says.

use std::net::IpAddr;

use aws_lc_rs::digest::{SHA256, digest};
use jiff::Timestamp;
use rustls::pki_types::CertificateDer;
use x509_parser::{extensions::GeneralName, time::ASN1Time};

/// The fingerprint of a certificate: `SHA256:AB:CD:…`, the form that `openssl x509` shows.
pub fn fingerprint(certificate: &CertificateDer<'_>) -> String {
    let parts: Vec<String> =
        digest(&SHA256, certificate.as_ref()).as_ref().iter().map(|byte| format!("{byte:02X}")).collect();
    format!("SHA256:{}", parts.join(":"))
}

/// What counts in a fingerprint, however it was typed.
pub fn digits(fingerprint: &str) -> String {
    let hex = fingerprint.strip_prefix("SHA256:").unwrap_or(fingerprint);
    hex.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_ascii_uppercase()
}

/// When a certificate ends, if that can be read.
pub fn ends(certificate: &CertificateDer<'_>) -> Option<Timestamp> {
    good(certificate).map(|(_, ends)| ends)
}

/// From when to when a certificate is good.
pub(crate) fn good(certificate: &CertificateDer<'_>) -> Option<(Timestamp, Timestamp)> {
    let (_, parsed) = x509_parser::parse_x509_certificate(certificate.as_ref()).ok()?;
    let time = |at: ASN1Time| Timestamp::from_second(at.timestamp()).ok();
    Some((time(parsed.validity().not_before)?, time(parsed.validity().not_after)?))
}

/// The host names and addresses that a certificate is for, a name for all below a domain as `*.merrow.example` (RFC 5280,
/// section 4.2.1.6).
pub fn names(certificate: &CertificateDer<'_>) -> Vec<String> {
    let Ok((_, parsed)) = x509_parser::parse_x509_certificate(certificate.as_ref()) else { return Vec::new() };
    let Ok(Some(names)) = parsed.subject_alternative_name() else { return Vec::new() };
    let shown = |name: &GeneralName<'_>| match name {
        GeneralName::DNSName(name) => Some((*name).to_owned()),
        GeneralName::IPAddress(bytes) => match (<[u8; 4]>::try_from(*bytes), <[u8; 16]>::try_from(*bytes)) {
            (Ok(four), _) => Some(IpAddr::from(four).to_string()),
            (_, Ok(sixteen)) => Some(IpAddr::from(sixteen).to_string()),
            _ => None,
        },
        _ => None,
    };
    names.value.general_names.iter().filter_map(shown).collect()
}

/// Whether a certificate vouches for itself: no authority does.
pub(crate) fn is_own(certificate: &CertificateDer<'_>) -> bool {
    x509_parser::parse_x509_certificate(certificate.as_ref())
        .is_ok_and(|(_, parsed)| parsed.subject() == parsed.issuer())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fingerprint_is_the_same_however_it_is_typed() {
        assert_eq!(digits("SHA256:AB:cd:01"), "ABCD01");
        assert_eq!(digits("abcd01"), "ABCD01");
    }
}
