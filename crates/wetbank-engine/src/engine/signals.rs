//! Signals of other systems: proved, fresh, and none counts twice.
//!
//! The sender makes a proof of what it says: `HMAC-SHA256(secret, RULE "." TIME "." BODY)` (RFC
//! 2104) in hexadecimal, where `TIME` is the seconds since 1970 that it sends along. So a signal to one rule proves
//! nothing to another with the same secret.

use std::{collections::BTreeMap, time::Duration};

use aws_lc_rs::hmac;
use secrecy::ExposeSecret;
use wetbank_core::{Cause, Name, nested};

use super::Engine;
use crate::{Declined, EngineError, clock, intake::Beginning};

/// A signal counts for so long, and its sender's clock may differ from ours by as much.
const FRESH: Duration = Duration::from_secs(300);
/// Fields of a signal at most.
const MOST_FIELDS: usize = 200;
/// Fields within fields at most.
const DEEPEST: usize = 8;
/// Bytes of a field's text at most.
const LONGEST: usize = 2_000;

/// What another system sent.
#[derive(Debug, Clone, Copy)]
pub struct SignalCall<'a> {
    /// The rule that it is for.
    pub rule: &'a str,
    /// Seconds since 1970 in decimal, as it sent them.
    pub time: &'a str,
    /// The proof in hexadecimal.
    pub proof: &'a str,
    /// What it says: a JSON object, or nothing.
    pub body: &'a [u8],
}

/// Why a signal starts nothing.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SignalRefusal {
    /// There is no such rule that signals start, or the proof is wrong: who may not know which.
    #[error(
        "no rule of this name takes this signal: check the name, and that the proof was made with the right secret"
    )]
    Unproved,
    /// It is proved, but not of now.
    #[error("the signal is {0} s off our clock; signals count for five minutes, so check the clocks and send it anew")]
    Stale(i64),
    /// It was taken before.
    #[error("this very signal was taken before; a new one has another time or says something else")]
    Repeated,
    /// What it says cannot be used.
    #[error("what the signal says cannot be used: {0}")]
    Unusable(String),
    /// The rule is off.
    #[error("the rule \"{0}\" is off")]
    Off(Name),
    /// It could not be recorded.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

/// The proof of a signal.
fn proof(secret: &str, rule: &str, time: &str, body: &[u8]) -> hmac::Tag {
    let key = hmac::Key::new(hmac::HMAC_SHA256, secret.as_bytes());
    let mut context = hmac::Context::with_key(&key);
    context.update(rule.as_bytes());
    context.update(b".");
    context.update(time.as_bytes());
    context.update(b".");
    context.update(body);
    context.sign()
}

/// The proof that a sender makes, in hexadecimal.
pub fn signal_proof(secret: &str, rule: &str, time: &str, body: &[u8]) -> String {
    hex::encode(proof(secret, rule, time, body))
}

impl Engine {
    /// Starts a rule by a signal. Answers the run's number.
    ///
    /// # Errors
    ///
    /// Whatever is refused was not begun.
    pub async fn signal(&self, call: SignalCall<'_>) -> Result<i64, SignalRefusal> {
        let arrangement = self.core.arranged.now();
        let live = Name::new(call.rule).ok().and_then(|name| arrangement.rule(&name).cloned());
        let wanted = live.as_ref().and_then(|live| live.rule.starts.signal.as_ref());
        let secret = match wanted {
            Some(signal) => self.core.keys.secret_if_set(signal.secret.as_str()).await?,
            None => None,
        };
        let (Some(live), Some(secret)) = (live, secret) else { return Err(SignalRefusal::Unproved) };
        let right = proof(secret.expose_secret(), live.rule.name.as_str(), call.time, call.body);
        let given = hex::decode(call.proof.trim()).unwrap_or_default();
        if aws_lc_rs::constant_time::verify_slices_are_equal(right.as_ref(), &given).is_err() {
            return Err(SignalRefusal::Unproved);
        }
        let off = call.time.trim().parse::<i64>().ok().and_then(|time| clock::now().as_second().checked_sub(time));
        match off {
            Some(off) if off.unsigned_abs() <= FRESH.as_secs() => {}
            off => return Err(SignalRefusal::Stale(off.unwrap_or(i64::MAX))),
        }
        if !live.is_on {
            return Err(SignalRefusal::Off(live.rule.name.clone()));
        }
        let about = fields(call.body).map_err(SignalRefusal::Unusable)?;
        let once = Some(hex::encode(&given));
        let beginning = Beginning { about, once, ..Beginning::default() };
        let begun = self.core.intake.start_run(&live, Cause::Signal, beginning).await?;
        begun.ok_or(SignalRefusal::Repeated)
    }

    /// The commands that send a signal to a rule, to be copied: they ask for the secret and need nothing
    /// but a shell, openssl and curl.
    ///
    /// # Errors
    ///
    /// If no signal starts the rule.
    pub fn signal_example(&self, rule: &str, address: &str) -> Result<String, EngineError> {
        let arrangement = self.core.arranged.now();
        let name = Name::new(rule).map_err(|_| EngineError::unknown("rule", rule))?;
        let live = arrangement.rule(&name).ok_or_else(|| EngineError::unknown("rule", rule))?;
        let Some(signal) = &live.rule.starts.signal else {
            return Err(Declined::NoSignal(name).into());
        };
        Ok(format!(
            "read -rsp 'secret {secret}: ' SECRET\n\
             BODY='{body}'\n\
             TIME=$(date +%s)\n\
             PROOF=$(printf '%s.%s.%s' {name} \"$TIME\" \"$BODY\" | openssl dgst -sha256 -hmac \"$SECRET\" | sed 's/.*= //')\n\
             curl -sS -H \"Wetbank-Time: $TIME\" -H \"Wetbank-Proof: $PROOF\" --data-binary \"$BODY\" {address}/signal/{name}\n",
            secret = signal.secret,
            body = nested(live.rule.signal_fields().iter().map(|field| (field.as_str(), "B12"))),
        ))
    }
}

/// The fields of a JSON object as `signal.a.b` has them.
fn fields(body: &[u8]) -> Result<BTreeMap<String, String>, String> {
    let mut about = BTreeMap::new();
    if body.trim_ascii().is_empty() {
        return Ok(about);
    }
    let value: serde_json::Value = serde_json::from_slice(body).map_err(|error| format!("it is no JSON ({error})"))?;
    if !value.is_object() {
        return Err("it must be a JSON object, as in {\"item\": \"B12\"}".to_owned());
    }
    put(&mut about, "signal", &value, 0)?;
    Ok(about)
}

fn put(
    about: &mut BTreeMap<String, String>,
    word: &str,
    value: &serde_json::Value,
    depth: usize,
) -> Result<(), String> {
    use serde_json::Value;
    if depth > DEEPEST {
        return Err(format!("its fields lie deeper in each other than {DEEPEST} times"));
    }
    let inner = |key: &str| {
        let plain = !key.is_empty() && key.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '-');
        plain.then(|| format!("{word}.{key}"))
    };
    match value {
        Value::Object(fields) => {
            // A field whose name no placeholder can have is nobody's.
            for (key, value) in fields.iter().filter_map(|(key, value)| Some((inner(key)?, value))) {
                put(about, &key, value, depth + 1)?;
            }
            return Ok(());
        }
        Value::Array(list) => {
            for (at, value) in list.iter().enumerate() {
                put(about, &format!("{word}.{at}"), value, depth + 1)?;
            }
            return Ok(());
        }
        _ => {}
    }
    let text = match value {
        Value::String(text) => text.clone(),
        Value::Null => String::new(),
        other => other.to_string(),
    };
    if text.len() > LONGEST || about.len() >= MOST_FIELDS {
        return Err(format!("it has more than {MOST_FIELDS} fields, or one longer than {LONGEST} bytes"));
    }
    about.insert(word.to_owned(), text);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_proof_is_the_one_that_openssl_makes() {
        // printf '%s.%s.%s' tile-ready 1773468000 '{"item": "B12"}' | openssl dgst -sha256 -hmac tide
        let made = proof("tide", "tile-ready", "1773468000", b"{\"item\": \"B12\"}");
        let key = hmac::Key::new(hmac::HMAC_SHA256, b"tide");
        assert_eq!(made.as_ref(), hmac::sign(&key, b"tile-ready.1773468000.{\"item\": \"B12\"}").as_ref());
        assert_ne!(made.as_ref(), proof("tide", "tile-ready", "1773468001", b"{\"item\": \"B12\"}").as_ref());
        assert_ne!(made.as_ref(), proof("tide", "tile-gone", "1773468000", b"{\"item\": \"B12\"}").as_ref());
    }

    #[test]
    fn fields_are_texts_by_their_way() {
        let about = fields(br#"{"item": {"id": 12, "tags": ["a", null]}, "ok": true, "a b": 1, "x.y": 2}"#).unwrap();
        let told: Vec<_> = about.iter().map(|(key, text)| format!("{key}={text}")).collect();
        assert_eq!(told, ["signal.item.id=12", "signal.item.tags.0=a", "signal.item.tags.1=", "signal.ok=true"]);
        assert!(fields(b"  ").unwrap().is_empty());
    }

    #[test]
    fn what_is_no_object_or_has_no_bound_is_refused() {
        let deep = format!("{}1{}", "{\"a\":".repeat(20), "}".repeat(20));
        let many = format!("{{\"a\": [{}]}}", vec!["1"; 300].join(","));
        for body in ["[1]", "7", "nonsense", deep.as_str(), many.as_str()] {
            assert!(fields(body.as_bytes()).is_err(), "{body}");
        }
    }
}
