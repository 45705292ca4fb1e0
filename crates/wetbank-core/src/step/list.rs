//! The list of all kinds of step, and what is made of it.

use std::borrow::Cow;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::Deserialize;
use serde_json::{Map, Value};
use toml::Spanned;

use super::{
    Align, Call, CheckManifest, Compress, Continue, ConvertText, Copy, Decrypt, Delete, Deliver, Encrypt, Expand,
    Extract, Fetch, Hold, Kind, Load, Mail, MakeFolder, Manifest, Move, Note, Pack, Program, Rename, Shift, Sign,
    Target, Telling, Unpack, Verify,
};
use crate::{
    ChainEvent, Name, PlaceName, Template,
    book::raw::{Condition, Retry},
    shape::{Checked, Here},
};

/// Hands every kind of step, with its word in the book, to a macro. The order is that of the reference.
#[macro_export]
macro_rules! with_step_kinds {
    ($then:ident) => {
        $then! {
            Encrypt "encrypt";
            Decrypt "decrypt";
            Sign "sign";
            Verify "verify";
            Compress "compress";
            Expand "expand";
            ConvertText "convert-text";
            Pack "pack";
            Unpack "unpack";
            Manifest "manifest";
            CheckManifest "check-manifest";
            Copy "copy";
            Fetch "fetch";
            Deliver "deliver";
            Move "move";
            Rename "rename";
            Delete "delete";
            MakeFolder "make-folder";
            Align "align";
            Mail "mail";
            Call "call";
            Program "program";
            Load "load";
            Extract "extract";
            Note "note";
            Continue "continue";
            Hold "hold";
        }
    };
}

/// What follows a failure path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Then {
    /// That is the end of the file: it is not held, and its run says which step failed and that this was done.
    End,
    /// The steps after this one are done.
    GoOn,
}

/// What every step takes besides what its kind takes.
#[derive(JsonSchema)]
#[schemars(rename_all = "kebab-case")]
#[expect(dead_code, reason = "tells the schema what is common; the fields of every step are read")]
pub(crate) struct Common {
    /// The step is left out for files for which this does not hold.
    #[schemars(rename = "if", title = "Only if")]
    condition: Option<Condition>,
    /// When what failed is tried again; else as the rule says, or the place where it failed.
    #[schemars(title = "Try again")]
    retry: Option<Retry>,
    /// What is done instead when it failed for good.
    #[schemars(title = "When it fails")]
    on_failure: Option<Vec<StepShape>>,
    /// What follows those steps.
    #[schemars(title = "And then", extend("default" = "end"))]
    then: Option<Then>,
}

macro_rules! define {
    ($($kind:ident $word:literal;)*) => {
        /// One thing done to the file in hand. Each step's result is the next one's file.
        #[derive(Debug, Clone)]
        pub enum Step {
            $(#[doc = concat!("`", $word, "`")] $kind(Box<$kind>),)*
        }

        /// One thing to do, and for which files, and what follows when it fails.
        #[derive(Debug, Deserialize)]
        #[serde(deny_unknown_fields, rename_all = "kebab-case")]
        #[expect(non_snake_case, reason = "a field for each kind, named like it")]
        pub(crate) struct StepShape {
            #[serde(rename = "if")]
            pub condition: Option<Spanned<Condition>>,
            pub retry: Option<Retry>,
            pub on_failure: Option<Vec<Spanned<StepShape>>>,
            pub then: Option<Then>,
            $(#[serde(rename = $word)] pub $kind: Option<Box<<$kind as Kind>::Shape>>,)*
        }

        impl StepShape {
            /// Makes the step of it, and the one that is to be done before.
            pub fn resolve(&self, here: &Here<'_>, previous: Option<&Step>) -> Checked<(Option<Step>, Step)> {
                match [$(self.$kind.is_some(),)*].iter().filter(|there| **there).count() {
                    0 => return Err(here.wrong("a step says what is done, as in { copy = { to = \"archive\" } }")),
                    1 => {}
                    _ => return Err(here.wrong("a step does one thing; write two steps, each in its own { }")),
                }
                $(if let Some(shape) = &self.$kind {
                    let before = <$kind as Kind>::before(shape, here, previous)?;
                    return Ok((before, Step::$kind(Box::new(<$kind as Kind>::resolve(shape, here)?))));
                })*
                unreachable!("one of them is there")
            }

            /// The schema of each kind: its word, its group, an example, and what stands behind the word.
            fn kinds(generator: &mut SchemaGenerator) -> Vec<KindSchema> {
                vec![$(KindSchema {
                    word: $word,
                    group: serde_json::to_value(<$kind as Kind>::GROUP).expect("a plain word"),
                    example: <$kind as Kind>::EXAMPLE,
                    shape: <$kind as Kind>::Shape::json_schema(generator),
                },)*]
            }
        }

        impl Step {
            /// The word for this kind of step.
            pub fn kind(&self) -> &'static str {
                match self { $(Self::$kind(_) => $word,)* }
            }
        }

        /// Asks whichever kind it is.
        macro_rules! ask {
            ($step:expr, $question:ident) => {
                match $step { $(Step::$kind(step) => step.$question(),)* }
            };
            ($step:expr, $question:ident, $told:expr) => {
                match $step { $(Step::$kind(step) => step.$question($told),)* }
            };
        }
    };
}

with_step_kinds!(define);

impl Step {
    /// It in plain words: `encrypt it to skerrow-harbour`.
    pub fn words(&self, telling: Telling<'_>) -> String {
        let (done, rest) = self.told(telling);
        let gap = if rest.is_empty() || rest.starts_with(',') { "" } else { " " };
        format!("{done}{gap}{rest}")
    }

    /// The same in two halves: what is done (`encrypt it`), and the rest (`to skerrow-harbour`).
    pub fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ask!(self, told, telling)
    }

    /// What it shifts.
    pub fn shift(&self) -> Shift<'_> {
        ask!(self, shift)
    }

    /// Every template in it.
    pub fn templates(&self) -> Vec<&Template> {
        ask!(self, templates)
    }

    /// Whether it needs all files of the run together: each waits there for the others.
    pub fn joins(&self) -> bool {
        ask!(self, joins)
    }

    /// Whether it does something with a file: without one it cannot be done.
    pub fn needs_file(&self) -> bool {
        ask!(self, needs_file)
    }

    /// Whether there is a file after it also if there was none before.
    pub fn makes_file(&self) -> bool {
        ask!(self, makes_file)
    }

    /// Whether no file is in hand after it.
    pub fn leaves_no_file(&self) -> bool {
        ask!(self, leaves_no_file)
    }

    /// Whether it says what becomes of the original, and nothing can follow it.
    pub fn ends_file(&self) -> bool {
        ask!(self, ends_file)
    }

    /// The index of the branch that goes on with the file instead of this one.
    pub fn hands_over_to(&self) -> Option<usize> {
        ask!(self, hands_over_to)
    }

    /// Whether doing it again after a stop in the middle of it does no harm.
    pub fn is_repeatable(&self) -> bool {
        ask!(self, is_repeatable)
    }

    /// What it means for other rules that it is done.
    pub fn event(&self) -> Option<ChainEvent> {
        ask!(self, event)
    }

    /// The step's target, if it has one.
    pub fn target(&self) -> Option<&Target> {
        ask!(self, target)
    }

    /// The place it writes to.
    pub fn place(&self) -> Option<&PlaceName> {
        ask!(self, place)
    }

    /// The database it uses.
    pub fn database(&self) -> Option<&Name> {
        ask!(self, database)
    }
}

/// One kind, as the schema tells it.
struct KindSchema {
    word: &'static str,
    group: Value,
    example: &'static str,
    shape: Schema,
}

impl KindSchema {
    /// The step as a whole: the kind's word and what all steps take.
    fn variant(mut self, common: &Map<String, Value>) -> Value {
        let told = |key: &str, shape: &Schema| shape.get(key).cloned().unwrap_or_default();
        let (title, description) = (told("title", &self.shape), told("description", &self.shape));
        for key in ["title", "description", "$schema"] {
            self.shape.remove(key);
        }
        let mut properties = Map::from_iter([(self.word.to_owned(), self.shape.to_value())]);
        properties.extend(common.clone());
        serde_json::json!({
            "title": title,
            "description": description,
            "group": self.group,
            "example": self.example,
            "type": "object",
            "properties": properties,
            "required": [self.word],
            "additionalProperties": false,
        })
    }
}

impl JsonSchema for StepShape {
    fn schema_name() -> Cow<'static, str> {
        "Step".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let common = Common::json_schema(generator);
        let common = common.get("properties").and_then(Value::as_object).cloned().unwrap_or_default();
        let variants: Vec<Value> = Self::kinds(generator).into_iter().map(|kind| kind.variant(&common)).collect();
        json_schema!({ "title": "Step", "oneOf": variants })
    }
}
