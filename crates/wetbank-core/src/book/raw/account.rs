//! An account of our own inbound server, and what of it starts a rule.

use schemars::JsonSchema;
use serde::Deserialize;

use crate::{
    AccountEvent, May,
    shape::{Case, Text, holds},
};

/// A partner's access to our own server.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Account")]
pub(crate) struct Account {
    /// Its title for people; its name unless it is said.
    #[schemars(title = "Title")]
    pub title: Option<String>,
    /// What colleagues should know.
    #[serde(default)]
    #[schemars(title = "Note", extend("holds" = "lines"))]
    pub note: String,
    /// To whom it belongs.
    #[schemars(title = "Partner")]
    pub partner: Text<holds::PartnerName>,
    /// Where its files lie: a folder of this machine, a server, a share or a bucket.
    #[schemars(title = "Place")]
    pub place: Text<holds::PlaceName>,
    /// The folder there that is its root, above which it sees nothing; the root of the place if it is left out.
    #[schemars(title = "Folder")]
    pub folder: Option<Text<holds::Folder>>,
    /// What it may do in the root and below, where `folders` says nothing else. Without it it sees only those folders.
    #[schemars(title = "It may")]
    pub may: Option<May>,
    /// It may remove files and empty folders, where `folders` says nothing else.
    #[serde(default)]
    #[schemars(title = "And remove")]
    pub delete: bool,
    /// What it may do in single folders and below them.
    #[serde(default)]
    #[schemars(title = "In folders")]
    pub folders: Vec<AccountFolder>,
    /// Public keys that it signs in with, each a line of a `.pub` file.
    #[serde(default)]
    #[schemars(title = "Public keys")]
    pub keys: Vec<Text<holds::PublicKey>>,
    /// It may sign in with a password. The password does not stand in the book: `wetbank account password NAME` sets it.
    #[serde(default)]
    #[schemars(title = "With a password")]
    pub password: bool,
    /// The last day on which it is good.
    #[schemars(title = "Until")]
    pub until: Option<Text<holds::Day>>,
    /// Whose clock counts for its last day.
    #[schemars(title = "Time zone", extend("seldom" = true, "default" = "UTC"))]
    pub zone: Option<Text<holds::Zone>>,
    /// Addresses and networks that it may come from, as in `203.0.113.0/24`; from anywhere if it is left out.
    #[serde(default)]
    #[schemars(title = "Only from")]
    pub from: Vec<Text<holds::Network>>,
    /// What may lie below its root, as in `10 GB`.
    #[schemars(title = "Room")]
    pub quota: Option<Text<holds::Size>>,
    /// What one file may have, as in `2 GB`.
    #[schemars(title = "A file at most", extend("seldom" = true))]
    pub largest: Option<Text<holds::Size>>,
}

/// A folder that an account sees.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct AccountFolder {
    /// Below its root.
    #[schemars(title = "Folder")]
    pub folder: Text<holds::Folder>,
    /// What it may do there.
    #[schemars(title = "It may")]
    pub may: May,
    /// It may remove files and empty folders.
    #[serde(default)]
    #[schemars(title = "And remove")]
    pub delete: bool,
}

/// An account of our own server did something. A file that was handed in is taken in before the partner is told that it
/// arrived.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct OfAccount {
    /// What it did: `handed-in` and `collected` are about a file, `signed-in`, `refused` and `locked` about none.
    #[schemars(title = "When it", extend("default" = ["handed-in"]))]
    pub on: Option<Vec<AccountEvent>>,
    /// Only these accounts.
    #[serde(default)]
    #[schemars(title = "Accounts")]
    pub accounts: Vec<Text<holds::AccountName>>,
    /// Only accounts of these partners.
    #[serde(default)]
    #[schemars(title = "Of partners")]
    pub partners: Vec<Text<holds::PartnerName>>,
    /// Only in this folder and below it, as the account sees it.
    #[schemars(title = "In the folder")]
    pub folder: Option<Text<holds::Folder>>,
    /// Patterns such as `*.csv`; every name if it is left out.
    #[serde(default)]
    #[schemars(title = "Named")]
    pub names: Vec<Text<holds::Pattern>>,
    /// Patterns of those that are left alone.
    #[serde(default)]
    #[schemars(title = "But not")]
    pub except: Vec<Text<holds::Pattern>>,
    /// Only from these addresses and networks.
    #[serde(default)]
    #[schemars(title = "From", extend("seldom" = true))]
    pub from: Vec<Text<holds::Network>>,
    /// All files of a visit are one run: once it has ended, or once nothing more came for this time, 5 s or more.
    #[schemars(title = "Together, once quiet for", extend("seldom" = true))]
    pub together: Option<Text<holds::Duration>>,
    /// Whether capitals count when names are compared.
    #[serde(default)]
    #[schemars(title = "Capitals", extend("seldom" = true))]
    pub case: Case,
}
