//! Who may do what: the authorization server's half of OAuth 2.0 (RFC 6749) with PKCE (RFC 7636)
//! and the device grant (RFC 8628).

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::{Duration, Instant},
};

use aws_lc_rs::digest::{SHA256, digest};
use axum::{
    Form, Json,
    extract::State,
    http::{StatusCode, header},
    response::{IntoResponse, Response},
};

use super::{Served, locked};

/// What can be agreed to, in words.
pub(super) const RIGHTS: [(&str, &str); 2] =
    [("files.read", "see and read the files"), ("files.write", "add, change and delete files")];
/// A code on its way is good for so long.
const CODE: Duration = Duration::from_secs(120);
const DEVICE_SECONDS: u64 = 600;

#[derive(Debug, Clone)]
pub(super) struct Allowed {
    pub user: String,
    pub rights: Vec<String>,
}

#[derive(Debug)]
struct Code {
    allowed: Allowed,
    challenge: String,
    redirect: String,
    until: Instant,
}

#[derive(Debug)]
struct Device {
    code: String,
    rights: Vec<String>,
    /// Nothing yet, refused, or by whom it was agreed to.
    answer: Option<Option<String>>,
}

/// Everything that was agreed to and is still good.
#[derive(Debug, Default)]
pub(super) struct Grants {
    codes: HashMap<String, Code>,
    devices: HashMap<String, Device>,
    lasting: HashMap<String, Allowed>,
    access: HashMap<String, (Allowed, Instant)>,
}

fn secret() -> String {
    hex::encode(rand10::random::<[u8; 24]>())
}

/// A code that people can type.
fn short_code() -> String {
    const LETTERS: &[u8; 20] = b"BCDFGHJKLMNPQRSTVWXZ";
    let letters: String =
        rand10::random::<[u8; 8]>().iter().map(|byte| char::from(LETTERS[usize::from(*byte) % 20])).collect();
    format!("{}-{}", &letters[..4], &letters[4..])
}

impl Grants {
    pub fn grant(&mut self, user: &str, rights: Vec<String>) -> String {
        let token = secret();
        self.lasting.insert(token.clone(), Allowed { user: user.to_owned(), rights });
        token
    }

    /// A code for who comes back with what this is the hash of.
    pub fn code(&mut self, allowed: Allowed, challenge: &str, redirect: &str) -> String {
        let code = secret();
        let (challenge, redirect) = (challenge.to_owned(), redirect.to_owned());
        self.codes.insert(code.clone(), Code { allowed, challenge, redirect, until: Instant::now() + CODE });
        code
    }

    /// What the device with this code asks for.
    pub fn device_rights(&self, code: &str) -> Option<Vec<String>> {
        let same = |device: &&Device| device.code.eq_ignore_ascii_case(code.trim()) && device.answer.is_none();
        self.devices.values().find(same).map(|device| device.rights.clone())
    }

    pub fn answer_device(&mut self, code: &str, user: Option<&str>) -> bool {
        let device = self.devices.values_mut().find(|device| device.code.eq_ignore_ascii_case(code.trim()));
        let Some(device) = device else { return false };
        device.answer = Some(user.map(str::to_owned));
        true
    }

    pub fn answer_any_device(&mut self, user: &str) -> bool {
        let device = self.devices.values_mut().find(|device| device.answer.is_none());
        device.map(|device| device.answer = Some(Some(user.to_owned()))).is_some()
    }

    pub fn revoke_all(&mut self) {
        *self = Self::default();
    }

    pub fn end_access(&mut self) {
        self.access.clear();
    }

    /// Who comes with this access token, while it is good.
    pub fn allowed(&self, token: &str) -> Option<&Allowed> {
        self.access.get(token).filter(|(_, until)| Instant::now() < *until).map(|(allowed, _)| allowed)
    }

    /// Takes a lasting token and gives a new pair: each is good once.
    fn pair(&mut self, allowed: Allowed, seconds: u64) -> Json<BTreeMap<&'static str, serde_json::Value>> {
        let (access, rights) = (secret(), allowed.rights.clone());
        self.access.insert(access.clone(), (allowed.clone(), Instant::now() + Duration::from_secs(seconds)));
        let lasting = self.grant(&allowed.user, allowed.rights);
        Json(BTreeMap::from([
            ("access_token", access.into()),
            ("token_type", "Bearer".into()),
            ("expires_in", seconds.into()),
            ("refresh_token", lasting.into()),
            ("scope", rights.join(" ").into()),
        ]))
    }
}

/// What the server tells of itself (RFC 8414).
pub(super) async fn metadata(State(served): State<Arc<Served>>) -> Response {
    let at = |path: &str| format!("{}{path}", served.origin);
    Json(serde_json::json!({
        "issuer": served.origin,
        "authorization_endpoint": at("/authorize"),
        "token_endpoint": at("/token"),
        "device_authorization_endpoint": at("/device-authorization"),
        "scopes_supported": RIGHTS.map(|(right, _)| right),
        "response_types_supported": ["code"],
        "grant_types_supported":
            ["authorization_code", "refresh_token", "urn:ietf:params:oauth:grant-type:device_code"],
        "code_challenge_methods_supported": ["S256"],
        "token_endpoint_auth_methods_supported": ["none"],
    }))
    .into_response()
}

fn refused(error: &'static str) -> Response {
    let headers = [(header::CACHE_CONTROL, "no-store")];
    (StatusCode::BAD_REQUEST, headers, Json(serde_json::json!({ "error": error }))).into_response()
}

/// The rights of a request, if there are all of them.
pub(super) fn rights(scope: &str) -> Option<Vec<String>> {
    let rights: Vec<String> = scope.split_ascii_whitespace().map(str::to_owned).collect();
    let known = |right: &String| RIGHTS.iter().any(|(known, _)| known == right);
    (!rights.is_empty() && rights.iter().all(known)).then_some(rights)
}

/// A device asks for a code (RFC 8628, section 3.1).
pub(super) async fn device(State(served): State<Arc<Served>>, Form(asked): Form<HashMap<String, String>>) -> Response {
    let text = |name: &str| asked.get(name).map_or("", String::as_str);
    if text("client_id") != served.options.client {
        return refused("invalid_client");
    }
    let Some(rights) = rights(text("scope")) else { return refused("invalid_scope") };
    let (device, code) = (secret(), short_code());
    let page = format!("{}/device", served.origin);
    locked(&served.grants).devices.insert(device.clone(), Device { code: code.clone(), rights, answer: None });
    Json(serde_json::json!({
        "device_code": device,
        "user_code": code,
        "verification_uri": page,
        "verification_uri_complete": format!("{page}?code={code}"),
        "expires_in": DEVICE_SECONDS,
        "interval": 1,
    }))
    .into_response()
}

/// Codes and lasting tokens become access (RFC 6749, sections 4.1.3 and 6; RFC 8628, section 3.4).
pub(super) async fn token(State(served): State<Arc<Served>>, Form(asked): Form<HashMap<String, String>>) -> Response {
    let text = |name: &str| asked.get(name).map_or("", String::as_str);
    if text("client_id") != served.options.client {
        return refused("invalid_client");
    }
    let mut grants = locked(&served.grants);
    let allowed = match text("grant_type") {
        "authorization_code" => {
            // Good once, whatever comes of it.
            let Some(code) = grants.codes.remove(text("code")) else { return refused("invalid_grant") };
            let proof = base64_url(digest(&SHA256, text("code_verifier").as_bytes()).as_ref());
            if proof != code.challenge || text("redirect_uri") != code.redirect || code.until < Instant::now() {
                return refused("invalid_grant");
            }
            code.allowed
        }
        "refresh_token" => match grants.lasting.remove(text("refresh_token")) {
            Some(allowed) => allowed,
            None => return refused("invalid_grant"),
        },
        "urn:ietf:params:oauth:grant-type:device_code" => {
            let Some(device) = grants.devices.get(text("device_code")) else { return refused("expired_token") };
            match device.answer.clone() {
                None => return refused("authorization_pending"),
                Some(None) => return refused("access_denied"),
                Some(Some(user)) => {
                    let rights = device.rights.clone();
                    grants.devices.remove(text("device_code"));
                    Allowed { user, rights }
                }
            }
        }
        _ => return refused("unsupported_grant_type"),
    };
    ([(header::CACHE_CONTROL, "no-store")], grants.pair(allowed, served.options.token_seconds)).into_response()
}

/// Base64 with the letters for addresses and without padding (RFC 7636, appendix A).
fn base64_url(bytes: &[u8]) -> String {
    const LETTERS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
    bytes
        .chunks(3)
        .flat_map(|three| {
            let bits =
                three.iter().enumerate().fold(0_u32, |bits, (at, byte)| bits | u32::from(*byte) << (16 - 8 * at));
            (0..=three.len()).map(move |at| char::from(LETTERS[(bits >> (18 - 6 * at) & 63) as usize]))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The example of RFC 7636, appendix B.
    #[test]
    fn a_proof_is_that_of_the_specification() {
        let verifier = b"dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk";
        assert_eq!(base64_url(digest(&SHA256, verifier).as_ref()), "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM");
    }

    #[test]
    fn only_rights_that_there_are_can_be_asked_for() {
        assert_eq!(rights("files.read files.write").map(|rights| rights.len()), Some(2));
        assert!(rights("files.read mail.read").is_none() && rights("").is_none());
    }
}
