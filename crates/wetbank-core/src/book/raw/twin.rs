//! A twin: two folders that are kept alike, and how.

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use super::Schedule;
use crate::{
    shape::{Case, HoursShape, Nothing, OneOrMany, Text, holds},
    twin::{Sameness, Settling, Way},
};

/// Two folders that are kept alike.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Twin")]
pub(crate) struct Twin {
    /// Its title for people; its name unless it is said.
    #[schemars(title = "Title")]
    pub title: Option<String>,
    /// Why it is there.
    #[serde(default)]
    #[schemars(title = "Why", extend("holds" = "lines"))]
    pub why: String,
    /// The group it belongs to: who may act or arrange in that group only may do so with it.
    #[schemars(title = "Group", extend("seldom" = true))]
    pub group: Option<Text<holds::GroupName>>,
    /// The folder that it goes by: here.
    #[schemars(title = "Near side")]
    pub near: TwinSide,
    /// The folder that is kept like it: there.
    #[schemars(title = "Far side")]
    pub far: TwinSide,
    /// Which changes follow to the other side.
    #[schemars(title = "Way", with = "Way")]
    pub way: Spanned<Way>,
    /// When a pass is made, besides by hand and by steps of rules; only by those if it is left out.
    #[schemars(title = "When")]
    pub starts: Option<TwinStarts>,
    /// What is done about a file that was changed on both sides, or that is another one on each when they first meet. At a
    /// first meeting nothing is replaced: a person is asked, or both stay.
    #[schemars(title = "When both sides changed a file", extend("default" = "keep-both"))]
    pub differs: Option<Settling>,
    /// Patterns such as `*.pdf`; every name if it is left out.
    #[serde(default)]
    #[schemars(title = "Named")]
    pub names: Vec<Text<holds::Pattern>>,
    /// Patterns of what is left alone on both sides: of names, as `*.tmp`, or with a slash of paths from the top, as `/drafts`
    /// for a folder with all that is in it.
    #[serde(default)]
    #[schemars(title = "But not")]
    pub except: Vec<Text<holds::Pattern>>,
    /// Only what was changed in the last days is taken up; what both sides have goes on being kept alike.
    #[schemars(title = "Only of the last days", extend("seldom" = true))]
    pub recent_days: Option<u32>,
    /// Files and folders whose name begins with a dot count too.
    #[serde(default)]
    #[schemars(title = "Hidden files too", extend("seldom" = true))]
    pub hidden: bool,
    /// Folders below count too.
    #[schemars(title = "Folders below too", extend("seldom" = true, "default" = true))]
    pub below: Option<bool>,
    /// Folders in which nothing lies are made on the other side too, where it has such folders.
    #[schemars(title = "Empty folders too", extend("seldom" = true, "default" = true))]
    pub empty_folders: Option<bool>,
    /// What counts as the same file.
    #[schemars(title = "The same is", extend("seldom" = true, "default" = "size-and-time"))]
    pub same: Option<Sameness>,
    /// A name that the other side cannot have is changed into one that it can; without it a person is asked.
    #[serde(default)]
    #[schemars(title = "Fit names", extend("seldom" = true))]
    pub fit_names: bool,
    /// How long before a pass a file must have stayed unchanged; else it waits for a further one. Without it nobody may
    /// have it open for writing in a folder of this machine, and elsewhere it must be unchanged for 5 s.
    #[schemars(title = "Unchanged for", extend("seldom" = true))]
    pub settle: Option<Text<holds::Duration>>,
    /// So many days what a side loses is kept there, in `.wetbank-kept`.
    #[schemars(title = "Keep for days", extend("seldom" = true, "default" = 30))]
    pub keep_days: Option<u32>,
    /// A pass that would delete or replace more than this on one side stops before its first action and asks.
    #[schemars(title = "Brake", extend("seldom" = true))]
    pub brake: Option<TwinBrake>,
    /// Who is told afterwards what a pass did, in one mail by folder.
    #[serde(default)]
    #[schemars(title = "Tell afterwards", extend("seldom" = true))]
    pub tell: Vec<TwinNotice>,
    /// Whether capitals count when names are compared with patterns.
    #[serde(default)]
    #[schemars(title = "Capitals", extend("seldom" = true))]
    pub case: Case,
    /// Whose clock counts for its schedule, for quiet hours and for dates in names and mails.
    #[schemars(title = "Time zone", extend("seldom" = true, "default" = "UTC"))]
    pub zone: Option<Text<holds::Zone>>,
}

/// One side of a twin.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct TwinSide {
    /// The place.
    #[schemars(title = "Place")]
    pub place: Text<holds::PlaceName>,
    /// The folder there; the root if it is left out.
    #[schemars(title = "Folder")]
    pub folder: Option<Text<holds::Folder>>,
}

/// When a pass of a twin is made.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct TwinStarts {
    /// Something changed on a side that others follow.
    #[schemars(title = "When something changes")]
    pub change: Option<TwinChange>,
    /// The clock.
    #[schemars(title = "By the clock", with = "Option<Schedule>")]
    pub schedule: Option<Spanned<Schedule>>,
    /// Only people and steps of rules start it.
    #[schemars(title = "By hand only")]
    pub hand: Option<Nothing>,
}

/// Something changed.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct TwinChange {
    /// How often a side is looked through where no events tell of changes; unless it is said soon after something
    /// changed, and ever more seldom, up to every 2 min, while nothing does.
    #[schemars(title = "Look every", extend("seldom" = true))]
    pub look_every: Option<Text<holds::Duration>>,
}

/// How much a pass deletes and replaces on one side without asking: the share or the number, whichever is less; 10
/// files always.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct TwinBrake {
    /// Of a hundred files of that side, from 0 to 100.
    #[schemars(title = "Of a hundred", with = "Option<u8>", extend("default" = 20))]
    pub share: Option<Spanned<u8>>,
    /// Files.
    #[schemars(title = "Files at most", extend("default" = 200))]
    pub files: Option<u64>,
}

/// Who is told what a pass did. A pass that did nothing is not told of.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct TwinNotice {
    /// The mailbox that sends the mail.
    #[schemars(title = "By")]
    pub by: Text<holds::PlaceName>,
    /// Who gets it; one address or several.
    #[schemars(title = "To", with = "OneOrMany", extend("holds" = "mail-address"))]
    pub to: Spanned<OneOrMany>,
    /// Only of what lies in this folder of the twin; of everything if it is left out.
    #[schemars(title = "Of the folder")]
    pub folder: Option<Text<holds::Folder>>,
    /// Hours of each day in which no mail goes, by the clock of the twin; what was done then is told in one mail when they are over.
    #[schemars(title = "Quiet hours")]
    pub quiet: Option<HoursShape>,
}
