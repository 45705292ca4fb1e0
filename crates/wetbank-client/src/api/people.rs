//! People: who may come, who is here, and what was done.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What somebody may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Looks.
    Viewer,
    /// Also releases, retries, runs, settles.
    Operator,
    /// Also arranges.
    Manager,
    /// Also people and settings.
    Owner,
}

/// Signing in: with name and password, and a code if there is a second factor; or with the token of the data folder.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// A link that opens once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Link {
    /// What stands behind `#` in it.
    pub link: String,
}

/// Signing in by a link that opens once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OpenLink {
    /// What stands behind `#` in it.
    pub link: String,
    /// The password that the user chooses, if it is for one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// The code of her second factor, if she has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// What a link opens.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShownLink {
    /// For whom it is; nothing if it lets in whoever may read the data folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// How she is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Whether the code of her second factor is asked for, too.
    pub code: bool,
    pub until: String,
}

/// A link that was made. It is told this once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NewLink {
    pub address: String,
    pub until: String,
}

/// Who one is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// Who is told in every record.
    pub who: String,
    /// The user's name; nothing for whoever may read the data folder, and for programs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// How one is called.
    pub title: String,
    /// What one may do everywhere.
    pub role: Role,
    /// What one may do besides within groups.
    pub groups: BTreeMap<String, Role>,
    /// The number of this session.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<i64>,
    /// Whether one has a password and a second factor.
    pub password: bool,
    pub code: bool,
    /// Whether the provider vouches for one.
    pub vouched: bool,
    /// Nobody has a name here yet: only whoever may read the data folder can come.
    pub alone: bool,
}

/// Another password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangePassword {
    pub old: String,
    pub new: String,
}

/// A new seed of a second factor. It counts once a code of it is shown.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NewCodes {
    /// As base32, to be typed.
    pub seed: String,
    /// As an address that apps read from a picture (`otpauth://…`).
    pub address: String,
}

/// From now on a code of this seed is asked for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConfirmCodes {
    pub seed: String,
    pub code: String,
}

/// The second factor is given up.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RemoveCodes {
    pub password: String,
}

/// What a browser is asked to do with a passkey, and the number under which its answer is awaited.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PasskeyAsked {
    pub id: String,
    /// What `navigator.credentials` is given, as JSON.
    #[schema(value_type = Object)]
    pub options: serde_json::Value,
}

/// What a browser answered, to sign in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OpenPasskey {
    pub id: String,
    #[schema(value_type = Object)]
    pub credential: serde_json::Value,
}

/// What a browser made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KeepPasskey {
    pub id: String,
    /// What its user calls it.
    #[serde(default)]
    pub title: String,
    #[schema(value_type = Object)]
    pub credential: serde_json::Value,
}

/// A key that a device of one's own holds.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Passkey {
    pub id: String,
    pub title: String,
    pub made: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub used: Option<String>,
}

/// A provider that vouches for people (OpenID Connect).
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Provider {
    /// How people call it.
    pub title: String,
    /// Its address, as it names itself.
    pub issuer: String,
    /// What this service is called there.
    pub client: String,
}

/// The provider, with what this service proves itself with there.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PutProvider {
    pub title: String,
    pub issuer: String,
    pub client: String,
    /// The secret; that which is kept if it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
}

/// How one may sign in besides name and password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInWays {
    /// How the provider is called, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub provider: Option<String>,
}

/// Why one goes to the provider: to sign in, unless something else is said.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct AskProvider {
    /// By a link that opens once, in place of a password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
    /// To be known by it from now on.
    #[serde(default)]
    pub connect: bool,
}

/// Where the browser is to go.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProviderAsked {
    pub address: String,
}

/// Somebody who may sign in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct User {
    pub name: String,
    /// How she is called.
    pub title: String,
    /// What she may do everywhere.
    pub role: Role,
    /// What she may do besides within groups.
    pub groups: BTreeMap<String, Role>,
    /// Without one only a link lets her in.
    pub password: bool,
    /// Whether she has a second factor.
    pub code: bool,
    /// How many passkeys she has.
    pub passkeys: usize,
    /// Whether the provider vouches for her.
    pub vouched: bool,
    pub made: String,
    /// When she signed in last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
    /// Browsers that she is signed in with.
    pub sessions: usize,
}

/// A new user, or how one is called and what she may do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PutUser {
    #[serde(default)]
    pub title: String,
    /// What she may do everywhere.
    pub role: Role,
    /// What she may do besides within groups.
    #[serde(default)]
    pub groups: BTreeMap<String, Role>,
}

/// A browser that is signed in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Session {
    pub id: i64,
    /// Who.
    pub who: String,
    /// How it began.
    pub how: String,
    pub address: String,
    /// What the browser says that it is.
    pub agent: String,
    pub began: String,
    pub seen: String,
    /// When it ends at the latest.
    pub ends: String,
    /// It is the one that asks.
    pub own: bool,
}

/// What a program signs in with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ApiToken {
    pub name: String,
    /// The user whose it is; it may never do more than she. Nothing for one of a program.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    pub role: Role,
    /// Who made it.
    pub maker: String,
    pub made: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub used: Option<String>,
}

/// A token to be made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MakeToken {
    pub name: String,
    /// What it may do at most.
    pub role: Role,
    /// It counts so many days; for ever if it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u16>,
    /// One of a program, which is nobody's; only owners make such.
    #[serde(default)]
    pub program: bool,
}

/// A token that was made. What it is is told this once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    pub token: String,
}

/// Something that somebody asked for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    pub id: i64,
    pub at: String,
    pub who: String,
    /// From where.
    pub address: String,
    /// The call, as `POST /holds/{item}/release`.
    pub call: String,
    /// What the call does.
    pub what: String,
    /// The path of what it is about.
    pub about: String,
    /// The status of the answer; nothing if it was cut short, or is going on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outcome: Option<u16>,
    /// What of the change is worth telling besides.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// A page of what was asked for, newest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuditPage {
    pub entries: Vec<AuditEntry>,
    /// Where the next page begins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<i64>,
}
