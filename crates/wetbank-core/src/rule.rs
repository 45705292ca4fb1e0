//! Rules: what starts, which files, what happens.

use std::time::Duration;

use globset::GlobMatcher;
use jiff::tz::TimeZone;

use crate::{Condition, Marker, Name, PlaceName, QuietHours, RelPath, RetryPolicy, RuleName, SecretName, Template};

/// A standing arrangement: a trigger and ordered branches.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Its name in the book.
    pub name: RuleName,
    /// Its title for people.
    pub title: String,
    /// Why it exists.
    pub why: String,
    /// The zone in which its dates are told.
    pub zone: TimeZone,
    /// What starts it.
    pub arrival: Arrival,
    /// The first branch whose condition holds takes the file.
    pub branches: Vec<Branch>,
    /// When steps are tried again; as the place says where they failed, if it does not say.
    pub retry: Option<RetryPolicy>,
}

/// The trigger: a file is complete in a folder.
#[derive(Debug, Clone)]
pub struct Arrival {
    /// The watched place.
    pub place: PlaceName,
    /// The watched folder.
    pub folder: RelPath,
    /// Patterns of names; empty means every name.
    pub names: Vec<GlobMatcher>,
    /// Patterns of names left alone.
    pub except: Vec<GlobMatcher>,
    /// Whether folders below count.
    pub deep: bool,
    /// How long a file must stay unchanged.
    pub settle: Duration,
    /// The file beside it that says it is complete.
    pub marker: Option<Marker>,
    /// How often the folder is looked through where no events come.
    pub pace: LookPace,
    /// Whether the rule takes files that it made itself.
    pub own_results: bool,
}

/// How often a folder is looked through.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LookPace {
    /// After this time.
    Every(Duration),
    /// Soon after something came, and less and less often while nothing comes.
    Adaptive,
}

/// Conditions and the steps for the files that meet them.
#[derive(Debug, Clone)]
pub struct Branch {
    /// Its title for people.
    pub title: String,
    /// Which files; none makes it the default.
    pub condition: Option<Condition>,
    /// What is done, in order.
    pub steps: Vec<Step>,
    /// What becomes of the file that came.
    pub original: Original,
}

/// Where a file goes.
#[derive(Debug, Clone)]
pub struct Target {
    /// The place.
    pub place: PlaceName,
    /// The folder there.
    pub folder: Template,
    /// The name there.
    pub name: Template,
    /// What to do when the name is taken.
    pub exists: IfExists,
    /// When nothing may come there.
    pub quiet: Option<QuietHours>,
    /// The partner whose form this is.
    pub partner: Option<Name>,
}

/// What to do when a name is taken at the target.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IfExists {
    /// Hold the file and ask a person.
    Refuse,
    /// Put the new file in its place.
    Replace,
    /// Choose a free name: `name (2).csv`.
    KeepBoth,
    /// Skip when the content is the same, else hold.
    SkipSame,
}

/// One thing done to the file in hand. Each step's result is the next one's file.
#[derive(Debug, Clone)]
pub enum Step {
    /// OpenPGP encryption, and signing if a signing key is named.
    Encrypt {
        /// Names of keys.
        to: Vec<String>,
        /// A passphrase that opens it too, or instead.
        passphrase: Option<SecretName>,
        /// The key that signs.
        sign: Option<String>,
        /// ASCII armour instead of binary.
        armour: bool,
        /// The result's name.
        name: Template,
    },
    /// OpenPGP decryption, and verifying if signers are named.
    Decrypt {
        /// A passphrase to try besides our keys.
        passphrase: Option<SecretName>,
        /// Names of keys, one of which must have signed.
        signed_by: Vec<String>,
        /// The result's name.
        name: Template,
    },
    /// Put a copy into a folder of ours.
    Copy(Target),
    /// Hand a copy to a partner's place.
    Deliver(Target),
    /// Put the file elsewhere and remove it here.
    Move(Target),
    /// Give the original another name in its folder.
    Rename {
        /// The new name.
        name: Template,
        /// What to do when it is taken.
        exists: IfExists,
    },
    /// Remove the original.
    Delete,
    /// Wait for a person.
    Hold {
        /// What the person is told.
        why: String,
    },
}

/// What becomes of the original after all steps are done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Original {
    /// It stays where it is.
    Stays,
    /// It is moved to a folder of the same place.
    MoveTo(Template),
    /// It is deleted.
    Delete,
}

impl Step {
    /// The word for this kind of step.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Encrypt { .. } => "encrypt",
            Self::Decrypt { .. } => "decrypt",
            Self::Copy(_) => "copy",
            Self::Deliver(_) => "deliver",
            Self::Move(_) => "move",
            Self::Rename { .. } => "rename",
            Self::Delete => "delete",
            Self::Hold { .. } => "hold",
        }
    }

    /// The step's target, if it has one.
    pub fn target(&self) -> Option<&Target> {
        match self {
            Self::Copy(target) | Self::Deliver(target) | Self::Move(target) => Some(target),
            _ => None,
        }
    }
}

impl Rule {
    /// Every partner that the rule delivers to.
    pub fn partners(&self) -> impl Iterator<Item = &Name> {
        self.branches.iter().flat_map(|b| &b.steps).filter_map(|step| step.target()?.partner.as_ref())
    }

    /// Every place the rule touches, the watched one first.
    pub fn places(&self) -> Vec<PlaceName> {
        let mut places = vec![self.arrival.place.clone()];
        for target in self.branches.iter().flat_map(|b| &b.steps).filter_map(Step::target) {
            if !places.contains(&target.place) {
                places.push(target.place.clone());
            }
        }
        places
    }
}
