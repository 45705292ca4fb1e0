//! Rights within groups of rules, places and twins.
//!
//! Everybody who signs in sees everything; what somebody may do can be more within a group. Who may arrange within a group
//! only cannot reach beyond it: neither by giving something to another group, nor by a rule that names other places, a secret, a
//! program or a web address. Places themselves are arranged by who may arrange everywhere.

use wetbank_core::{BY_HAND, Name, Role, SectionKind, secrets_named, section_group, section_value, twin::twin_name};
use wetbank_engine::Engine;
use wetbank_people::Caller;

use crate::{
    auth::{lacks, needs},
    error::ApiError,
};

/// Whether somebody may do what needs a role with a section.
pub(crate) fn may(engine: &Engine, caller: &Caller, role: Role, kind: SectionKind, name: &str) -> Result<(), ApiError> {
    if caller.rights.role >= role {
        return Ok(());
    }
    let group = engine.arrangement().group(kind, name);
    within(caller, role, group.as_deref(), &format!("the {} \"{name}\"", kind.as_str()))
}

fn within(caller: &Caller, role: Role, group: Option<&str>, what: &str) -> Result<(), ApiError> {
    if caller.rights.within(group) >= role {
        return Ok(());
    }
    let belongs =
        group.map_or_else(|| "belongs to no group".to_owned(), |group| format!("belongs to the group {group}"));
    Err(lacks(format!("{what} {belongs}, where {} is not {role}; an owner can change that", caller.who)))
}

/// Whether somebody may act on what a rule does, or the passes of a twin.
pub(crate) fn may_act(engine: &Engine, caller: &Caller, rule: &str) -> Result<(), ApiError> {
    let arrangement = engine.arrangement();
    let twin = Name::new(rule).ok().and_then(|name| twin_name(&name));
    match twin.filter(|twin| arrangement.twins.iter().any(|live| live.twin.name == *twin)) {
        Some(twin) => may(engine, caller, Role::Operator, SectionKind::Twin, twin.as_str()),
        None if rule == BY_HAND => within(caller, Role::Operator, None, "what people move by hand"),
        None => may(engine, caller, Role::Operator, SectionKind::Rule, rule),
    }
}

/// The same for an item; one that is not there is nobody's.
pub(crate) async fn may_act_on_item(engine: &Engine, caller: &Caller, item: i64) -> Result<(), ApiError> {
    if caller.rights.role >= Role::Operator {
        return Ok(());
    }
    match engine.journal().work(item).await? {
        Some(work) => may_act(engine, caller, work.rule.as_str()),
        None => Ok(()),
    }
}

/// The same for a run.
pub(crate) async fn may_act_on_run(engine: &Engine, caller: &Caller, run: i64) -> Result<(), ApiError> {
    if caller.rights.role >= Role::Operator {
        return Ok(());
    }
    match engine.journal().run(run).await? {
        Some(run) => may_act(engine, caller, &run.rule),
        None => Ok(()),
    }
}

/// Whether somebody may put this text of a section in force: what is there must be hers to arrange, what comes in its
/// place, and every place that it names.
pub(crate) async fn may_put(
    engine: &Engine,
    caller: &Caller,
    kind: SectionKind,
    name: &str,
    text: &str,
) -> Result<(), ApiError> {
    if caller.rights.role >= Role::Manager {
        return Ok(());
    }
    let what = format!("the {} \"{name}\"", kind.as_str());
    // Where a place leads says what can be reached at all.
    if !matches!(kind, SectionKind::Rule | SectionKind::Twin) {
        return needs(caller, Role::Manager);
    }
    if engine.journal().section(kind.as_str(), name).await?.is_some() {
        may(engine, caller, Role::Manager, kind, name)?;
    }
    within(caller, Role::Manager, section_group(kind, text).as_deref(), &format!("{what}, as it would be,"))?;
    let book = engine.check_book(&[(format!("{}.{name}", kind.as_str()), text.to_owned())], false).await?;
    let of_rules = book.rules.iter().flat_map(|rule| rule.places());
    let of_twins = book.twins.iter().filter_map(|twin| twin.rule()).flat_map(|rule| rule.places());
    let sides = book.twins.iter().flat_map(|twin| [twin.folders.near.place.clone(), twin.folders.far.place.clone()]);
    for place in of_rules.chain(of_twins).chain(sides) {
        may(engine, caller, Role::Manager, SectionKind::Place, place.as_str())?;
    }
    // What starts a program, calls a server or opens a secret reaches beyond any group.
    let value = section_value(kind, text).map(|(_, value)| value).unwrap_or_default();
    if let Some(secret) = secrets_named(&value).into_iter().next() {
        return Err(lacks(format!("{what} names the secret \"{secret}\": that needs the role manager everywhere")));
    }
    let value = serde_json::Value::from(value);
    match FAR_REACHING.into_iter().find(|step| names_step(&value, step)) {
        Some(step) => Err(lacks(format!("{what} has the step {step}: that needs the role manager everywhere"))),
        None => Ok(()),
    }
}

/// Steps that reach beyond the places that a rule names.
const FAR_REACHING: [&str; 5] = ["program", "align", "load", "extract", "call"];

/// Whether a step of this kind stands anywhere in a rule.
fn names_step(value: &serde_json::Value, kind: &str) -> bool {
    match value {
        serde_json::Value::Object(table) => table.iter().any(|(key, value)| match (key.as_str(), value) {
            ("steps", serde_json::Value::Array(steps)) => {
                steps.iter().any(|step| step.get(kind).is_some()) || steps.iter().any(|step| names_step(step, kind))
            }
            _ => names_step(value, kind),
        }),
        serde_json::Value::Array(list) => list.iter().any(|value| names_step(value, kind)),
        _ => false,
    }
}
