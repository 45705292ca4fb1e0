//! Checking a request's signature (AWS Signature Version 4), in its headers or its query.

use aws_lc_rs::{
    digest::{SHA256, digest},
    hmac,
};
use axum::http::{StatusCode, header, request::Parts};
use jiff::{SignedDuration, Timestamp, civil::DateTime, tz::TimeZone};

use super::{answers::Refusal, decoded};

/// Clocks may differ by so much.
const SKEW: SignedDuration = SignedDuration::from_mins(15);

fn keyed(key: &[u8], text: &str) -> Vec<u8> {
    hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, key), text.as_bytes()).as_ref().to_vec()
}

fn refuse(code: &'static str) -> Refusal {
    Refusal::new(StatusCode::FORBIDDEN, code)
}

/// What a request says of its own signature.
struct Claim {
    credential: String,
    signed_headers: String,
    signature: String,
    time: String,
    payload: String,
}

fn claim(parts: &Parts) -> Option<Claim> {
    let of_header = |name: &str| parts.headers.get(name).and_then(|value| value.to_str().ok());
    if let Some(text) = of_header(header::AUTHORIZATION.as_str()) {
        let fields = text.strip_prefix("AWS4-HMAC-SHA256")?;
        let field = |name: &str| {
            let found = fields.split(',').find_map(|field| field.trim().strip_prefix(name)?.strip_prefix('='));
            found.map(str::to_owned)
        };
        return Some(Claim {
            credential: field("Credential")?,
            signed_headers: field("SignedHeaders")?,
            signature: field("Signature")?,
            time: of_header("x-amz-date")?.to_owned(),
            payload: of_header("x-amz-content-sha256").unwrap_or("UNSIGNED-PAYLOAD").to_owned(),
        });
    }
    let field = |name: &str| {
        let mut pairs = parts.uri.query()?.split('&').filter_map(|pair| pair.split_once('='));
        pairs.find(|(known, _)| *known == name).map(|(_, value)| decoded(value))
    };
    Some(Claim {
        credential: field("X-Amz-Credential")?,
        signed_headers: field("X-Amz-SignedHeaders")?,
        signature: field("X-Amz-Signature")?,
        time: field("X-Amz-Date")?,
        payload: "UNSIGNED-PAYLOAD".to_owned(),
    })
}

/// Refuses a request that was not signed with this key, or not lately.
pub(super) fn check(parts: &Parts, access: &str, secret: &str) -> Result<(), Refusal> {
    let claim = claim(parts).ok_or_else(|| refuse("AccessDenied"))?;
    let (who, scope) = claim.credential.split_once('/').ok_or_else(|| refuse("AccessDenied"))?;
    if who != access {
        return Err(refuse("InvalidAccessKeyId"));
    }
    let time = DateTime::strptime("%Y%m%dT%H%M%SZ", &claim.time).ok().and_then(|t| t.to_zoned(TimeZone::UTC).ok());
    let time = time.ok_or_else(|| refuse("AccessDenied"))?.timestamp();
    if Timestamp::now().duration_since(time).abs() > SKEW {
        return Err(refuse("RequestTimeTooSkewed"));
    }
    let mut pairs: Vec<&str> = parts.uri.query().unwrap_or_default().split('&').collect();
    pairs.retain(|pair| !pair.is_empty() && !pair.starts_with("X-Amz-Signature="));
    let mut pairs: Vec<String> =
        pairs.iter().map(|pair| if pair.contains('=') { (*pair).to_owned() } else { format!("{pair}=") }).collect();
    pairs.sort();
    let mut headers = String::new();
    for name in claim.signed_headers.split(';') {
        let value = parts.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
        let words: Vec<&str> = value.split_whitespace().collect();
        headers += &format!("{name}:{}\n", words.join(" "));
    }
    let request = format!(
        "{}\n{}\n{}\n{headers}\n{}\n{}",
        parts.method,
        parts.uri.path(),
        pairs.join("&"),
        claim.signed_headers,
        claim.payload
    );
    let hashed = hex::encode(digest(&SHA256, request.as_bytes()).as_ref());
    let text = format!("AWS4-HMAC-SHA256\n{}\n{scope}\n{hashed}", claim.time);
    let key = scope.split('/').fold(format!("AWS4{secret}").into_bytes(), |key, part| keyed(&key, part));
    if hex::encode(keyed(&key, &text)) == claim.signature { Ok(()) } else { Err(refuse("SignatureDoesNotMatch")) }
}
