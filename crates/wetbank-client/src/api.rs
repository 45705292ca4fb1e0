//! Requests and answers of `/api/v1`.

#![allow(missing_docs, reason = "field names say it; what needs more words has them")]

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A problem, as RFC 9457 has it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A short name of the kind of problem.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong, and what to do.
    pub detail: String,
    /// A stable word for programs.
    pub code: String,
    /// The mistakes of a book.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mistakes: Vec<Mistake>,
}

/// A mistake in a book.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Mistake {
    pub file: String,
    /// Counted from 1.
    pub line: usize,
    /// The section or key.
    pub key: String,
    pub message: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    pub token: String,
}

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
    /// `well`, `away` or `unknown`.
    pub state: String,
    /// Why it was away.
    pub why: Option<String>,
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
    /// What to do when a name is taken: `refuse` (hold the file), `replace`, `keep-both` or `skip-same`.
    pub exists: Option<String>,
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

/// How things stand.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Status {
    pub version: String,
    /// Since when the service runs.
    pub started: String,
    pub queued: i64,
    pub working: i64,
    /// Items that wait for another attempt.
    pub waiting: i64,
    /// Items that wait for others of their run.
    pub joining: i64,
    /// Items that wait for a person.
    pub held: i64,
    pub rules_on: usize,
    pub rules_off: usize,
    /// Places that could not be reached when last tried.
    pub places_away: Vec<String>,
    pub moving: Vec<Moving>,
    /// What fires next, soonest first; at most eight.
    pub next: Vec<Firing>,
    /// Keys and the like that expire within thirty days, or did; the most urgent first.
    pub warnings: Vec<Warning>,
    pub today: Traffic,
}

/// Something that expires soon, or did.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Warning {
    pub what: String,
    pub until: Option<String>,
    /// Which of the warnings before the end this is: 30, 7 or 1 days; 0 once it is over.
    pub days: i64,
    pub partner: Option<String>,
    pub remedy: String,
}

impl Warning {
    /// In a few words: `key "harlan" expires within 7 days (2026-03-14)`.
    pub fn words(&self) -> String {
        let day = self.until.as_deref().and_then(|until| until.get(..10));
        match (self.days, day) {
            (0, Some(day)) => format!("{} expired on {day}", self.what),
            (1, Some(day)) => format!("{} expires within a day ({day})", self.what),
            (days, Some(day)) => format!("{} expires within {days} days ({day})", self.what),
            (_, None) => self.what.clone(),
        }
    }
}

/// Somebody we exchange files with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Partner {
    pub name: String,
    pub title: String,
    pub note: String,
    pub people: Vec<Person>,
    pub places: Vec<PartnerPlace>,
    pub keys: Vec<PartnerKey>,
    /// Its standing delivery form in words.
    pub delivery: Option<String>,
    /// Rules that deliver to it or use one of its places.
    pub rules: Vec<String>,
    pub warnings: Vec<Warning>,
    /// Its text in the book.
    pub text: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Person {
    pub name: String,
    pub role: String,
    pub mail: String,
    pub phone: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PartnerPlace {
    pub name: String,
    /// `well`, `away` or `unknown`.
    pub state: String,
    pub address: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PartnerKey {
    pub name: String,
    pub fingerprint: Option<String>,
    pub expires: Option<String>,
    /// Why it cannot be used; that it is not imported, for one.
    pub unfit: Option<String>,
}

/// A day's traffic by hour.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Traffic {
    /// The day's start.
    pub from: String,
    pub done: i64,
    pub bytes: i64,
    pub hours: Vec<HourTraffic>,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct HourTraffic {
    pub hour: i64,
    pub done: i64,
    pub skipped: i64,
    pub held: i64,
    pub bytes: i64,
}

/// A file being worked on now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Moving {
    pub run: i64,
    pub item: i64,
    pub rule: String,
    pub title: String,
    pub file: String,
    pub branch: usize,
    /// The position of the step at work.
    pub step: usize,
    /// The steps of its way.
    pub steps: Vec<ItemStep>,
    pub from: String,
    pub to: String,
    pub done: u64,
    pub total: u64,
    pub since: String,
}

impl Moving {
    /// The kind of the step at work.
    pub fn step_kind(&self) -> &str {
        self.steps.iter().find(|step| step.at == self.step as i64).map_or("", |step| &step.kind)
    }
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleSummary {
    pub name: String,
    pub title: String,
    /// The whole rule in plain words.
    pub sentence: String,
    pub why: String,
    pub on: bool,
    pub version: i64,
    /// Where its files come from first.
    pub place: String,
    pub folder: String,
    /// When its schedule fires next.
    pub next: Option<String>,
    pub last: Option<LastRun>,
    /// Runs of the last fourteen days, oldest first.
    pub days: Vec<DayRuns>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LastRun {
    pub run: i64,
    pub started: String,
    pub state: String,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct DayRuns {
    /// The day.
    pub day: String,
    pub done: i64,
    pub held: i64,
    pub other: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rule {
    #[serde(flatten)]
    pub summary: RuleSummary,
    pub text: String,
    pub changed: String,
    /// What starts it, in words.
    pub starts: String,
    /// Names it is about; empty for every name.
    pub names: Vec<String>,
    /// How long a file that comes must stay unchanged; nothing if it does not start by arrivals.
    pub settle: Option<String>,
    pub below: bool,
    /// The next firings of its schedule.
    pub firings: Vec<String>,
    /// How another system starts it, if one may.
    pub signal: Option<SignalHelp>,
    pub branches: Vec<Branch>,
    pub versions: Vec<Version>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Branch {
    pub title: String,
    /// Its condition in words; nothing for the default.
    pub condition: Option<String>,
    pub steps: Vec<Step>,
    /// What becomes of the original.
    pub original: String,
    /// Today's files.
    pub done: i64,
    pub held: i64,
    pub open: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Step {
    pub kind: String,
    pub words: String,
    /// The place it puts files to.
    pub place: Option<String>,
    pub folder: Option<String>,
    /// For which files it is, in words; nothing for all.
    pub condition: Option<String>,
    /// What is done when it failed for good, in words; nothing: the file is held.
    pub on_failure: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Version {
    pub version: i64,
    pub at: String,
    pub who: String,
    pub text: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Switch {
    pub on: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunFile {
    /// `PLACE:/PATH`; without it the rule looks for its files itself.
    pub file: Option<String>,
    /// Without a file: also those that the rule took before.
    #[serde(default)]
    pub all: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Started {
    pub run: i64,
    /// The chosen file's item.
    pub item: Option<i64>,
}

/// A firing of a schedule that is to come.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Firing {
    pub rule: String,
    pub title: String,
    pub at: String,
}

/// Which days an office works.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Calendar {
    pub name: String,
    pub title: String,
    /// The weekdays that are worked: `mon`, `tue`, …
    pub week: Vec<String>,
    pub off: Vec<DaySpan>,
    /// Rules that use it.
    pub rules: Vec<String>,
}

/// Days, the first and the last.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DaySpan {
    pub first: String,
    pub last: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CalendarFile {
    /// The calendar file's content.
    pub text: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImportedDays {
    /// Days off that are new.
    pub added: usize,
    /// Events that were left out, each with the reason.
    pub left_out: Vec<String>,
}

/// How another system starts a rule.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignalHelp {
    /// The address that is called.
    pub address: String,
    /// The commands that make the call, to be copied.
    pub commands: String,
}

/// A database that tables are loaded into and extracted from.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Database {
    pub name: String,
    pub title: String,
    pub kind: String,
    pub address: String,
    /// Rules that use it.
    pub rules: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DatabaseTest {
    pub fine: bool,
    /// What was found, or why not.
    pub said: String,
}

/// A mail that carries no file, and so waits in the outbox without anything waiting for it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Notice {
    pub id: i64,
    pub run: i64,
    pub rule: String,
    /// The mailbox that sends it.
    pub place: String,
    pub to: String,
    pub subject: String,
    /// `waiting`, `sent` or `refused`.
    pub state: String,
    pub queued: String,
    /// When it is tried next.
    pub due: Option<String>,
    pub tries: i64,
    /// Why it was not sent.
    pub why: Option<String>,
    pub ended: Option<String>,
}

/// What rules say of a file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Explained {
    pub file: String,
    /// Whether the file is there.
    pub found: bool,
    pub size: Option<u64>,
    pub modified: Option<String>,
    pub rules: Vec<ExplainedRule>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ExplainedRule {
    pub rule: String,
    pub title: String,
    /// The trigger's tests.
    pub trigger: Vec<Verdict>,
    /// The branches that were asked.
    pub branches: Vec<BranchVerdict>,
    pub taken: bool,
    pub outcome: String,
    /// What else decides, as in "the rule took this very file before".
    pub note: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BranchVerdict {
    pub title: String,
    pub verdict: Verdict,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[schema(no_recursion)]
pub struct Verdict {
    /// What was asked.
    pub asked: String,
    /// What the file has.
    pub found: String,
    pub holds: bool,
    #[serde(default)]
    pub parts: Vec<Verdict>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunPage {
    pub runs: Vec<RunSummary>,
    /// Ask with `before` set to this for the next page.
    pub next: Option<i64>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSummary {
    pub id: i64,
    pub rule: String,
    pub title: String,
    /// `arrival`, `hand`, `schedule`, `chain`, `signal` or `mail`.
    pub cause: String,
    pub started: String,
    pub ended: Option<String>,
    pub state: String,
    pub items: i64,
    /// Its first file, or the folder where it looked for files.
    pub file: String,
    pub size: u64,
    pub why: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Run {
    pub id: i64,
    pub rule: String,
    pub title: String,
    pub version: i64,
    pub cause: String,
    pub started: String,
    pub ended: Option<String>,
    pub state: String,
    /// Why it was left out, if it was.
    pub why: Option<String>,
    /// What is known of it besides: what a signal said, who wrote the letter, which rule was before.
    pub about: BTreeMap<String, String>,
    /// At most 200 items.
    pub items: Vec<Item>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Item {
    pub id: i64,
    /// `file`; `find` for the search with which a run begins; `made` from several; `part` of one.
    pub kind: String,
    pub file: String,
    pub size: u64,
    pub state: String,
    pub branch: Option<i64>,
    pub branch_title: Option<String>,
    /// The steps of its way.
    pub steps: Vec<ItemStep>,
    /// The position of the step it is at.
    pub step: i64,
    pub failures: i64,
    /// When the next attempt is due.
    pub due: Option<String>,
    pub why: Option<String>,
    pub taken: String,
    pub ended: Option<String>,
    pub attempts: Vec<Attempt>,
    pub hold: Option<Hold>,
}

/// A step on an item's way.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ItemStep {
    /// Its position, which attempts refer to.
    pub at: i64,
    pub kind: String,
    /// `done`, `skipped`, `failed`, `working`, `waiting`, `held`, or `rest` while it is to come.
    pub state: String,
    /// Whether it belongs to what is done when another step failed.
    pub on_failure: bool,
}

/// Which part of a run goes on.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Retry {
    /// Only this item; without it, all that is held or waits.
    pub item: Option<i64>,
}

/// How much a call changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Affected {
    /// So many files.
    pub items: usize,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Attempt {
    pub id: i64,
    pub step: i64,
    pub kind: String,
    pub number: i64,
    pub began: String,
    pub ended: Option<String>,
    /// `going`, `done`, `failed` or `skipped`.
    pub outcome: String,
    /// Where its result is.
    pub target: Option<String>,
    pub size: Option<u64>,
    pub sha256: Option<String>,
    pub blake3: Option<String>,
    pub code: Option<String>,
    pub message: Option<String>,
    pub remedy: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HoldPage {
    pub holds: Vec<Hold>,
    /// Ask with `before` set to this for the next page.
    pub next: Option<i64>,
}

/// An item that waits for a person.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Hold {
    pub item: i64,
    pub run: i64,
    pub rule: String,
    pub title: String,
    pub file: String,
    pub size: u64,
    /// The kind of the step it stopped at.
    pub step: String,
    pub since: String,
    pub code: String,
    pub why: String,
    pub remedy: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Dismiss {
    pub why: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Place {
    pub name: String,
    pub kind: String,
    pub address: String,
    pub text: String,
    /// `well`, `away` or `unknown`.
    pub state: String,
    pub error: Option<String>,
    pub remedy: Option<String>,
    /// The last contact.
    pub at: Option<String>,
    /// Since when it fails.
    pub since: Option<String>,
    /// When it is tried again.
    pub again: Option<String>,
    pub rules: Vec<String>,
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
    /// `never`, `waiting`, `agreed` or `failed`.
    pub state: String,
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
    /// `folder`, `sftp`, `ftp`, `share`, `webdav`, `bucket` or `mailbox`.
    pub kind: String,
    /// The keys that the book has for this kind, with their values.
    #[serde(default)]
    pub keys: BTreeMap<String, KeyValue>,
    /// Those whose value is a secret, with the secret itself: `password` (of sftp, ftp, share, webdav, mailbox),
    /// `key` (of sftp), `secret-key` (of bucket). Each is kept in the vault as NAME-KEY.
    #[serde(default)]
    pub secrets: BTreeMap<String, String>,
    /// What somebody is to agree to in place of a password (of webdav).
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
    Number(i64),
    Text(String),
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
    /// `file`, `folder`, `link` or `other`.
    pub kind: String,
    pub size: u64,
    /// Nothing where the place does not tell it.
    pub modified: Option<String>,
    /// Who owns or added it; nothing where the place does not tell it.
    pub who: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Traces {
    pub found: Vec<Traced>,
}

/// A file's way, from where it came to where it is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Traced {
    pub item: i64,
    pub run: i64,
    pub rule: String,
    pub title: String,
    pub file: String,
    pub size: u64,
    pub state: String,
    pub why: Option<String>,
    pub taken: String,
    pub ended: Option<String>,
    pub hops: Vec<Attempt>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BookFile {
    pub name: String,
    pub text: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProposedBook {
    pub files: Vec<BookFile>,
    /// The whole book: what it does not have is removed.
    #[serde(default)]
    pub whole: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BookDiff {
    pub changes: Vec<BookChange>,
    /// The order in which rules are asked differs.
    pub reordered: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BookChange {
    pub kind: String,
    pub name: String,
    /// `added`, `changed` or `removed`.
    pub change: String,
    pub old: Option<String>,
    pub new: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretName {
    pub name: String,
    pub changed: String,
}

#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SetSecret {
    pub value: String,
}

impl std::fmt::Debug for SetSecret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SetSecret")
    }
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Key {
    pub name: String,
    pub fingerprint: String,
    pub users: Vec<String>,
    /// We hold its secret part.
    pub has_secret: bool,
    pub encrypts: bool,
    pub signs: bool,
    /// When it ends, if it ever does.
    pub expires: Option<String>,
    /// Why it cannot be encrypted to.
    pub unfit: Option<String>,
    pub changed: String,
}

#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ImportKey {
    /// One key, armoured.
    pub text: String,
    /// What opens its secret part.
    #[serde(default)]
    pub passphrase: Option<String>,
}

impl std::fmt::Debug for ImportKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("ImportKey")
    }
}
