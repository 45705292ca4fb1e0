//! A stand-in for a provider that vouches for people: it agrees at once, and can be told to lie.

use std::{
    collections::HashMap,
    process::Command,
    sync::{Arc, Mutex},
    time::Duration,
};

use axum::{
    Form, Json, Router,
    extract::{Query, State},
    response::{IntoResponse, Redirect, Response},
    routing::{get, post},
};
use openidconnect::{
    Audience, EmptyAdditionalClaims, IssuerUrl, JsonWebKeyId, Nonce, PkceCodeChallenge, PkceCodeVerifier,
    PrivateSigningKey, StandardClaims, SubjectIdentifier,
    core::{CoreIdToken, CoreIdTokenClaims, CoreJsonWebKeySet, CoreJwsSigningAlgorithm, CoreRsaPrivateSigningKey},
};
use serde_json::{Value, json};

/// What it says that does not hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lie {
    None,
    Nonce,
    Audience,
    Issuer,
    Expired,
    /// Signed with a key that it never showed.
    Key,
    /// Not signed at all.
    Unsigned,
}

/// Somebody who asked for a code.
struct Asked {
    nonce: String,
    challenge: String,
    back: String,
}

struct Inner {
    url: String,
    keys: Vec<String>,
    /// The number of the key that it signs with.
    key: usize,
    lie: Lie,
    subject: String,
    codes: HashMap<String, Asked>,
}

type Shared = Arc<Mutex<Inner>>;

/// What the service is called there, and proves itself with.
pub const CLIENT: (&str, &str) = ("wetbank", "grey-plover-secret");

/// It runs until it is dropped with its runtime.
pub struct Issuer(Shared);

fn pem() -> String {
    let made = Command::new("openssl").args(["genrsa", "-traditional", "2048"]).output().unwrap();
    String::from_utf8(made.stdout).unwrap()
}

fn signing(pem: &str, number: usize) -> CoreRsaPrivateSigningKey {
    CoreRsaPrivateSigningKey::from_pem(pem, Some(JsonWebKeyId::new(format!("key-{number}")))).unwrap()
}

async fn discovery(State(shared): State<Shared>) -> Json<Value> {
    let url = shared.lock().unwrap().url.clone();
    Json(json!({
        "issuer": url, "authorization_endpoint": format!("{url}/authorize"), "token_endpoint": format!("{url}/token"),
        "jwks_uri": format!("{url}/keys"), "response_types_supported": ["code"], "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["RS256"],
    }))
}

async fn keys(State(shared): State<Shared>) -> Json<CoreJsonWebKeySet> {
    let inner = shared.lock().unwrap();
    // Only the key in use: it forgot those before.
    Json(CoreJsonWebKeySet::new(vec![signing(&inner.keys[inner.key], inner.key).as_verification_key()]))
}

async fn authorize(State(shared): State<Shared>, Query(asked): Query<HashMap<String, String>>) -> Redirect {
    assert_eq!(
        (&*asked["client_id"], &*asked["response_type"], &*asked["code_challenge_method"]),
        (CLIENT.0, "code", "S256")
    );
    assert!(asked["scope"].split(' ').any(|scope| scope == "openid"), "{asked:?}");
    let mut inner = shared.lock().unwrap();
    let code = format!("code-{}", inner.codes.len());
    let (nonce, challenge, back) =
        (asked["nonce"].clone(), asked["code_challenge"].clone(), asked["redirect_uri"].clone());
    let to = format!("{back}?code={code}&state={}", asked["state"]);
    inner.codes.insert(code, Asked { nonce, challenge, back });
    Redirect::to(&to)
}

async fn token(
    State(shared): State<Shared>,
    headers: axum::http::HeaderMap,
    Form(form): Form<HashMap<String, String>>,
) -> Response {
    use base64::prelude::{BASE64_STANDARD, BASE64_URL_SAFE_NO_PAD, Engine};
    let mut inner = shared.lock().unwrap();
    let basic = BASE64_STANDARD.encode(format!("{}:{}", CLIENT.0, CLIENT.1));
    let proved = headers["authorization"].to_str().unwrap() == format!("Basic {basic}");
    let asked = inner.codes.get_mut(&form["code"]).map(|asked| std::mem::take(&mut asked.challenge));
    let challenge = PkceCodeChallenge::from_code_verifier_sha256(&PkceCodeVerifier::new(form["code_verifier"].clone()));
    if !proved
        || asked.as_deref() != Some(challenge.as_str())
        || inner.codes[&form["code"]].back != form["redirect_uri"]
    {
        return (axum::http::StatusCode::BAD_REQUEST, Json(json!({ "error": "invalid_grant" }))).into_response();
    }
    let lie = inner.lie;
    let said = |lies: bool, truth: &str, lie: &str| if lies { lie.to_owned() } else { truth.to_owned() };
    let now = std::time::SystemTime::now();
    let ends = if lie == Lie::Expired { now - Duration::from_secs(3600) } else { now + Duration::from_secs(300) };
    let nonce = said(lie == Lie::Nonce, &inner.codes[&form["code"]].nonce, "another");
    let claims = CoreIdTokenClaims::new(
        IssuerUrl::new(said(lie == Lie::Issuer, &inner.url, "http://other.example")).unwrap(),
        vec![Audience::new(said(lie == Lie::Audience, CLIENT.0, "another"))],
        ends.into(),
        now.into(),
        StandardClaims::new(SubjectIdentifier::new(inner.subject.clone())),
        EmptyAdditionalClaims {},
    )
    .set_nonce(Some(Nonce::new(nonce)));
    let by = if lie == Lie::Key { signing(&pem(), inner.key) } else { signing(&inner.keys[inner.key], inner.key) };
    let token = CoreIdToken::new(claims, &by, CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha256, None, None).unwrap();
    let mut token = token.to_string();
    if lie == Lie::Unsigned {
        let head = BASE64_URL_SAFE_NO_PAD.encode("{\"alg\":\"none\"}");
        token = format!("{head}.{}.", token.split('.').nth(1).unwrap());
    }
    Json(json!({ "access_token": "of no use here", "token_type": "Bearer", "id_token": token })).into_response()
}

impl Issuer {
    pub async fn start() -> Self {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let inner = Inner {
            url,
            keys: vec![pem(), pem()],
            key: 0,
            lie: Lie::None,
            subject: "ina@id".to_owned(),
            codes: HashMap::new(),
        };
        let shared = Arc::new(Mutex::new(inner));
        let router = Router::new()
            .route("/.well-known/openid-configuration", get(discovery))
            .route("/keys", get(keys))
            .route("/authorize", get(authorize))
            .route("/token", post(token))
            .with_state(shared.clone());
        tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
        Self(shared)
    }

    pub fn url(&self) -> String {
        self.0.lock().unwrap().url.clone()
    }

    /// Whom it vouches for from now on.
    pub fn vouches_for(&self, subject: &str) {
        self.0.lock().unwrap().subject = subject.to_owned();
    }

    pub fn lies(&self, lie: Lie) {
        self.0.lock().unwrap().lie = lie;
    }

    /// It signs with another key from now on.
    pub fn turn_key(&self) {
        self.0.lock().unwrap().key = 1;
    }
}
