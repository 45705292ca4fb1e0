//! What is told of places.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{EntryKind, IfExists, PlaceState, SignInState};

/// How a place did in the last day.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PlaceDay {
    /// A day before `to`.
    pub from: String,
    /// Now.
    pub to: String,
    /// One after the other, without gaps, from `from` to `to`.
    pub spans: Vec<PlaceSpan>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PlaceSpan {
    pub from: String,
    pub to: String,
    pub state: PlaceState,
    /// Why it was away.
    pub why: Option<String>,
}

/// A folder that is to be there.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewFolder {
    /// From the place's root, as in `assays/out`.
    pub folder: String,
}

/// Files, and folders with all that is in them, to copy or move by hand.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ByHand {
    /// The folder that was looked at, `PLACE:/FOLDER`; folders below it are made anew at the target.
    pub from: String,
    /// Names in that folder, or paths below it.
    pub names: Vec<String>,
    /// `PLACE:/FOLDER`
    pub to: String,
    /// Remove them where they are, once they arrived.
    #[serde(default)]
    pub r#move: bool,
    /// What to do when a name is taken; the file is held unless this says otherwise.
    pub exists: Option<IfExists>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Begun {
    /// Files; each is a run of its own.
    pub files: usize,
    /// The first run.
    pub first: Option<i64>,
    /// There are more files than one request takes.
    pub more: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Place {
    pub name: String,
    pub kind: String,
    pub address: String,
    pub text: String,
    pub state: PlaceState,
    pub error: Option<String>,
    pub remedy: Option<String>,
    /// The last contact.
    pub at: Option<String>,
    /// Since when it fails.
    pub since: Option<String>,
    /// When it is tried again.
    pub again: Option<String>,
    pub rules: Vec<String>,
    pub twins: Vec<String>,
    /// A person signs in to it by agreeing (OAuth 2.0).
    pub agreed: bool,
}

/// What a person is asked to agree to before a place can be used.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInOffer {
    /// The server that is asked.
    pub server: String,
    /// The name under which Wetbank is registered there.
    pub client: String,
    /// What Wetbank will be allowed to do.
    pub rights: Vec<Right>,
    pub state: SignInState,
    /// Why it failed.
    pub why: Option<String>,
    /// What the server says was allowed, if it was since the service started.
    pub granted: Option<Vec<String>>,
}

/// Something that a connection allows.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Right {
    /// In the server's words.
    pub right: String,
    /// What it means, where the word is a common one.
    pub meaning: Option<String>,
}

/// How to ask.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct BeginSignIn {
    /// With a code to type, instead of coming back to the console.
    #[serde(default)]
    pub by_code: bool,
}

/// Where a person goes to agree.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInBegun {
    /// The page to open.
    pub page: String,
    /// What to type there, when asked by code.
    pub code: Option<String>,
    /// Seconds for which the code is good.
    pub seconds: Option<u64>,
}

/// A place to be added to the book. Which of these a kind needs, the book reference tells; what
/// is not given gets the kind's usual value.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct NewPlace {
    pub name: String,
    /// A kind of place of the book (`/book/schema`), as in `sftp`.
    pub kind: String,
    /// The keys that the book has for this kind, with their values.
    #[serde(default)]
    pub keys: BTreeMap<String, KeyValue>,
    /// Those whose value is a secret, with the secret itself, as in `password`. Each is kept in the vault as NAME-KEY.
    #[serde(default)]
    pub secrets: BTreeMap<String, String>,
    /// What somebody is to agree to in place of a password, where the kind has `agreement`.
    #[serde(default)]
    pub agreement: Option<NewAgreement>,
}

/// A place to be tested before it is added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TryPlace {
    /// What was typed so far; its name does not matter.
    pub place: NewPlace,
    /// Sign in and list, too; else only whether its server is reached and secured.
    #[serde(default)]
    pub sign_in: bool,
}

/// What came of it. Nothing was added or changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TriedPlace {
    /// The address as it was understood.
    pub address: String,
    pub fine: bool,
    pub steps: Vec<TestStep>,
    /// What the server shows of itself, if that is not confirmed yet.
    pub identity: Option<Identity>,
}

/// What somebody is to agree to (OAuth 2.0).
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewAgreement {
    /// The authorization server, as in `https://drive.merrow.example`.
    pub server: String,
    /// The name under which Wetbank is registered there.
    pub client: String,
    /// What it is to be allowed to do, in the server's words.
    #[serde(default)]
    pub rights: Vec<String>,
}

/// The value of a key.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum KeyValue {
    Flag(bool),
    Number(i64),
    Text(String),
    List(Vec<String>),
}

impl std::fmt::Debug for NewPlace {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("NewPlace").field("name", &self.name).finish_non_exhaustive()
    }
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct TestPlace {
    /// Write, rename, read back and delete a probe file.
    #[serde(default)]
    pub write: bool,
    /// Confirm this first: the fingerprint of the host key or certificate that the server shows,
    /// as the partner told it.
    #[serde(default)]
    pub confirm: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TestedPlace {
    pub fine: bool,
    pub steps: Vec<TestStep>,
    /// What the server shows, where that has to be confirmed.
    pub identity: Option<Identity>,
}

/// A place of a proposed book, tested.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TestedSection {
    pub place: String,
    pub fine: bool,
    pub steps: Vec<TestStep>,
}

/// What a server proves itself with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Identity {
    /// `host key` or `certificate`.
    pub what: String,
    /// `SHA256:…`
    pub fingerprint: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TestStep {
    pub what: String,
    pub fine: bool,
    pub took_ms: f64,
    pub said: String,
    pub remedy: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Listing {
    pub folder: String,
    pub entries: Vec<Entry>,
    /// With what the next page is asked for; nothing on the last one.
    pub next: Option<u64>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Entry {
    pub name: String,
    /// `PLACE:/PATH`.
    pub path: String,
    pub kind: EntryKind,
    pub size: u64,
    /// Nothing where the place does not tell it.
    pub modified: Option<String>,
    /// Who owns or added it; nothing where the place does not tell it.
    pub who: Option<String>,
}
