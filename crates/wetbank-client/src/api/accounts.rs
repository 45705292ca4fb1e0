//! Accounts of our own server: who may come, who is here, what was exchanged.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A partner's access to our own server.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Account {
    pub name: String,
    pub title: String,
    pub note: String,
    pub partner: String,
    /// The folder that is its root, as `place:folder`.
    pub root: String,
    pub folders: Vec<AccountFolder>,
    pub keys: Vec<AccountKey>,
    /// Whether it may sign in with a password at all.
    pub password: bool,
    /// What is known of its password, once it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub has: Option<AccountPassword>,
    /// The last day on which it is good.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Networks that it may come from; any if there is none.
    pub from: Vec<String>,
    /// Bytes that may lie below its root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u64>,
    /// Bytes that one file may have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub largest: Option<u64>,
    /// Visits that go on.
    pub here: usize,
    /// Its last visit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
}

/// A folder that an account sees.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccountFolder {
    /// Below its root; empty for the root itself.
    pub folder: String,
    /// `hand in only`, `collect only` or `hand in and collect`.
    pub may: String,
    pub removes: bool,
}

/// A public key of an account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccountKey {
    pub kind: String,
    pub fingerprint: String,
    pub comment: String,
}

/// What is known of an account's password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccountPassword {
    /// It counts once: its owner is asked for another one.
    pub once: bool,
    pub made: String,
    /// None counts until then, after many wrong ones.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locked: Option<String>,
}

/// Giving an account a password.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SetAccountPassword {
    /// The password; one that counts once is made if there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
}

/// A password that counts once, told this once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OncePassword {
    /// Nothing if a password was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
}

/// Somebody who came with an account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Visit {
    pub id: i64,
    pub account: String,
    pub partner: String,
    /// `sftp` or `https`.
    pub way: String,
    /// A key's fingerprint, or `password`.
    pub how: String,
    pub address: String,
    pub began: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
}

/// Something that was exchanged.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Exchange {
    pub id: i64,
    pub visit: i64,
    pub account: String,
    pub partner: String,
    /// `handed-in`, `collected` or `removed`.
    pub what: String,
    /// As the account sees it.
    pub seen: String,
    /// Where it lies, as `place:path`.
    pub file: String,
    pub size: u64,
    /// BLAKE3 of the content in hexadecimal, as it passed; nothing where it did not pass from its beginning to its end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blake3: Option<String>,
    pub address: String,
    pub at: String,
    /// The items that it began.
    pub items: Vec<i64>,
}

/// How our own server is reached.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Reception {
    /// Where it listens for SFTP; nothing if it does not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sftp: Option<String>,
    pub host_keys: Vec<HostKey>,
    /// What everybody is told before signing in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub banner: Option<String>,
}

/// What our server proves itself with over SSH.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HostKey {
    pub kind: String,
    pub fingerprint: String,
    /// The key as a file of known hosts has it, without the host.
    pub line: String,
    /// It is not shown yet: partners are told before it is.
    pub next: bool,
}
