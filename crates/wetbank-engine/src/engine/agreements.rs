//! Signing in to places that a person agrees to.

use std::{
    collections::HashMap,
    time::{Duration, Instant},
};

use parking_lot::Mutex;
use secrecy::SecretString;
use wetbank_core::{AgreedSpec, Name};
use wetbank_places::{Agreement, AgreementError, AskedOnPage, Granted};

use super::Engine;
use crate::{Declined, EngineError};

/// Whoever is asked on a page may take so long.
const ASKED: Duration = Duration::from_secs(15 * 60);
/// Asked at once at most; the oldest is forgotten first.
const PENDING: usize = 50;

/// How a sign-in is doing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignInState {
    /// Nobody signed in yet.
    Never,
    /// Somebody is asked now.
    Waiting,
    /// Somebody agreed, to these rights if it was since the service started.
    Agreed(Option<Vec<String>>),
    /// It came to nothing, for this reason.
    Failed(String),
}

/// What a person is asked to agree to.
#[derive(Debug, Clone)]
pub struct SignInOffer {
    /// The authorization server.
    pub server: String,
    /// The name under which Wetbank is registered there.
    pub client: String,
    /// What it will be allowed to do, in the server's words.
    pub rights: Vec<String>,
    /// How it is doing.
    pub state: SignInState,
}

/// A code for people to type.
#[derive(Debug, Clone)]
pub struct CodeToType {
    /// The code.
    pub code: String,
    /// The page on which it is typed.
    pub page: String,
    /// The page with the code typed already, if there is one.
    pub direct: Option<String>,
    /// How long it is good.
    pub good_for: Duration,
}

/// Who is asked now, and what came of it.
#[derive(Debug, Default)]
pub(crate) struct SignIns {
    pages: Mutex<HashMap<String, Pending>>,
    states: Mutex<HashMap<Name, SignInState>>,
}

#[derive(Debug)]
struct Pending {
    place: Name,
    agreement: Agreement,
    asked: AskedOnPage,
    since: Instant,
}

impl SignIns {
    fn set(&self, place: &Name, state: SignInState) {
        self.states.lock().insert(place.clone(), state);
    }

    fn of(&self, place: &Name) -> Option<SignInState> {
        self.states.lock().get(place).cloned()
    }

    fn remember(&self, state: String, pending: Pending) {
        let mut pages = self.pages.lock();
        pages.retain(|_, pending| pending.since.elapsed() < ASKED);
        while pages.len() >= PENDING {
            let oldest = pages.iter().min_by_key(|(_, pending)| pending.since).map(|(state, _)| state.clone());
            oldest.map(|state| pages.remove(&state));
        }
        pages.insert(state, pending);
    }

    fn take(&self, state: &str) -> Option<Pending> {
        let mut pages = self.pages.lock();
        pages.remove(state).filter(|pending| pending.since.elapsed() < ASKED)
    }
}

impl Engine {
    pub(super) async fn client_secret(&self, agreed: &AgreedSpec) -> Result<Option<SecretString>, EngineError> {
        match &agreed.client_secret {
            Some(name) => Ok(Some(self.core.keys.secret(name.as_str()).await?)),
            None => Ok(None),
        }
    }

    fn agreed_spec(&self, place: &str) -> Result<(Name, AgreedSpec), EngineError> {
        let name = Name::new(place).map_err(|_| EngineError::unknown("place", place))?;
        let arrangement = self.core.arranged.now();
        let spec = arrangement.specs.get(&name).ok_or_else(|| EngineError::unknown("place", place))?;
        let agreed = spec.agreed().cloned().ok_or_else(|| Declined::NoAgreement(place.to_owned()))?;
        Ok((name, agreed))
    }

    /// What a person is asked to agree to, and whether somebody did.
    pub async fn sign_in_offer(&self, place: &str) -> Result<SignInOffer, EngineError> {
        let (name, agreed) = self.agreed_spec(place)?;
        let state = match self.core.sign_ins.of(&name) {
            Some(state) => state,
            None if self.core.keys.secret_if_set(agreed.grant.as_str()).await?.is_some() => SignInState::Agreed(None),
            None => SignInState::Never,
        };
        Ok(SignInOffer { server: agreed.server, client: agreed.client, rights: agreed.rights, state })
    }

    async fn find_agreement(&self, agreed: &AgreedSpec) -> Result<Agreement, EngineError> {
        let secret = self.client_secret(agreed).await?;
        Agreement::find(agreed.clone(), secret).await.map_err(EngineError::from)
    }

    /// Begins to ask on a page of the server, from which people come back to `redirect`; answers
    /// the page.
    pub async fn ask_on_page(&self, place: &str, redirect: &str) -> Result<String, EngineError> {
        let (name, agreed) = self.agreed_spec(place)?;
        let agreement = self.find_agreement(&agreed).await?;
        let asked = agreement.ask_on_page(redirect)?;
        let (page, state) = (asked.page.clone(), asked.state.clone());
        self.core.sign_ins.remember(state, Pending { place: name.clone(), agreement, asked, since: Instant::now() });
        self.core.sign_ins.set(&name, SignInState::Waiting);
        Ok(page)
    }

    /// People came back with an answer: the code, or why there is none. Answers the place, and
    /// whether it can be used now; an error when the answer belongs to nothing that was asked.
    pub async fn answered_on_page(
        &self,
        state: &str,
        answer: Result<String, String>,
    ) -> Result<(Name, Result<(), EngineError>), EngineError> {
        let Some(pending) = self.core.sign_ins.take(state) else {
            return Err(Declined::NobodyAsked.into());
        };
        let Pending { place, agreement, asked, .. } = pending;
        let granted = match answer {
            Ok(code) => agreement.agreed_on_page(asked, code).await,
            Err(why) => Err(AgreementError::Refused(match why.as_str() {
                "access_denied" => "it was refused on the server's page".to_owned(),
                other => format!("the server answered {other}"),
            })),
        };
        let kept = self.take_grant(&place, granted).await;
        Ok((place, kept))
    }

    /// Begins to ask by a code that people type, and waits for the answer in the background.
    pub async fn ask_by_code(&self, place: &str) -> Result<CodeToType, EngineError> {
        let (name, agreed) = self.agreed_spec(place)?;
        let agreement = self.find_agreement(&agreed).await?;
        let asked = agreement.ask_by_code().await?;
        let to_type = CodeToType {
            code: asked.code.clone(),
            page: asked.page.clone(),
            direct: asked.direct.clone(),
            good_for: asked.good_for,
        };
        self.core.sign_ins.set(&name, SignInState::Waiting);
        let engine = self.clone();
        self.core.tracker.spawn(async move {
            tokio::select! {
                granted = agreement.agreed_by_code(asked) => {
                    if let Err(error) = engine.take_grant(&name, granted).await {
                        tracing::warn!(place = %name, %error, "nobody signed in");
                    }
                }
                () = engine.core.cancel.cancelled() => {}
            }
        });
        Ok(to_type)
    }

    /// Keeps what was agreed to: the place is used with it from now on.
    async fn take_grant(&self, place: &Name, granted: Result<Granted, AgreementError>) -> Result<(), EngineError> {
        let kept = async {
            let granted = granted?;
            let (_, agreed) = self.agreed_spec(place.as_str())?;
            self.set_secret(agreed.grant.as_str(), &granted.lasting).await?;
            Ok(granted.rights)
        };
        match kept.await {
            Ok(rights) => {
                self.core.sign_ins.set(place, SignInState::Agreed(Some(rights)));
                Ok(())
            }
            Err(error) => {
                let error: EngineError = error;
                self.core.sign_ins.set(place, SignInState::Failed(error.to_string()));
                Err(error)
            }
        }
    }
}
