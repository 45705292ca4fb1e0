//! What can be said of a new place: an option for each key that the book has for places.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::PathBuf,
};

use anyhow::Result;
use clap::{Arg, ArgAction, ArgMatches, Command, Error, FromArgMatches, builder::ArgPredicate};
use serde_json::Value;
use wetbank_client::{KeyValue, NewAgreement, NewPlace};

use super::{WrongRequest, read_secret};

/// What was said of a new place.
#[derive(Debug, Default)]
pub(crate) struct PlaceKeys {
    kind: String,
    keys: BTreeMap<String, KeyValue>,
    /// Secrets to be asked for.
    asked: BTreeSet<String>,
    /// Secrets that stand in files.
    files: BTreeMap<String, PathBuf>,
    agreement: Option<NewAgreement>,
}

/// How a key is said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Said {
    Text,
    /// Several texts, each said by itself.
    List,
    Number,
    /// Yes or no; one that is yes unless it is said is said with `no-` before it.
    Flag(bool),
    Secret,
    Agreement,
    /// Only in the book.
    Elsewhere,
}

/// A key of the book, with the kinds of place that have it.
struct Key {
    word: &'static str,
    help: String,
    kinds: Vec<String>,
    said: Said,
}

/// A word for the life of the program: the options are made once.
fn kept(word: &str) -> &'static str {
    Box::leak(word.to_owned().into_boxed_str())
}

fn said(schema: &Value, key: &Value) -> Said {
    let inner = key["anyOf"].as_array().and_then(|any| any.first()).unwrap_or(key);
    match inner["$ref"].as_str() {
        Some(to) if to.ends_with("/SecretRef") => return Said::Secret,
        Some(to) if to.ends_with("/AgreementShape") => return Said::Agreement,
        Some(to) => {
            let meant = &schema["$defs"][to.trim_start_matches("#/$defs/")];
            return if meant["oneOf"].is_array() { Said::Text } else { Said::Elsewhere };
        }
        None => {}
    }
    let is =
        |word: &str| inner["type"] == word || inner["type"].as_array().is_some_and(|all| all.contains(&word.into()));
    match () {
        () if is("string") => Said::Text,
        () if is("array") && inner["items"]["type"] == "string" => Said::List,
        () if is("integer") => Said::Number,
        () if is("boolean") => Said::Flag(key["default"] == true),
        () => Said::Elsewhere,
    }
}

/// The words that a key takes, if it takes only some.
fn choices(schema: &Value, key: &Value) -> Option<String> {
    let inner = key["anyOf"].as_array().and_then(|any| any.first()).unwrap_or(key);
    let meant = &schema["$defs"][inner["$ref"].as_str()?.trim_start_matches("#/$defs/")];
    let words: Vec<&str> = meant["oneOf"].as_array()?.iter().filter_map(|one| one["const"].as_str()).collect();
    Some(words.join(", "))
}

/// Every key of every kind, in the order of the book; those that all kinds have at the end.
fn keys() -> Vec<Key> {
    let schema = wetbank_core::book_schema();
    let mut found: Vec<Key> = Vec::new();
    for variant in schema["$defs"]["Place"]["oneOf"].as_array().into_iter().flatten() {
        let kind = kept(variant["properties"]["kind"]["const"].as_str().unwrap_or_default());
        for (word, key) in variant["properties"].as_object().into_iter().flatten().skip(1) {
            let at = found.iter().position(|known| known.word == word).unwrap_or_else(|| {
                let text = key["description"].as_str().unwrap_or_default().replace('`', "");
                let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
                let help = text.trim_end_matches('.').to_owned();
                found.push(Key { word: kept(word), help, kinds: Vec::new(), said: said(&schema, key) });
                found.len() - 1
            });
            found[at].kinds.push(match choices(&schema, key) {
                Some(words) => format!("{kind}: {words}"),
                None => kind.to_owned(),
            });
        }
    }
    let all = wetbank_core::PlaceKind::ALL.len();
    found.sort_by_key(|key| key.kinds.len() == all);
    for key in found.iter_mut().filter(|key| key.kinds.len() < all) {
        let mark = if key.kinds[0].contains(':') { "; " } else { ", " };
        key.help.push_str(&format!(" ({})", key.kinds.join(mark)));
    }
    found
}

impl clap::Args for PlaceKeys {
    fn augment_args(command: Command) -> Command {
        let kinds: Vec<&str> = wetbank_core::PlaceKind::ALL.iter().map(|kind| kind.as_str()).collect();
        let kind = Arg::new("kind")
            .long("kind")
            .value_name("KIND")
            .required(true)
            .help(format!("What it is: {}", kinds.join(", ")));
        keys().into_iter().fold(command.arg(kind), |command, key| {
            let name = kept(&key.word.to_uppercase().replace('-', "_"));
            let arg = Arg::new(key.word).long(key.word).value_name(name).help(key.help.clone());
            match key.said {
                Said::Text => command.arg(arg),
                Said::List => {
                    command.arg(arg.action(ArgAction::Append).help(format!("{}. May be given again", key.help)))
                }
                Said::Number => command.arg(arg.value_parser(clap::value_parser!(i64))),
                Said::Flag(false) => command.arg(arg.action(ArgAction::SetTrue)),
                Said::Flag(true) => {
                    let help = format!("Not so: {}", key.help);
                    command.arg(arg.long(kept(&format!("no-{}", key.word))).action(ArgAction::SetTrue).help(help))
                }
                Said::Secret => {
                    let help = format!("{}. It is asked for, or read from standard input", key.help);
                    let name = kept(&format!("{}-file", key.word));
                    let file = Arg::new(name).long(name).value_name("FILE").conflicts_with(key.word);
                    let file = file.value_parser(clap::value_parser!(PathBuf)).help("The same, read from a file");
                    command.arg(arg.action(ArgAction::SetTrue).help(help)).arg(file)
                }
                Said::Agreement => command
                    .arg(arg.value_name("URL").requires_if(ArgPredicate::IsPresent, "client"))
                    .arg(
                        Arg::new("client")
                            .long("client")
                            .value_name("NAME")
                            .requires(key.word)
                            .help("The name under which Wetbank is registered with the authorization server"),
                    )
                    .arg(
                        Arg::new("right")
                            .long("right")
                            .value_name("RIGHT")
                            .requires(key.word)
                            .action(ArgAction::Append)
                            .help("What the connection may do, in that server's words; may be given again"),
                    ),
                Said::Elsewhere => command,
            }
        })
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl FromArgMatches for PlaceKeys {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, Error> {
        let mut all = Self::default();
        all.update_from_arg_matches(matches)?;
        Ok(all)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), Error> {
        let text = |word: &str| matches.get_one::<String>(word).cloned();
        self.kind = text("kind").unwrap_or_default();
        for key in keys() {
            let value = match key.said {
                Said::Text => text(key.word).map(KeyValue::Text),
                Said::List => {
                    let said = matches.get_many::<String>(key.word);
                    said.map(|list| KeyValue::List(list.cloned().collect()))
                }
                Said::Number => matches.get_one::<i64>(key.word).copied().map(KeyValue::Number),
                Said::Flag(usual) => matches.get_flag(key.word).then_some(KeyValue::Flag(!usual)),
                Said::Secret => {
                    if let Some(file) = matches.get_one::<PathBuf>(&format!("{}-file", key.word)) {
                        self.files.insert(key.word.to_owned(), file.clone());
                    } else if matches.get_flag(key.word) {
                        self.asked.insert(key.word.to_owned());
                    }
                    None
                }
                Said::Agreement => {
                    self.agreement = text(key.word).map(|server| NewAgreement {
                        server,
                        client: text("client").unwrap_or_default(),
                        rights: matches.get_many("right").into_iter().flatten().cloned().collect(),
                    });
                    None
                }
                Said::Elsewhere => None,
            };
            self.keys.extend(value.map(|value| (key.word.to_owned(), value)));
        }
        Ok(())
    }
}

impl PlaceKeys {
    /// The place that was meant; asks for its secrets, and for those that the kind needs besides what was said.
    pub fn into_place(mut self, name: &str) -> Result<NewPlace> {
        let schema = wetbank_core::book_schema();
        let variants = schema["$defs"]["Place"]["oneOf"].as_array();
        let is_it = |variant: &&Value| variant["properties"]["kind"]["const"] == self.kind.as_str();
        if let Some(variant) = variants.and_then(|all| all.iter().find(is_it)) {
            let given = self.keys.keys().map(|key| &variant["dependentRequired"][key.as_str()]);
            let needed: Vec<&Value> =
                given.chain([&variant["required"]]).flat_map(|all| all.as_array()).flatten().collect();
            for key in needed.into_iter().filter_map(Value::as_str) {
                let is_secret = said(&schema, &variant["properties"][key]) == Said::Secret;
                if is_secret && !self.files.contains_key(key) {
                    self.asked.insert(key.to_owned());
                }
            }
        }
        let mut secrets = BTreeMap::new();
        for (key, file) in self.files {
            let secret = std::fs::read_to_string(&file)
                .map_err(|e| WrongRequest(format!("the file {} cannot be read: {e}", file.display())))?;
            secrets.insert(key, secret);
        }
        for key in self.asked {
            let secret = read_secret(&format!("{key} of {name}"))?;
            secrets.insert(key, secret);
        }
        Ok(NewPlace { name: name.to_owned(), kind: self.kind, keys: self.keys, secrets, agreement: self.agreement })
    }
}

#[cfg(test)]
mod tests {
    use clap::Args;

    use super::*;

    fn read(typed: &str) -> Result<PlaceKeys, Error> {
        let command = PlaceKeys::augment_args(Command::new("add").no_binary_name(true));
        PlaceKeys::from_arg_matches(&command.try_get_matches_from(typed.split(' '))?)
    }

    #[test]
    fn every_key_of_every_kind_can_be_said_but_those_that_are_tables() {
        let elsewhere: Vec<&str> =
            keys().iter().filter(|key| key.said == Said::Elsewhere).map(|key| key.word).collect();
        assert_eq!(elsewhere, ["retry", "rates"]);
        assert!(keys().len() > 25);
    }

    #[test]
    fn what_is_said_becomes_keys_of_the_book() {
        let said = read("--kind ftp --host ftp.harlan.example --port 2121 --active --no-staged --user merrow").unwrap();
        let keys: Vec<String> = said.keys.iter().map(|(key, value)| format!("{key}={value:?}")).collect();
        let wanted = [
            "active=Flag(true)",
            "host=Text(\"ftp.harlan.example\")",
            "port=Number(2121)",
            "staged=Flag(false)",
            "user=Text(\"merrow\")",
        ];
        assert_eq!(keys, wanted);
    }

    #[test]
    fn secrets_are_asked_for_or_read_and_never_an_argument() {
        let said = read("--kind sftp --host h --user u --key-file id --password").unwrap();
        assert_eq!(said.files.keys().collect::<Vec<_>>(), ["key"]);
        assert_eq!(said.asked.iter().collect::<Vec<_>>(), ["password"]);
        assert!(read("--kind sftp --password secret").is_err());
    }

    #[test]
    fn an_agreement_needs_the_name_it_is_made_under() {
        let said =
            read("--kind webdav --url u --agreement https://drive.merrow.example --client wetbank --right a --right b");
        assert_eq!(said.unwrap().agreement.unwrap().rights, ["a", "b"]);
        assert!(read("--kind webdav --url u --agreement https://drive.merrow.example").is_err());
        assert!(read("--kind webdav --url u --client wetbank").is_err());
    }
}
