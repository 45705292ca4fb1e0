//! Words that can be one of a few.

use std::{fmt, str::FromStr};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

macro_rules! words {
    ($($(#[$doc:meta])* $name:ident { $($(#[$of:meta])* $variant:ident $word:literal,)* })*) => { $(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum $name {
            $($(#[$of])* $variant,)*
        }

        impl $name {
            /// The word.
            pub const fn as_str(self) -> &'static str {
                match self { $(Self::$variant => $word,)* }
            }

            /// What a word means; nothing for any other word.
            pub fn parse(word: &str) -> Option<Self> {
                [$(Self::$variant,)*].into_iter().find(|one| one.as_str() == word)
            }
        }

        impl FromStr for $name {
            type Err = String;

            fn from_str(word: &str) -> Result<Self, String> {
                let words = [$($word,)*].join(", ");
                Self::parse(word).ok_or_else(|| format!("there is no \"{word}\"; use one of {words}"))
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.as_str())
            }
        }
    )* };
}

words! {
    /// Where an item stands.
    ItemState {
        /// Taken in, not begun.
        Queued "queued",
        /// A step is at work.
        Working "working",
        /// Another attempt is due.
        Waiting "waiting",
        /// It waits for the others of its run.
        Joining "joining",
        /// All is done.
        Done "done",
        /// Left alone for a reason.
        Skipped "skipped",
        /// It waits for a person.
        Held "held",
    }
    /// What an item is.
    ItemKind {
        /// A file that came or was found.
        File "file",
        /// The search with which a run begins.
        Find "find",
        /// Made from several.
        Made "made",
        /// A part of one.
        Part "part",
    }
    /// Where a run stands.
    RunState {
        /// Something moves.
        Running "running",
        /// All is done.
        Done "done",
        /// Everything was left alone.
        Skipped "skipped",
        /// Something waits for a person.
        Held "held",
    }
    /// What started a run.
    Cause {
        /// A file.
        Arrival "arrival",
        /// A person.
        Hand "hand",
        /// The clock.
        Schedule "schedule",
        /// Another rule.
        Chain "chain",
        /// Another system.
        Signal "signal",
        /// A letter.
        Mail "mail",
        Account "account",
    }
    /// How an attempt ended.
    AttemptOutcome {
        /// It did not end yet.
        Going "going",
        /// It is done.
        Done "done",
        /// It failed.
        Failed "failed",
        /// There was nothing to do.
        Skipped "skipped",
    }
    /// Where a step of an item's way stands.
    StepState {
        /// It is to come.
        Rest "rest",
        /// It is at work.
        Working "working",
        /// Another attempt is due.
        Waiting "waiting",
        /// It is done.
        Done "done",
        /// There was nothing to do.
        Skipped "skipped",
        /// It failed.
        Failed "failed",
        /// It waits for a person.
        Held "held",
    }
    /// How a place is doing.
    PlaceState {
        /// The last call went well.
        Well "well",
        /// It cannot be used.
        Away "away",
        /// Nobody asked yet.
        Unknown "unknown",
    }
    /// What somebody agreed to.
    SignInState {
        /// Nothing yet.
        Never "never",
        /// A person is asked.
        Waiting "waiting",
        /// It is agreed.
        Agreed "agreed",
        /// It was refused, or went wrong.
        Failed "failed",
    }
    /// What lies in a folder.
    EntryKind {
        /// A file.
        File "file",
        /// A folder.
        Folder "folder",
        /// A link, which is never followed.
        Link "link",
        /// Something else, which is never opened.
        Other "other",
        /// Something whose name cannot be used here.
        Misnamed "misnamed",
    }
    /// What is done when a name is taken.
    IfExists {
        /// The file is held.
        Refuse "refuse",
        /// It is replaced.
        Replace "replace",
        /// A free name is chosen.
        KeepBoth "keep-both",
        /// It is skipped if the content is the same, else held.
        SkipSame "skip-same",
    }
    /// What becomes of a section of the book.
    ChangeKind {
        /// It is new.
        Added "added",
        /// It is otherwise.
        Changed "changed",
        /// It goes.
        Removed "removed",
    }
    /// What becomes of a line of a text.
    LineChange {
        /// It stays.
        Same "same",
        /// It is new.
        Added "added",
        /// It goes.
        Removed "removed",
    }
    /// What becomes of a notice.
    NoticeState {
        /// It lies in the outbox.
        Waiting "waiting",
        /// The server took it.
        Sent "sent",
        /// It was given up.
        Refused "refused",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_is_the_same_in_json_on_the_command_line_and_for_people() {
        for exists in [IfExists::Refuse, IfExists::Replace, IfExists::KeepBoth, IfExists::SkipSame] {
            assert_eq!(serde_json::to_value(exists).expect("a word"), exists.as_str());
            assert_eq!((exists.to_string().parse(), format!("{exists:>10}").len()), (Ok(exists), 10));
        }
        let unknown = "finished".parse::<RunState>().expect_err("no such word");
        assert_eq!(unknown, "there is no \"finished\"; use one of running, done, skipped, held");
    }
}
