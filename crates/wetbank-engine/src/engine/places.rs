//! Places: how they do, testing them, their host keys.

use std::sync::Arc;

use secrecy::{ExposeSecret, SecretString};
use serde_json::{Map, Value, json};
use wetbank_core::{Known, Name, RelPath, SectionKind, section_text, section_value};
use wetbank_places::{Identity, Place, PlaceError, PlaceErrorKind, ProbeStep, probe, probe_server};

use super::{Engine, PlaceStatus};
use crate::{Declined, EngineError};

/// What a new place is made of: keys of the book with their values. Secrets go into the vault,
/// their names into the book.
#[derive(Debug, Default)]
pub struct NewPlaceKeys {
    /// The kind.
    pub kind: String,
    /// The book's other keys, those left empty included.
    pub keys: Vec<(String, NewPlaceValue)>,
    /// Keys whose value is a secret, as in `password`.
    pub secrets: Vec<(String, SecretString)>,
    /// What somebody is to agree to, in place of a password.
    pub agreement: Option<NewAgreement>,
}

/// What somebody is to agree to.
#[derive(Debug, Default)]
pub struct NewAgreement {
    /// The authorization server.
    pub server: String,
    /// The name under which Wetbank is registered there.
    pub client: String,
    /// What it is to be allowed to do.
    pub rights: Vec<String>,
}

/// A value in a place's text.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the names say it")]
pub enum NewPlaceValue {
    /// Yes or no.
    Flag(bool),
    Number(i64),
    Text(String),
    List(Vec<String>),
}

/// `{ secret = "…" }`
fn secret(name: &str) -> Value {
    json!({ "secret": name })
}

/// The text of a new place, and its secrets under the names that the text has for them.
fn text_of(name: &Name, new: &NewPlaceKeys) -> Result<(String, Vec<(String, SecretString)>), EngineError> {
    let secrets: Vec<_> = new.secrets.iter().map(|(key, value)| (format!("{name}-{key}"), value.clone())).collect();
    let mut place = Map::from_iter([("kind".to_owned(), new.kind.trim().into())]);
    for (key, value) in &new.keys {
        let value: Value = match value {
            NewPlaceValue::Flag(flag) => (*flag).into(),
            NewPlaceValue::Number(number) => (*number).into(),
            NewPlaceValue::Text(text) if text.trim().is_empty() => continue,
            NewPlaceValue::Text(text) => text.trim().into(),
            NewPlaceValue::List(list) => trimmed(list).into(),
        };
        place.insert(key.clone(), value);
    }
    place.extend(new.secrets.iter().zip(&secrets).map(|((key, _), (name, _))| (key.clone(), secret(name))));
    if let Some(NewAgreement { server, client, rights }) = &new.agreement {
        let grant = secret(&format!("{name}-grant"));
        let (server, client, rights) = (server.trim(), client.trim(), trimmed(rights));
        place.insert(
            "agreement".to_owned(),
            json!({ "server": server, "client": client, "rights": rights, "grant": grant }),
        );
    }
    Ok((section_text(SectionKind::Place, name.as_str(), None, &place)?, secrets))
}

/// Texts without the blanks around them, but for those that are empty.
fn trimmed(list: &[String]) -> Vec<&str> {
    list.iter().map(|text| text.trim()).filter(|text| !text.is_empty()).collect()
}

impl Engine {
    /// A place ready to use.
    pub fn place(&self, name: &str) -> Result<Arc<dyn Place>, EngineError> {
        let arrangement = self.core.arranged.now();
        let name = Name::new(name).map_err(|_| EngineError::unknown("place", name))?;
        if !arrangement.specs.contains_key(&name) {
            return Err(EngineError::unknown("place", name));
        }
        Ok(arrangement.place(&name)?)
    }

    /// Makes a folder of a place, and those above it.
    pub async fn make_folder(&self, place: &str, folder: &RelPath) -> Result<(), EngineError> {
        let place = self.place(place)?;
        let names = place.capabilities().names;
        if let Some(detail) = folder.parts().find_map(|part| names.refuse(part)) {
            let (kind, name, path) = (PlaceErrorKind::BadName, place.name().clone(), folder.clone());
            return Err(PlaceError { kind, place: name, call: "make folder", path, detail, secret: None }.into());
        }
        Ok(place.make_folder(folder).await?)
    }

    /// How every place is doing.
    pub fn places(&self) -> Vec<PlaceStatus> {
        let arrangement = self.core.arranged.now();
        arrangement
            .specs
            .iter()
            .map(|(name, spec)| {
                let health = self.core.moorings.health(name);
                let broken = arrangement.places.get(name).and_then(|p| p.as_ref().err().cloned());
                PlaceStatus {
                    name: name.clone(),
                    spec: spec.clone(),
                    text: arrangement.texts.get(name).cloned().unwrap_or_default(),
                    error: broken.or(health.error),
                    at: health.at,
                    since: health.since,
                    again: health.paused_until,
                    rules: arrangement
                        .rules
                        .iter()
                        .filter(|live| live.rule.places().contains(name))
                        .map(|live| live.rule.name.clone())
                        .collect(),
                    twins: arrangement
                        .twins
                        .iter()
                        .filter(|live| live.twin.uses(name))
                        .map(|live| live.twin.name.clone())
                        .collect(),
                }
            })
            .collect()
    }

    /// Tests a place step by step, as the service.
    pub async fn test_place(&self, name: &str, write: bool) -> Result<Vec<ProbeStep>, EngineError> {
        let place = self.place(name)?;
        let steps = probe(place.as_ref(), write).await;
        Ok(steps)
    }

    /// Adds a place to the book, with its secret. Nothing is changed unless all of it is right:
    /// neither a place nor a secret that is there already is touched.
    pub async fn add_place(&self, name: &str, new: &NewPlaceKeys, who: &str) -> Result<(), EngineError> {
        let name = Name::new(name.trim())?;
        if self.core.arranged.now().specs.contains_key(&name) {
            return Err(Declined::PlaceThere(name).into());
        }
        let (written, secrets) = text_of(&name, new)?;
        let proposed = [(format!("place.{name}"), written)];
        self.check_book(&proposed, false).await?;
        let kept = self.core.journal.secrets().await?;
        for (secret, value) in &secrets {
            if kept.iter().any(|(known, _)| known == secret) {
                return Err(Declined::SecretThere(secret.clone()).into());
            }
            if value.expose_secret().is_empty() {
                return Err(Declined::SecretEmpty.into());
            }
        }
        for (secret, value) in &secrets {
            self.set_secret(secret, value).await?;
        }
        self.apply_book(&proposed, false, who).await?;
        Ok(())
    }

    /// Tests a place that is not there yet, and changes nothing: whether its server is reached, and
    /// with `sign_in` whether one can sign in and list. Answers its address as it was understood,
    /// the steps, and what the server shows if that is not confirmed.
    pub async fn try_place(
        &self,
        new: &NewPlaceKeys,
        sign_in: bool,
    ) -> Result<(String, Vec<ProbeStep>, Option<Identity>), EngineError> {
        let name = Name::new("new").expect("a plain name");
        let (text, secrets) = text_of(&name, new)?;
        let read = wetbank_core::parse_book(&[("place.new".to_owned(), text)], &Known::default());
        let book = read.map_err(EngineError::Book)?;
        let Some((_, spec)) = book.places.first() else {
            return Err(Declined::NothingTyped.into());
        };
        let steps = match self.build_with(&name, spec, &secrets).await {
            Ok(place) if sign_in => probe(place.as_ref(), false).await,
            Ok(place) => probe_server(place.as_ref()).await,
            Err(error) => return Err(error.into()),
        };
        let asks = |e: &PlaceError| matches!(e.kind, PlaceErrorKind::HostKey | PlaceErrorKind::Certificate);
        let asks = steps.iter().any(|step| step.outcome.as_ref().is_err_and(asks));
        let identity = if asks { wetbank_places::shown_identity(&name, spec).await? } else { None };
        Ok((spec.address(), steps, identity))
    }

    /// What a place's server shows of itself now, without trusting it.
    pub async fn shown_identity(&self, name: &str) -> Result<Option<Identity>, EngineError> {
        let arrangement = self.core.arranged.now();
        let key = Name::new(name).map_err(|_| EngineError::unknown("place", name))?;
        match arrangement.specs.get(&key) {
            Some(spec) => Ok(wetbank_places::shown_identity(&key, spec).await?),
            None => Err(EngineError::unknown("place", name)),
        }
    }

    /// Writes what a person confirmed into the place's text in the book.
    pub async fn confirm_identity(&self, name: &str, identity: &Identity, who: &str) -> Result<(), EngineError> {
        let turn = self.core.arranged.turn().await;
        let sections = self.core.journal.sections().await?;
        let section = sections
            .iter()
            .find(|s| s.kind == "place" && s.name == name)
            .ok_or_else(|| EngineError::unknown("place", name))?;
        let (_, mut place) = section_value(SectionKind::Place, &section.text)?;
        place.insert(identity.key.to_owned(), identity.fingerprint.as_str().into());
        let text = section_text(SectionKind::Place, name, Some(&section.text), &place)?;
        self.apply_in_turn(&turn, &[(format!("place.{name}"), text)], false, who).await?;
        Ok(())
    }
}
