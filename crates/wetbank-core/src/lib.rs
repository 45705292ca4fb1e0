//! The domain of Wetbank: plain values in, plain values out.
//!
//! Nothing here reads a clock, a file or a socket. Rules, conditions, templates,
//! fingerprints, the life of an item and the book are decided here and done elsewhere.

mod account;
mod address;
mod advance;
mod book;
mod by_hand;
mod calendar;
mod condition;
mod database;
mod decide;
mod facts;
mod holes;
mod limits;
mod marker;
mod names;
mod partner;
mod path;
mod place;
mod placeholder;
mod rehearse;
mod retry;
mod role;
mod rule;
mod schedule;
mod sentence;
mod shape;
mod starter;
mod starts;
mod state;
pub mod step;
mod template;
pub mod twin;
mod units;

pub use account::{Account, AccountEvent, AccountKey, Did, May, OfAccount, Opened, Shut};
pub use address::{HostAddress, InvalidHost, typed_folder, typed_url, typed_user};
pub use advance::{Advance, Outcome, Position, Stuck, advance};
pub use book::{
    Amiss, Book, Difference, Draft, DraftMistake, Known, Problem, Section, SectionKind, Unwritable, book_reference,
    book_schema, differences, parse_book, secrets_named, section_group, section_text, section_value,
};
pub use by_hand::{BY_HAND, HandDelivery};
pub use calendar::{Calendar, weekday_word};
pub use condition::{Attribute, Condition, NamePattern, Operator, Subject, Test, Verdict, name_pattern};
pub use database::{Database, DatabaseKind, PostgresSpec};
pub use decide::{Decision, Explanation, decide, explain};
pub use facts::{About, FileFacts, Fingerprint};
pub use holes::Filling;
pub use limits::{Hours, Limits, Rate};
pub use marker::{InvalidMarker, Marker};
pub use names::{InvalidName, Name, PlaceName, RuleName, SecretName};
pub use partner::{Delivery, Expiry, Partner, Person, QuietHours, warned};
pub use path::{FilePath, InvalidPath, RelPath, TEMPORARY_PREFIX};
pub use place::{
    AgreedSpec, BucketAddressing, BucketSpec, FolderSpec, FtpSecurity, FtpSpec, MailSecurity, MailServer, MailboxSpec,
    Names, PlaceKind, PlaceSpec, SILENCE, SftpSignIn, SftpSpec, ShareSpec, WebSignIn, WebSpec, WebdavSpec,
    is_share_name, place_keys,
};
pub use placeholder::{
    KnownValue, KnownWhere, PLACEHOLDERS, Placeholder, Sample, bare_rule, known_here, known_values, samples,
};
pub use rehearse::{Coming, Elsewise, ElsewiseKind, End, Foreseen, Rehearsal, elsewise, rehearse};
pub use retry::RetryPolicy;
pub use role::{InvalidRights, Rights, Role};
pub use rule::{Branch, Find, Next, OnFault, Original, Planned, Rule, Selection};
pub use schedule::{Busy, Cron, Days, MOST_MISSED, Missed, Pattern, Schedule};
pub use sentence::{Phrase, PhraseOf, branch_sentence, delivery_words, rule_phrases, rule_sentence, starts_words};
pub use starter::{Ask, Starter, Want, starters};
pub use starts::{Arrival, Arrives, Chain, ChainEvent, Gather, Happened, Letter, LookPace, Signal, Starts};
pub use state::{Cause, InvalidMove, ItemKind, ItemState, RunState, run_state};
pub use step::{
    Asked, BadRows, CallBody, Compression, Group, IfExists, Most, Numbers, PackForm, Shift, Step, Target, Telling,
    Twice,
};
pub use template::{Template, TemplateError, TemplateFacts, nested};
pub use units::{ByteSize, format_duration, parse_duration};
