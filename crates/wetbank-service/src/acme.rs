//! A certificate that an authority gives to whoever proves that a name is theirs (ACME, RFC 8555), asked for and renewed
//! by ourselves. The proof is a file at the name, asked for over http (section 8.3).

use std::{
    collections::HashMap,
    path::{Path, PathBuf},
    pin::Pin,
    sync::Arc,
    time::Duration,
};

use axum::{
    body::{Body, Bytes, to_bytes},
    http::{Request, Response},
};
use instant_acme::{
    Account, AccountCredentials, AuthorizationStatus, BodyWrapper, BytesResponse, ChallengeType, Error, HttpClient,
    Identifier, NewAccount, NewOrder, OrderStatus, RetryPolicy,
};
use parking_lot::RwLock;

use crate::certificate::{CertificateError, keep};

/// One answer of it may take so long.
const ANSWER: Duration = Duration::from_secs(60);
/// And be so large.
const LARGEST: usize = 1 << 20;
/// The authority has so long to look at the proof, and to sign.
const PATIENCE: Duration = Duration::from_secs(120);

/// An authority, and who asks it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Authority {
    /// The address of its directory (section 7.1.1).
    pub directory: String,
    /// Where it writes to, such as `mailto:office@merrow.example`.
    pub contact: Option<String>,
    /// Who vouches for the authority's own server, if this machine trusts nobody who does; PEM.
    pub root: Option<PathBuf>,
}

/// What is shown at our names as proof, by the name of the file.
#[derive(Debug, Clone, Default)]
pub(crate) struct Proofs(Arc<RwLock<HashMap<String, String>>>);

impl Proofs {
    pub fn of(&self, token: &str) -> Option<String> {
        self.0.read().get(token).cloned()
    }
}

/// Why the authority gave none.
#[derive(Debug, thiserror::Error)]
pub(crate) enum AcmeError {
    #[error(transparent)]
    Asked(#[from] Error),
    #[error("who vouches for the authority cannot be read from {0}")]
    Root(PathBuf, #[source] std::io::Error),
    #[error("it does not see the proof that the names are ours")]
    Unproven(#[source] Error),
    #[error("it takes no proof over http for {0}")]
    OtherProof(String),
    #[error("the order ended as {0:?}")]
    Ended(OrderStatus),
    #[error(transparent)]
    Kept(#[from] CertificateError),
}

/// The authority is asked as all other servers are.
struct Asked(reqwest::Client);

type Answered = Pin<Box<dyn Future<Output = Result<BytesResponse, Error>> + Send>>;

impl HttpClient for Asked {
    fn request(&self, request: Request<BodyWrapper<Bytes>>) -> Answered {
        let client = self.0.clone();
        Box::pin(async move {
            let failed = |error: axum::BoxError| Error::Other(error);
            let (head, body) = request.into_parts();
            let body = to_bytes(Body::new(body), LARGEST).await.map_err(|error| failed(error.into()))?;
            let asked = client.request(head.method, head.uri.to_string()).headers(head.headers).body(body);
            let answer = asked.send().await.map_err(|error| failed(error.into()))?;
            let (head, body) = Response::<reqwest::Body>::from(answer).into_parts();
            let body = to_bytes(Body::new(body), LARGEST).await.map_err(|error| failed(error.into()))?;
            Ok(Response::from_parts(head, Body::from(body)).into())
        })
    }
}

/// The account with the authority; one that is made is kept beside the certificate.
async fn account(authority: &Authority, kept: PathBuf) -> Result<Account, AcmeError> {
    let mut client = reqwest::Client::builder().timeout(ANSWER);
    if let Some(root) = &authority.root {
        let failed = |error| AcmeError::Root(root.clone(), error);
        let text = std::fs::read(root).map_err(failed)?;
        let roots = reqwest::Certificate::from_pem_bundle(&text).map_err(|e| failed(std::io::Error::other(e)))?;
        client = client.tls_certs_only(roots);
    }
    let client = client.build().map_err(|error| Error::Other(Box::new(error)))?;
    let builder = Account::builder_with_http(Box::new(Asked(client)));
    let known =
        std::fs::read(&kept).ok().and_then(|text| serde_json::from_slice::<(String, AccountCredentials)>(&text).ok());
    if let Some((_, credentials)) = known.filter(|(directory, _)| *directory == authority.directory) {
        return Ok(builder.from_credentials(credentials).await?);
    }
    let contact: Vec<&str> = authority.contact.as_deref().into_iter().collect();
    let new = NewAccount { contact: &contact, terms_of_service_agreed: true, only_return_existing: false };
    let (account, credentials) = builder.create(&new, authority.directory.clone(), None).await?;
    let text = serde_json::to_string(&(&authority.directory, &credentials)).map_err(Error::Json)?;
    keep(&kept, &text)?;
    Ok(account)
}

/// Asks for a certificate for these names. Answers it with those above it and its key, as PEM.
pub(crate) async fn order(
    authority: &Authority,
    names: &[String],
    folder: &Path,
    proofs: &Proofs,
) -> Result<String, AcmeError> {
    let account = account(authority, folder.join("acme-account.json")).await?;
    let identifiers: Vec<Identifier> = names.iter().cloned().map(Identifier::Dns).collect();
    let mut order = account.new_order(&NewOrder::new(&identifiers)).await?;
    let outcome = prove(&mut order, proofs).await;
    // What was shown for this order is of no use to another one.
    proofs.0.write().clear();
    outcome?;
    let key = order.finalize().await?;
    let chain = order.poll_certificate(&RetryPolicy::default().timeout(PATIENCE)).await?;
    Ok(format!("{chain}{key}"))
}

async fn prove(order: &mut instant_acme::Order, proofs: &Proofs) -> Result<(), AcmeError> {
    let mut authorizations = order.authorizations();
    while let Some(authorization) = authorizations.next().await {
        let mut authorization = authorization?;
        let name = authorization.identifier().to_string();
        if authorization.status == AuthorizationStatus::Valid {
            continue;
        }
        let challenge = authorization.challenge(ChallengeType::Http01);
        let mut challenge = challenge.ok_or_else(|| AcmeError::OtherProof(name.clone()))?;
        proofs.0.write().insert(challenge.token.clone(), challenge.key_authorization().as_str().to_owned());
        challenge.set_ready().await?;
    }
    let proven = order.poll_ready(&RetryPolicy::default().timeout(PATIENCE)).await;
    match proven.map_err(AcmeError::Unproven)? {
        OrderStatus::Ready | OrderStatus::Valid => Ok(()),
        status => Err(AcmeError::Ended(status)),
    }
}

/// An error with all that caused it, each once.
pub(crate) fn told(error: &dyn std::error::Error) -> String {
    let causes = std::iter::successors(Some(error), |error| error.source());
    let mut told: Vec<String> = Vec::new();
    for cause in causes.map(ToString::to_string) {
        if told.last().is_none_or(|last| !last.ends_with(&cause)) {
            told.push(cause);
        }
    }
    told.join(": ")
}
