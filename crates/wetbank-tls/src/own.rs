//! A certificate of our own making, for which no authority vouches.

use jiff::{SignedDuration, Timestamp};
use rcgen::{CertificateParams, DnType, KeyPair};

/// For so long it is good: longer than that browsers refuse.
const GOOD_FOR: SignedDuration = SignedDuration::from_hours(24 * 397);

/// Makes a key and a certificate for these names and addresses, both as PEM.
///
/// # Errors
///
/// If one of them is no name that a certificate can have, in words.
pub fn own(names: &[String], now: Timestamp) -> Result<(String, String), String> {
    let mut params = CertificateParams::new(names).map_err(|error| error.to_string())?;
    params.distinguished_name.push(DnType::CommonName, "Wetbank");
    let time = |at: Timestamp| {
        let day = at.to_zoned(jiff::tz::TimeZone::UTC).date();
        rcgen::date_time_ymd(day.year().into(), day.month().cast_unsigned(), day.day().cast_unsigned())
    };
    // A clock that is behind ours does not find it too young.
    params.not_before = time(now - SignedDuration::from_hours(24));
    params.not_after = time(now + GOOD_FOR);
    let key = KeyPair::generate().map_err(|error| error.to_string())?;
    let certificate = params.self_signed(&key).map_err(|error| error.to_string())?;
    Ok((certificate.pem(), key.serialize_pem()))
}
