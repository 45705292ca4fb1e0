//! What every kind of step tells of itself.

use schemars::JsonSchema;
use serde::de::DeserializeOwned;

use super::{IfExists, Step, Target};
use crate::{
    ChainEvent, Name, PlaceName, Template, TemplateFacts,
    shape::{Checked, Here},
};

/// What a step is wanted for; steps are offered under these headings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Group {
    /// Seal it, open it, sign it, check it.
    Protect,
    /// Put it somewhere.
    Put,
    /// Make another file of it.
    Change,
    /// Tell somebody or something.
    Tell,
    /// Decide how it goes on.
    Decide,
    /// Bring data in or out.
    Data,
}

impl Group {
    /// Every group, in the order they are offered.
    pub const ALL: [Self; 6] = [Self::Put, Self::Protect, Self::Change, Self::Tell, Self::Data, Self::Decide];

    /// What one wants of it.
    #[must_use]
    pub fn title(self) -> &'static str {
        match self {
            Self::Protect => "Protect it",
            Self::Put => "Put it somewhere",
            Self::Change => "Change it",
            Self::Tell => "Tell somebody",
            Self::Decide => "Decide how it goes on",
            Self::Data => "Bring data in or out",
        }
    }
}

/// How what stands in placeholders is told.
#[derive(Debug, Clone, Copy)]
pub enum Telling<'a> {
    /// As the rule has it: `{{ file.name }}`.
    AsWritten,
    /// Filled in for a file; as the rule has it where that is known only when the rule runs.
    For(&'a TemplateFacts<'a>),
}

impl Telling<'_> {
    /// A name, a folder or a text.
    pub(crate) fn of(self, template: &Template) -> String {
        self.filled(template, Template::render)
    }

    /// A web address.
    pub(crate) fn address(self, template: &Template) -> String {
        self.filled(template, Template::render_address)
    }

    fn filled<E>(self, template: &Template, fill: fn(&Template, &TemplateFacts<'_>) -> Result<String, E>) -> String {
        match self {
            Self::For(facts) => fill(template, facts).unwrap_or_else(|_| template.source().to_owned()),
            Self::AsWritten => template.source().to_owned(),
        }
    }
}

/// What a step shifts: which file is in hand after it, and what lies where.
#[derive(Debug, Clone, Copy)]
pub enum Shift<'a> {
    /// Nothing: the file in hand stays the same.
    Nothing,
    /// A file of this name is made, and is the one in hand from then on.
    Makes(&'a Template),
    /// A file of this name is made beside the one in hand. Both go the rest of the way.
    Adds(&'a Template),
    /// Files come out of the one in hand; which they are, only their content tells.
    Splits,
    /// A copy comes to lie there.
    Puts(&'a Target),
    /// The file comes to lie there, and here no more.
    Moves(&'a Target),
    /// It gets another name where it lies.
    Renames(&'a Template, IfExists),
    /// A folder is there afterwards.
    MakesFolder(&'a PlaceName, &'a Template),
    /// The file that came is there no more.
    Deletes,
    /// It waits for a person.
    Holds(&'a str),
}

/// A kind of step. What most kinds answer alike has a default.
pub(crate) trait Kind: Sized {
    /// What stands behind its word in the book; its comments are the kind's documentation.
    type Shape: DeserializeOwned + JsonSchema;

    /// What it is wanted for.
    const GROUP: Group;

    /// One as the reference shows it, with what stands around it left out.
    const EXAMPLE: &'static str;

    /// Checks what was written and makes the step of it.
    fn resolve(shape: &Self::Shape, here: &Here<'_>) -> Checked<Self>;

    /// A step that is done before it, unless the rule did the same itself just before.
    fn before(_shape: &Self::Shape, _here: &Here<'_>, _previous: Option<&Step>) -> Checked<Option<Step>> {
        Ok(None)
    }

    /// It in plain words, in two halves: what is done (`encrypt it`), and the rest (`to skerrow-harbour`).
    fn told(&self, telling: Telling<'_>) -> (&'static str, String);

    /// What it shifts.
    fn shift(&self) -> Shift<'_> {
        self.target().map_or(Shift::Nothing, Shift::Puts)
    }

    /// Every template in it.
    fn templates(&self) -> Vec<&Template> {
        self.target().map(|target| vec![&target.folder, &target.name]).unwrap_or_default()
    }

    /// Whether it does something with a file: without one it cannot be done.
    fn needs_file(&self) -> bool {
        true
    }

    /// Whether there is a file after it also if there was none before.
    fn makes_file(&self) -> bool {
        false
    }

    /// Whether no file is in hand after it.
    fn leaves_no_file(&self) -> bool {
        false
    }

    /// Whether it needs all files of the run together: each waits there for the others.
    fn joins(&self) -> bool {
        false
    }

    /// Whether it says what becomes of the original, and nothing can follow it.
    fn ends_file(&self) -> bool {
        false
    }

    /// The branch that goes on with the file instead of this one.
    fn hands_over_to(&self) -> Option<usize> {
        None
    }

    /// Whether doing it again after a stop in the middle of it does no harm.
    fn is_repeatable(&self) -> bool {
        true
    }

    /// What it means for other rules that it is done.
    fn event(&self) -> Option<ChainEvent> {
        None
    }

    /// Where it puts the file.
    fn target(&self) -> Option<&Target> {
        None
    }

    /// The place it writes to.
    fn place(&self) -> Option<&PlaceName> {
        self.target().map(|target| &target.place)
    }

    /// The database it uses.
    fn database(&self) -> Option<&Name> {
        None
    }
}
