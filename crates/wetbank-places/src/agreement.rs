//! What a person agrees to with an authorization server (OAuth 2.0, RFC 6749): asking for it, and
//! the access that comes of it.

use std::{
    borrow::Cow,
    fmt,
    sync::Arc,
    time::{Duration, Instant},
};

use async_trait::async_trait;
use futures_util::future::BoxFuture;
use oauth2::{
    AsyncHttpClient, AuthType, AuthUrl, AuthorizationCode, ClientId, ClientSecret, CsrfToken, DeviceAuthorizationUrl,
    DeviceCodeErrorResponseType, EndpointMaybeSet, EndpointNotSet, HttpRequest, HttpResponse, PkceCodeChallenge,
    PkceCodeVerifier, RedirectUrl, RefreshToken, RequestTokenError, Scope, StandardDeviceAuthorizationResponse,
    TokenResponse, TokenUrl,
    basic::{BasicClient, BasicErrorResponseType, BasicTokenResponse},
};
use secrecy::{ExposeSecret, SecretString};
use serde::Deserialize;
use tokio::sync::Mutex;
use wetbank_core::{AgreedSpec, PlaceName, RelPath};

use crate::{PlaceError, PlaceErrorKind, tls::Tls};

/// A server may be silent so long while we wait for it.
const SILENCE: Duration = Duration::from_secs(30);
/// Access is renewed so long before it ends.
const EARLY: Duration = Duration::from_secs(60);
/// Access of which the server does not say how long it is good is renewed after this time.
const UNTOLD: Duration = Duration::from_secs(600);
/// What a server tells of itself is no longer than this.
const LONGEST: usize = 256 << 10;

/// Why nothing was agreed to.
#[derive(Debug, Clone, thiserror::Error)]
#[non_exhaustive]
pub enum AgreementError {
    /// The server cannot be reached, or not understood.
    #[error("{0}")]
    Unreachable(String),
    /// It does not offer this.
    #[error("{0}")]
    NotOffered(String),
    /// Somebody said no, or let the time pass.
    #[error("{0}")]
    Refused(String),
    /// What was agreed to before is over.
    #[error("what was agreed to is over: {0}")]
    Over(String),
}

/// What the authorization server tells of itself (RFC 8414, section 2).
#[derive(Debug, Clone, Deserialize)]
struct Metadata {
    issuer: String,
    authorization_endpoint: Option<String>,
    token_endpoint: String,
    device_authorization_endpoint: Option<String>,
}

/// The lasting half of an agreement, and what it allows.
#[derive(Debug, Clone)]
pub struct Granted {
    /// What brings access again and again (the refresh token).
    pub lasting: SecretString,
    /// What the server says that it allows.
    pub rights: Vec<String>,
}

/// Somebody is asked on a page of the server.
#[derive(Debug)]
pub struct AskedOnPage {
    /// The page.
    pub page: String,
    /// Comes back with the answer.
    pub state: String,
    verifier: PkceCodeVerifier,
    redirect: RedirectUrl,
}

/// Somebody is asked to type a code on a page of the server (RFC 8628).
#[derive(Debug)]
pub struct AskedByCode {
    /// The code.
    pub code: String,
    /// The page on which it is typed.
    pub page: String,
    /// The page with the code typed already, if there is one.
    pub direct: Option<String>,
    /// How long the code is good.
    pub good_for: Duration,
    details: StandardDeviceAuthorizationResponse,
}

/// An authorization server, as one place asks it.
#[derive(Debug, Clone)]
pub struct Agreement {
    spec: AgreedSpec,
    client_secret: Option<SecretString>,
    http: Http,
    metadata: Metadata,
}

#[derive(Debug, Clone)]
struct Http(reqwest::Client);

/// A failure on the way, as the library wants it.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
struct OnTheWay(String);

impl Http {
    fn new() -> Self {
        let tls = Tls::new(None);
        let client = reqwest::Client::builder()
            .tls_backend_preconfigured((*tls.config).clone())
            .connect_timeout(SILENCE)
            .timeout(SILENCE)
            // A redirect could lead a code or token to another server.
            .redirect(reqwest::redirect::Policy::none())
            .http1_only();
        Self(client.build().expect("the options fit together"))
    }

    async fn send(&self, request: reqwest::Request) -> Result<(u16, Vec<u8>), OnTheWay> {
        let broken = |e: reqwest::Error| OnTheWay(e.without_url().to_string());
        let mut answer = self.0.execute(request).await.map_err(broken)?;
        let mut body = Vec::new();
        while let Some(chunk) = answer.chunk().await.map_err(broken)? {
            if body.len() + chunk.len() > LONGEST {
                return Err(OnTheWay("its answer is longer than any honest one".to_owned()));
            }
            body.extend_from_slice(&chunk);
        }
        Ok((answer.status().as_u16(), body))
    }

    async fn exchange(&self, request: HttpRequest) -> Result<HttpResponse, OnTheWay> {
        let request = reqwest::Request::try_from(request).map_err(|e| OnTheWay(e.to_string()))?;
        let (status, body) = self.send(request).await?;
        let mut response = HttpResponse::new(body);
        *response.status_mut() = status.try_into().map_err(|_| OnTheWay("an answer without a status".to_owned()))?;
        let json = reqwest::header::HeaderValue::from_static("application/json");
        // An answer in another form is found out when it is read.
        response.headers_mut().insert(reqwest::header::CONTENT_TYPE, json);
        Ok(response)
    }
}

impl<'c> AsyncHttpClient<'c> for Http {
    type Error = OnTheWay;
    type Future = BoxFuture<'c, Result<HttpResponse, OnTheWay>>;

    fn call(&'c self, request: HttpRequest) -> Self::Future {
        Box::pin(self.exchange(request))
    }
}

type Asker = BasicClient<EndpointMaybeSet, EndpointMaybeSet, EndpointNotSet, EndpointNotSet, EndpointMaybeSet>;

impl Agreement {
    /// Asks the server for its addresses.
    ///
    /// # Errors
    /// If it cannot be reached, or speaks for another than itself.
    pub async fn find(spec: AgreedSpec, client_secret: Option<SecretString>) -> Result<Self, AgreementError> {
        let http = Http::new();
        // The well-known part stands between the host and the rest (RFC 8414, section 3.1).
        let host = spec.server.find("://").map_or(0, |at| at + 3);
        let path = spec.server[host..].find('/').map_or(spec.server.len(), |at| host + at);
        let (origin, path) = spec.server.split_at(path);
        let url = format!("{origin}/.well-known/oauth-authorization-server{path}");
        let failed = |why: String| AgreementError::Unreachable(format!("{}: {why}", spec.server));
        let request = http.0.get(&url).build().map_err(|e| failed(e.to_string()))?;
        let (status, body) = http.send(request).await.map_err(|e| failed(e.to_string()))?;
        if status != 200 {
            let why = format!("{url} answered {status}; is this the address of the sign-in?");
            return Err(AgreementError::NotOffered(why));
        }
        let metadata: Metadata = serde_json::from_slice(&body)
            .map_err(|e| AgreementError::NotOffered(format!("{url} tells nothing about signing in: {e}")))?;
        if metadata.issuer.trim_end_matches('/') != spec.server {
            let why =
                format!("{} says that it is {}; write that into the book if it is right", spec.server, metadata.issuer);
            return Err(AgreementError::NotOffered(why));
        }
        Ok(Self { spec, client_secret, http, metadata })
    }

    /// Whether people can type a code instead of coming back to us.
    pub fn offers_codes(&self) -> bool {
        self.metadata.device_authorization_endpoint.is_some()
    }

    fn asker(&self) -> Result<Asker, AgreementError> {
        let wrong =
            |e: oauth2::url::ParseError| AgreementError::NotOffered(format!("the server names a wrong address: {e}"));
        let mut asker = BasicClient::new(ClientId::new(self.spec.client.clone())).set_auth_type(AuthType::RequestBody);
        if let Some(secret) = &self.client_secret {
            asker = asker.set_client_secret(ClientSecret::new(secret.expose_secret().to_owned()));
        }
        let page = self.metadata.authorization_endpoint.clone().map(AuthUrl::new).transpose().map_err(wrong)?;
        let device = self.metadata.device_authorization_endpoint.clone();
        let device = device.map(DeviceAuthorizationUrl::new).transpose().map_err(wrong)?;
        let token = TokenUrl::new(self.metadata.token_endpoint.clone()).map_err(wrong)?;
        Ok(asker
            .set_auth_uri_option(page)
            .set_token_uri_option(Some(token))
            .set_device_authorization_url_option(device))
    }

    fn scopes(&self) -> impl Iterator<Item = Scope> {
        self.spec.rights.iter().cloned().map(Scope::new)
    }

    /// Begins to ask on a page; people come back to `redirect`.
    ///
    /// # Errors
    /// If the server has no such page.
    pub fn ask_on_page(&self, redirect: &str) -> Result<AskedOnPage, AgreementError> {
        let none = |e: oauth2::ConfigurationError| AgreementError::NotOffered(format!("no page to sign in on: {e}"));
        let redirect = RedirectUrl::new(redirect.to_owned())
            .map_err(|e| AgreementError::NotOffered(format!("{redirect} is no address to come back to: {e}")))?;
        let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
        let asker = self.asker()?;
        let (page, state) = asker
            .authorize_url(CsrfToken::new_random)
            .map_err(none)?
            .add_scopes(self.scopes())
            .set_pkce_challenge(challenge)
            .set_redirect_uri(Cow::Borrowed(&redirect))
            .url();
        Ok(AskedOnPage { page: page.to_string(), state: state.secret().clone(), verifier, redirect })
    }

    /// Trades the code with which people came back for the agreement.
    ///
    /// # Errors
    /// If the server does not know the code any more, or gives nothing that lasts.
    pub async fn agreed_on_page(&self, asked: AskedOnPage, code: String) -> Result<Granted, AgreementError> {
        let none = |e: oauth2::ConfigurationError| AgreementError::NotOffered(e.to_string());
        let answer = self
            .asker()?
            .exchange_code(AuthorizationCode::new(code))
            .map_err(none)?
            .set_pkce_verifier(asked.verifier)
            .set_redirect_uri(Cow::Owned(asked.redirect))
            .request_async(&self.http)
            .await
            .map_err(|e| refused(&e))?;
        self.granted(&answer)
    }

    /// Begins to ask by a code that people type.
    ///
    /// # Errors
    /// If the server does not offer it.
    pub async fn ask_by_code(&self) -> Result<AskedByCode, AgreementError> {
        let none = |_| AgreementError::NotOffered("the server offers no codes; sign in on the place's page".to_owned());
        let details: StandardDeviceAuthorizationResponse = self
            .asker()?
            .exchange_device_code()
            .map_err(none)?
            .add_scopes(self.scopes())
            .request_async(&self.http)
            .await
            .map_err(|e| refused(&e))?;
        Ok(AskedByCode {
            code: details.user_code().secret().clone(),
            page: details.verification_uri().to_string(),
            direct: details.verification_uri_complete().map(|uri| uri.secret().clone()),
            good_for: details.expires_in(),
            details,
        })
    }

    /// Waits until people typed the code and answered.
    ///
    /// # Errors
    /// If they refused, or let the time pass.
    pub async fn agreed_by_code(&self, asked: AskedByCode) -> Result<Granted, AgreementError> {
        let none = |e: oauth2::ConfigurationError| AgreementError::NotOffered(e.to_string());
        let answer = self
            .asker()?
            .exchange_device_access_token(&asked.details)
            .map_err(none)?
            .request_async(&self.http, tokio::time::sleep, Some(asked.good_for))
            .await;
        let answer = answer.map_err(|error| match &error {
            RequestTokenError::ServerResponse(said) => AgreementError::Refused(match said.error() {
                DeviceCodeErrorResponseType::AccessDenied => "it was refused on the server's page".to_owned(),
                DeviceCodeErrorResponseType::ExpiredToken => "the code was not typed in time".to_owned(),
                other => format!("the server answered {other}"),
            }),
            other => AgreementError::Unreachable(other.to_string()),
        })?;
        self.granted(&answer)
    }

    fn granted(&self, answer: &BasicTokenResponse) -> Result<Granted, AgreementError> {
        let Some(lasting) = answer.refresh_token() else {
            let why = "the server gave access that does not last; ask it for a right that does (often offline_access)";
            return Err(AgreementError::NotOffered(why.to_owned()));
        };
        // Without a word about it, all was granted (RFC 6749, section 5.1).
        let told = answer.scopes().map(|scopes| scopes.iter().map(|scope| scope.to_string()).collect());
        let rights = told.unwrap_or_else(|| self.spec.rights.clone());
        Ok(Granted { lasting: lasting.secret().clone().into(), rights })
    }

    /// Fresh access, and the lasting half if the server changes it.
    async fn renew(
        &self,
        lasting: &SecretString,
    ) -> Result<(SecretString, Duration, Option<SecretString>), AgreementError> {
        let none = |e: oauth2::ConfigurationError| AgreementError::NotOffered(e.to_string());
        let lasting = RefreshToken::new(lasting.expose_secret().to_owned());
        let asker = self.asker()?;
        let answer = asker.exchange_refresh_token(&lasting).map_err(none)?.request_async(&self.http).await;
        let answer = answer.map_err(|e| refused(&e))?;
        let access = answer.access_token().secret().clone().into();
        let lasting = answer.refresh_token().map(|token| token.secret().clone().into());
        Ok((access, answer.expires_in().unwrap_or(UNTOLD), lasting))
    }
}

fn refused<E: std::error::Error + 'static>(
    error: &RequestTokenError<E, oauth2::StandardErrorResponse<BasicErrorResponseType>>,
) -> AgreementError {
    match error {
        RequestTokenError::ServerResponse(said) => match said.error() {
            BasicErrorResponseType::InvalidGrant => {
                let why = said.error_description().map_or("the server does not know it any more", String::as_str);
                AgreementError::Over(why.to_owned())
            }
            BasicErrorResponseType::InvalidClient | BasicErrorResponseType::UnauthorizedClient => {
                AgreementError::NotOffered("the server knows no program of this name and secret (client)".to_owned())
            }
            BasicErrorResponseType::InvalidScope => {
                AgreementError::NotOffered("the server does not know the rights that are asked for".to_owned())
            }
            other => AgreementError::NotOffered(format!("the server answered {other}")),
        },
        RequestTokenError::Request(why) => AgreementError::Unreachable(why.to_string()),
        other => AgreementError::Unreachable(other.to_string()),
    }
}

/// Where the lasting half of an agreement is kept.
#[async_trait]
pub trait GrantKeeper: Send + Sync + fmt::Debug {
    /// What is kept; nothing if nobody agreed yet.
    async fn load(&self) -> Result<Option<SecretString>, String>;

    /// Keeps another one in its place.
    async fn keep(&self, lasting: &SecretString) -> Result<(), String>;
}

/// Access to a place that somebody agreed to, renewed before it ends.
#[derive(Debug)]
pub(crate) struct Access {
    place: PlaceName,
    spec: AgreedSpec,
    client_secret: Option<SecretString>,
    keeper: Arc<dyn GrantKeeper>,
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    agreement: Option<Agreement>,
    now: Option<(SecretString, Instant)>,
}

impl Access {
    pub fn new(
        place: PlaceName,
        spec: AgreedSpec,
        client_secret: Option<SecretString>,
        keeper: Arc<dyn GrantKeeper>,
    ) -> Self {
        Self { place, spec, client_secret, keeper, state: Mutex::default() }
    }

    /// What opens the place now.
    pub async fn bearer(&self) -> Result<SecretString, PlaceError> {
        // Held while renewing: a lasting token is often good once, so nobody may use it twice.
        let mut state = self.state.lock().await;
        if let Some((access, until)) = &state.now
            && Instant::now() < *until
        {
            return Ok(access.clone());
        }
        let lasting = self.keeper.load().await.map_err(|why| self.error(PlaceErrorKind::Other, why))?;
        let Some(lasting) = lasting else {
            let why = format!("nobody has signed in at {} yet", self.spec.server);
            return Err(self.error(PlaceErrorKind::NotSignedIn, why));
        };
        if state.agreement.is_none() {
            let found = Agreement::find(self.spec.clone(), self.client_secret.clone()).await;
            state.agreement = Some(found.map_err(|e| self.failed(&e))?);
        }
        let agreement = state.agreement.as_ref().expect("found above");
        let (access, good_for, changed) = agreement.renew(&lasting).await.map_err(|e| self.failed(&e))?;
        if let Some(changed) = changed {
            // The old one may be good no more: what is not kept now is lost.
            self.keeper.keep(&changed).await.map_err(|why| self.error(PlaceErrorKind::Other, why))?;
        }
        let good_for = if good_for > EARLY * 2 { good_for - EARLY } else { good_for / 2 };
        state.now = Some((access.clone(), Instant::now() + good_for));
        Ok(access)
    }

    /// The server did not take the access: the next call renews it.
    pub async fn forget(&self) {
        self.state.lock().await.now = None;
    }

    fn error(&self, kind: PlaceErrorKind, detail: String) -> PlaceError {
        PlaceError { kind, place: self.place.clone(), call: "sign in to", path: RelPath::root(), detail, secret: None }
    }

    fn failed(&self, error: &AgreementError) -> PlaceError {
        let kind = match error {
            AgreementError::Unreachable(_) => PlaceErrorKind::Unreachable,
            AgreementError::NotOffered(_) => PlaceErrorKind::Refused,
            AgreementError::Refused(_) | AgreementError::Over(_) => PlaceErrorKind::SignInEnded,
        };
        self.error(kind, error.to_string())
    }
}

/// What a right means, where the word is one that many servers share.
pub fn right_words(right: &str) -> Option<&'static str> {
    Some(match right {
        "offline_access" => "stay signed in while nobody is there",
        "openid" | "profile" => "know who signed in",
        "email" => "know the mail address of who signed in",
        "files.read" => "see and read the files",
        "files.write" | "files.readwrite" => "add, change and delete files",
        _ => return None,
    })
}
