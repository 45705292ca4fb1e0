//! A provider that vouches for people (OpenID Connect Core 1.0, by the authorization code flow with PKCE, RFC 7636).
//!
//! It only says who somebody is. Who may come, and what each may do, is arranged here: whom nobody added does not get in.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use jiff::{SignedDuration, Timestamp};
use openidconnect::{
    AuthorizationCode, ClientId, ClientSecret, CsrfToken, HttpRequest, HttpResponse, IssuerUrl, Nonce,
    PkceCodeChallenge, PkceCodeVerifier, RedirectUrl, TokenResponse,
    core::{CoreAuthenticationFlow, CoreClient, CoreProviderMetadata},
};
use parking_lot::Mutex;
use secrecy::{ExposeSecret, SecretString};
use serde::{Deserialize, Serialize};
use wetbank_journal::Replaced;

use crate::{
    Asking, Opened, People, PeopleError,
    proof::{Secret, Sum, sum},
};

/// Under this name its settings are kept.
const SETTING: &str = "provider";
/// Its secret is sealed under this label.
const LABEL: &str = "provider";
/// Whoever is sent to the provider must come back within this time.
const PATIENCE: SignedDuration = SignedDuration::from_mins(10);
/// So many may be under way; the oldest gives way.
const UNDER_WAY: usize = 2_000;
/// What is known of the provider is asked for anew after this time.
const FRESH: SignedDuration = SignedDuration::from_mins(10);
/// An answer may take so long, and be so large.
const TIME_OUT: Duration = Duration::from_secs(20);
const LARGEST: usize = 1 << 20;

/// A provider, as people see it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Provider {
    /// How people call it.
    pub title: String,
    /// Its address, as it names itself.
    pub issuer: String,
    /// What we are called there.
    pub client: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Kept {
    #[serde(flatten)]
    provider: Provider,
    /// Sealed, in hexadecimal.
    secret: String,
}

/// Why somebody is sent to the provider.
#[derive(Debug, Clone)]
pub enum Purpose {
    /// To sign in.
    SignIn,
    /// A user who is signed in is to be known by it from now on.
    Connect(String),
    /// By a link that opens once: its user is to be known by it, in place of a password.
    Link(String),
}

/// Somebody is sent to the provider.
#[derive(Debug)]
pub struct Sent {
    /// Where to.
    pub address: String,
    /// What the browser keeps: only it can come back.
    pub browser: Secret,
}

/// Somebody came back.
#[derive(Debug)]
pub enum Came {
    /// She is signed in.
    In(Opened),
    /// She is known by the provider from now on.
    Connected(String),
}

struct UnderWay {
    state: String,
    at: Timestamp,
    browser: Sum,
    nonce: Nonce,
    verifier: PkceCodeVerifier,
    back: RedirectUrl,
    purpose: Purpose,
}

/// What is known of the provider, and who is on the way.
#[derive(Default)]
pub(crate) struct Vouching {
    known: Mutex<Option<(Provider, Timestamp, Arc<CoreProviderMetadata>)>>,
    under_way: Mutex<VecDeque<UnderWay>>,
}

impl std::fmt::Debug for Vouching {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Vouching")
    }
}

fn wrong(error: impl std::fmt::Display) -> PeopleError {
    PeopleError::Provider(error.to_string())
}

/// With what lies at the bottom of an error.
fn deep(error: &dyn std::error::Error) -> PeopleError {
    let mut words = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        words = format!("{words}: {error}");
        cause = error.source();
    }
    PeopleError::Provider(words)
}

#[derive(Debug, thiserror::Error)]
enum Unanswered {
    #[error("no answer came")]
    Sending(#[from] reqwest::Error),
    #[error("the answer is none")]
    Answer(#[from] openidconnect::http::Error),
    #[error("the answer is too large")]
    TooLarge,
}

/// One request. Nothing is followed elsewhere: a provider answers itself.
async fn ask(request: HttpRequest) -> Result<HttpResponse, Unanswered> {
    let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).timeout(TIME_OUT).build()?;
    let (head, body) = request.into_parts();
    let asked = client.request(head.method, head.uri.to_string()).headers(head.headers).body(body);
    let mut answer = asked.send().await?;
    let mut built = openidconnect::http::Response::builder().status(answer.status());
    for (name, value) in answer.headers() {
        built = built.header(name, value);
    }
    let mut bytes = Vec::new();
    while let Some(chunk) = answer.chunk().await? {
        if bytes.len() + chunk.len() > LARGEST {
            return Err(Unanswered::TooLarge);
        }
        bytes.extend_from_slice(&chunk);
    }
    Ok(built.body(bytes)?)
}

async fn discover(provider: &Provider) -> Result<CoreProviderMetadata, PeopleError> {
    let issuer = IssuerUrl::new(provider.issuer.clone()).map_err(wrong)?;
    CoreProviderMetadata::discover_async(issuer, &ask).await.map_err(|error| deep(&error))
}

impl People {
    async fn kept_provider(&self) -> Result<Option<Kept>, PeopleError> {
        let Some(text) = self.0.journal.setting(SETTING).await? else { return Ok(None) };
        serde_json::from_str(&text).map(Some).map_err(wrong)
    }

    /// The provider that vouches for people here, if there is one.
    ///
    /// # Errors
    ///
    /// If the journal cannot be read.
    pub async fn provider(&self) -> Result<Option<Provider>, PeopleError> {
        Ok(self.kept_provider().await?.map(|kept| kept.provider))
    }

    /// Names the provider. It is asked at once whether it is there. Without a secret the one before stays.
    ///
    /// # Errors
    ///
    /// If it cannot be asked, or there is no secret.
    pub async fn set_provider(&self, provider: Provider, secret: Option<&SecretString>) -> Result<(), PeopleError> {
        let issuer = IssuerUrl::new(provider.issuer.clone()).ok().map(|issuer| issuer.url().clone());
        if issuer.is_none_or(|issuer| !matches!(issuer.scheme(), "https" | "http") || !issuer.has_host()) {
            let words =
                format!("\"{}\" is no address of a provider; say it as in https://id.merrow.example", provider.issuer);
            return Err(PeopleError::NoSuchProvider(words));
        }
        if secret.is_none() && self.kept_provider().await?.is_none() {
            return Err(PeopleError::NoSuchProvider("the provider's secret is missing".to_owned()));
        }
        let metadata = discover(&provider).await?;
        let _turn = self.0.changing.lock().await;
        let secret = match secret {
            Some(secret) => hex::encode(self.0.vault.seal(LABEL, secret)),
            None => self.kept_provider().await?.ok_or_else(|| wrong("its secret is missing"))?.secret,
        };
        let text = serde_json::to_string(&Kept { provider: provider.clone(), secret }).map_err(wrong)?;
        self.0.journal.set_setting(SETTING, &text).await?;
        *self.0.vouching.known.lock() = Some((provider, Timestamp::now(), Arc::new(metadata)));
        Ok(())
    }

    /// Names no provider any more. Who came by it needs a link, or what else she has.
    ///
    /// # Errors
    ///
    /// If the journal refuses.
    pub async fn remove_provider(&self) -> Result<(), PeopleError> {
        let _turn = self.0.changing.lock().await;
        self.0.vouching.under_way.lock().clear();
        self.0.journal.remove_setting(SETTING).await?;
        *self.0.vouching.known.lock() = None;
        Ok(())
    }

    async fn metadata(
        &self,
        provider: &Provider,
        now: Timestamp,
        anew: bool,
    ) -> Result<Arc<CoreProviderMetadata>, PeopleError> {
        let known = self.0.vouching.known.lock().clone();
        if let Some((of, at, metadata)) = known
            && of == *provider
            && !anew
            && now.duration_since(at) < FRESH
        {
            return Ok(metadata);
        }
        let metadata = Arc::new(discover(provider).await?);
        *self.0.vouching.known.lock() = Some((provider.clone(), now, metadata.clone()));
        Ok(metadata)
    }

    /// Sends somebody to the provider, who comes back at this address.
    ///
    /// # Errors
    ///
    /// If there is none, or it cannot be asked.
    pub async fn send(&self, purpose: Purpose, back: &str, now: Timestamp) -> Result<Sent, PeopleError> {
        let kept = self.kept_provider().await?.ok_or(PeopleError::NoProvider)?;
        if let Purpose::Link(link) = &purpose {
            self.look(link, now).await?.user.ok_or(PeopleError::NoLink)?;
        }
        let metadata = self.metadata(&kept.provider, now, false).await?;
        let back = RedirectUrl::new(back.to_owned()).map_err(wrong)?;
        let client = CoreClient::from_provider_metadata((*metadata).clone(), ClientId::new(kept.provider.client), None)
            .set_redirect_uri(back.clone());
        let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
        let asked =
            client.authorize_url(CoreAuthenticationFlow::AuthorizationCode, CsrfToken::new_random, Nonce::new_random);
        let (address, state, nonce) = asked.set_pkce_challenge(challenge).url();
        let browser = Secret::new();
        let state = state.secret().clone();
        let mut under_way = self.0.vouching.under_way.lock();
        while under_way.len() >= UNDER_WAY || under_way.front().is_some_and(|one| now.duration_since(one.at) > PATIENCE)
        {
            under_way.pop_front();
        }
        under_way.push_back(UnderWay { state, at: now, browser: browser.sum(), nonce, verifier, back, purpose });
        Ok(Sent { address: address.to_string(), browser })
    }

    /// Takes back whom the provider sends: what it says is asked for anew from it, and checked.
    ///
    /// # Errors
    ///
    /// If another browser comes than was sent, the answer does not hold, or it is nobody's here.
    pub async fn come_back(
        &self,
        state: &str,
        code: &str,
        browser: &str,
        asking: &Asking<'_>,
        now: Timestamp,
    ) -> Result<Came, PeopleError> {
        let kept = self.kept_provider().await?.ok_or(PeopleError::NoProvider)?;
        let found = {
            let mut under_way = self.0.vouching.under_way.lock();
            let at = under_way.iter().position(|one| {
                one.state == state && one.browser == sum(browser) && now.duration_since(one.at) <= PATIENCE
            });
            at.and_then(|at| under_way.remove(at))
        };
        let sent = found.ok_or_else(|| wrong("this browser was not sent there, or too long ago; begin again"))?;
        let sealed = hex::decode(&kept.secret).map_err(wrong)?;
        let secret = self.0.vault.open_sealed(LABEL, &sealed).map_err(wrong)?;
        let metadata = self.metadata(&kept.provider, now, false).await?;
        let client = |metadata: &CoreProviderMetadata| {
            let secret = ClientSecret::new(secret.expose_secret().to_owned());
            CoreClient::from_provider_metadata(
                metadata.clone(),
                ClientId::new(kept.provider.client.clone()),
                Some(secret),
            )
            .set_redirect_uri(sent.back.clone())
        };
        let asked = client(&metadata);
        let exchange = asked.exchange_code(AuthorizationCode::new(code.to_owned())).map_err(wrong)?;
        let answer = exchange.set_pkce_verifier(sent.verifier).request_async(&ask).await;
        let answer = answer.map_err(|error| deep(&error))?;
        let token = answer.id_token().ok_or_else(|| wrong("it does not say who it is"))?;
        let checked = match token.claims(&asked.id_token_verifier(), &sent.nonce) {
            Ok(claims) => claims.subject().to_string(),
            // It may sign with other keys than before.
            Err(openidconnect::ClaimsVerificationError::SignatureVerification(_)) => {
                let metadata = self.metadata(&kept.provider, now, true).await?;
                let asked = client(&metadata);
                let claims = token.claims(&asked.id_token_verifier(), &sent.nonce);
                claims.map_err(|error| deep(&error))?.subject().to_string()
            }
            Err(error) => return Err(deep(&error)),
        };
        self.vouched(sent.purpose, format!("{} {checked}", kept.provider.issuer), asking, now).await
    }

    async fn vouched(
        &self,
        purpose: Purpose,
        identity: String,
        asking: &Asking<'_>,
        now: Timestamp,
    ) -> Result<Came, PeopleError> {
        let _turn = self.0.changing.lock().await;
        let whose = {
            let standing = self.0.standing.read();
            let known = standing.users.values().find(|user| user.identity.as_deref() == Some(&identity));
            known.map(|user| user.name.clone())
        };
        let others = |user: &str| whose.as_deref().is_some_and(|whose| whose != user);
        match purpose {
            Purpose::SignIn => {
                let user = whose.ok_or(PeopleError::Nobody)?;
                let opened = self.begin(Some(&user), "provider", asking, Replaced::default(), now).await?;
                opened.map(Came::In).ok_or(PeopleError::Nobody)
            }
            Purpose::Connect(user) if others(&user) => Err(PeopleError::Others),
            Purpose::Connect(user) => {
                self.user(&user)?;
                self.0.journal.set_identity(&user, Some(identity.clone())).await?;
                if let Some(record) = self.0.standing.write().users.get_mut(&user) {
                    record.identity = Some(identity);
                }
                Ok(Came::Connected(user))
            }
            Purpose::Link(link) => {
                let user = self.look(&link, now).await?.user.ok_or(PeopleError::NoLink)?.name;
                if others(&user) {
                    return Err(PeopleError::Others);
                }
                let sessions = self.0.standing.read().sessions_of(&user);
                let replaced = Replaced {
                    link: Some(sum(&link).to_vec()),
                    identity: Some(identity),
                    sessions,
                    ..Replaced::default()
                };
                let opened = self.begin(Some(&user), "link and provider", asking, replaced, now).await?;
                opened.map(Came::In).ok_or(PeopleError::NoLink)
            }
        }
    }

    /// The provider vouches for a user no more.
    ///
    /// # Errors
    ///
    /// If she could not come in any more, or the journal refuses.
    pub async fn disconnect(&self, name: &str) -> Result<(), PeopleError> {
        let _turn = self.0.changing.lock().await;
        let user = self.user(name)?;
        if !user.has_password && user.passkeys == 0 {
            return Err(PeopleError::Weak("is what you would come in with; choose one by a link first"));
        }
        self.0.journal.set_identity(name, None).await?;
        if let Some(record) = self.0.standing.write().users.get_mut(name) {
            record.identity = None;
        }
        Ok(())
    }
}
