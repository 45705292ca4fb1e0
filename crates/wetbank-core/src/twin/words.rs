//! A twin in words.

use std::fmt::{self, Write};

use super::{Action, Line, Question, Sameness, Settling, Twin, Way};
use crate::sentence::joined;

impl Twin {
    /// What it does, in one sentence or two.
    pub fn words(&self) -> String {
        let (near, far) = (&self.folders.near, &self.folders.far);
        let does = match self.way {
            Way::Add => format!("What {near} has and {far} lacks is added there"),
            Way::Update => format!("What is missing in {far}, or is newer in {near}, goes there"),
            Way::Exact => format!("{far} is made exactly as {near}, deletions too"),
            Way::Both => format!("Each change in {near} and {far} follows to the other side"),
        };
        let mut when = Vec::new();
        if self.starts.change.is_some() {
            when.push("whenever something changes".to_owned());
        }
        when.extend(self.starts.schedule.as_ref().map(crate::Schedule::words));
        if when.is_empty() {
            when.push("when somebody or a rule asks for it".to_owned());
        }
        let mut text = format!("{does}, {}", when.join(" and "));
        if let Some(days) = self.recent {
            let _ = write!(text, "; only what was changed in the last {}", days_words(days));
        }
        if self.same == Sameness::Content {
            text.push_str("; contents are compared");
        }
        let differs = match (self.way, self.settling) {
            (Way::Add | Way::Exact, _) => "",
            (_, Settling::KeepBoth) => " If both sides changed a file, both stay.",
            (_, Settling::Newer) => " If both sides changed a file, the newer one stays.",
            (_, Settling::Near) => " If both sides changed a file, the near one stays.",
            (_, Settling::Far) => " If both sides changed a file, the far one stays.",
            (_, Settling::Ask) => " If both sides changed a file, a person is asked.",
        };
        let kept = match self.way {
            Way::Add => String::new(),
            _ => format!(" What a side loses is kept there for {} days.", self.keep_days),
        };
        let told: Vec<String> = self.tell.iter().map(ToString::to_string).collect();
        let told = match told.len() {
            0 => String::new(),
            _ => format!(" What a pass did is told by mail to {}.", joined(&told)),
        };
        format!("{text}.{differs}{kept}{told}")
    }
}

fn days_words(days: u32) -> String {
    if days == 1 { "day".to_owned() } else { format!("{days} days") }
}

impl Line {
    /// What is done, in few words: `copied there`.
    pub fn words(&self) -> String {
        match &self.action {
            Action::Make { on } => format!("copied {}", on.here()),
            Action::Replace { on } => format!("replaced {}", on.here()),
            Action::Delete { on } => format!("deleted {}", on.here()),
            Action::Rename { on, from } => format!("renamed {}, was {}", on.here(), from.of(*on)),
            Action::Restore { on, .. } => format!("brought back {}", on.here()),
            Action::MakeFolder { on } => format!("folder made {}", on.here()),
            Action::RemoveFolder { on } => format!("folder removed {}", on.here()),
            Action::KeepBoth { renamed, to } => {
                format!("both kept, the {renamed} one as {}", String::from_utf8_lossy(to))
            }
            Action::Ask { question } => question.to_string(),
            Action::Join => "noted as alike".to_owned(),
            Action::Forget => "noted as gone".to_owned(),
            Action::Leave => "left as it is".to_owned(),
        }
    }
}

impl fmt::Display for Question {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Differ => "which one stays?",
            Self::OnlyThere => "deleted there, or left? (copy it here, or leave it out, and it stays)",
            Self::Kinds => "a file or a folder? (give one of both another name)",
            Self::SameName => "which one has the name? (give one of both another name)",
            Self::BadName => "what is it called there? (give it another name, or say fit-names = true)",
        })
    }
}
