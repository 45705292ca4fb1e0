//! The domain of Wetbank: plain values in, plain values out.
//!
//! Nothing here reads a clock, a file or a socket. Rules, conditions, templates,
//! fingerprints, the life of an item and the book are decided here and done elsewhere.

mod address;
mod book;
mod by_hand;
mod condition;
mod decide;
mod facts;
mod limits;
mod marker;
mod names;
mod partner;
mod path;
mod place;
mod retry;
mod rule;
mod sentence;
mod state;
mod template;
mod units;

pub use address::{HostAddress, InvalidHost, typed_folder, typed_url, typed_user};
pub use book::{Book, Known, Problem, Section, SectionKind, book_schema, parse_book, place_keys};
pub use by_hand::{BY_HAND, HandDelivery};
pub use condition::{Attribute, Condition, Operator, Test, Verdict};
pub use decide::{Decision, Explanation, decide, explain, name_matches};
pub use facts::{FileFacts, Fingerprint};
pub use limits::{Hours, Limits, Rate};
pub use marker::{InvalidMarker, Marker};
pub use names::{InvalidName, Name, PlaceName, RuleName, SecretName};
pub use partner::{Delivery, Expiry, Partner, Person, QuietHours, warned};
pub use path::{FilePath, InvalidPath, RelPath, TEMPORARY_PREFIX};
pub use place::{
    AgreedSpec, BucketAddressing, BucketSpec, FtpSecurity, FtpSpec, PlaceKind, PlaceSpec, SILENCE, SftpSignIn,
    SftpSpec, ShareSpec, WebSignIn, WebdavSpec,
};
pub use retry::RetryPolicy;
pub use rule::{Arrival, Branch, IfExists, LookPace, Original, Rule, Step, Target};
pub use sentence::{branch_sentence, delivery_words, rule_sentence, step_words};
pub use state::{InvalidMove, ItemState, RunState, run_state};
pub use template::{Template, TemplateError, TemplateFacts};
pub use units::{ByteSize, format_duration, parse_duration};
