//! Sections of the book that are still being made.

use std::sync::Arc;

use axum::{Json, extract::State};
use jiff::Timestamp;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{
    About, Amiss, Cause, DraftMistake, FileFacts, FilePath, KnownWhere, Phrase, PhraseOf, Placeholder, Rule, Sample,
    SectionKind, bare_rule, explain, known_here, known_values, rule_phrases, rule_sentence, samples, twin::Twin,
};
use wetbank_engine::{Drafted, Proposed};

use super::{
    rules::{FIRINGS, map},
    sections::{difference, kind_of},
};
use crate::{
    auth::Viewer,
    error::ApiError,
    extract::{Body, Part},
    shown::time,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(draft))
}

/// What a section would be, as text and as value, with every mistake; nothing is kept or changed.
#[utoipa::path(post, path = "/drafts/{kind}", tag = "book", params(("kind" = String, Path, description = "place, partner, calendar, database, twin or rule")), request_body = api::ProposedDraft, responses((status = 200, body = api::Draft), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 422, body = api::Problem)))]
pub(crate) async fn draft(
    _: Viewer,
    State(state): State<Shared>,
    Part(kind): Part<String>,
    Body(body): Body<api::ProposedDraft>,
) -> Result<Json<api::Draft>, ApiError> {
    let kind = kind_of(&kind)?;
    let proposed = match (body.text, body.name, body.value) {
        (Some(text), None, None) => Proposed::Text(text),
        (None, Some(name), Some(value)) => Proposed::Value { name, value, old: body.old },
        _ => return Err(ApiError::bad("a draft has a text, or a name and a value")),
    };
    let file = body.sample.as_ref().map(sample).transpose()?;
    Ok(Json(told(state.engine.draft(kind, proposed).await?, kind, file)))
}

/// The file that a rule is tried with.
fn sample(file: &api::SampleFile) -> Result<FileFacts, ApiError> {
    let FilePath { place, path } = FilePath::parse(&file.file).map_err(|e| ApiError::bad(e.to_string()))?;
    let modified = file.modified.parse().map_err(|_| ApiError::bad(format!("\"{}\" is no time", file.modified)))?;
    Ok(FileFacts { place, path, size: file.size, modified, about: About::default() })
}

/// What is taken to be so of the run in which the file comes.
fn assumed(facts: FileFacts, rule: &Rule) -> FileFacts {
    let cause = if rule.starts.arrival.is_some() { Cause::Arrival } else { Cause::Hand };
    let about = [("run.cause", cause.as_str()), ("run.event", "new"), ("count", "1")];
    facts.with(Arc::new(about.map(|(word, text)| (word.to_owned(), text.to_owned())).into()))
}

fn known(of: Placeholder, value: Option<String>) -> api::KnownValue {
    api::KnownValue {
        word: of.word.to_owned(),
        title: of.title.to_owned(),
        group: of.group.to_owned(),
        known: match of.known {
            KnownWhere::Anywhere => api::KnownWhere::Anywhere,
            KnownWhere::OfFiles => api::KnownWhere::OfFiles,
            KnownWhere::OfLetters => api::KnownWhere::OfLetters,
            KnownWhere::OfChains => api::KnownWhere::OfChains,
            KnownWhere::OfAccounts => api::KnownWhere::OfAccounts,
            KnownWhere::InFailures => api::KnownWhere::InFailures,
            KnownWhere::InMails => api::KnownWhere::InMails,
            KnownWhere::InPrograms => api::KnownWhere::InPrograms,
        },
        is_time: of.is_time,
        value,
    }
}

pub(super) fn told(drafted: Drafted, kind: SectionKind, file: Option<FileFacts>) -> api::Draft {
    let now = Timestamp::now();
    let rule = drafted.draft.book.as_ref().and_then(|book| book.rules.first());
    let twin = drafted.draft.book.as_ref().and_then(|book| book.twins.first());
    let of_twin = || {
        let twin = twin?;
        Some(twin.starts.schedule.as_ref()?.sample(now, &twin.zone, FIRINGS))
    };
    let firings = |rule: &Rule| {
        let schedule = rule.starts.schedule.as_ref();
        schedule.map(|schedule| schedule.sample(now, &rule.zone, FIRINGS)).unwrap_or_default()
    };
    // What is typed is tried from the first key on, long before the rule is whole.
    let bare =
        (kind == SectionKind::Rule && rule.is_none()).then(|| bare_rule(&drafted.name, &drafted.value)).flatten();
    let tried_as = rule.or(bare.as_ref());
    let file = file.zip(tried_as).map(|(facts, rule)| assumed(facts, rule));
    let values = match (tried_as, &file) {
        (Some(rule), Some(file)) => {
            known_values(rule, file, now).into_iter().map(|one| known(one.of, one.value)).collect()
        }
        (Some(rule), None) => known_here(rule).map(|of| known(of, None)).collect(),
        (None, _) => Vec::new(),
    };
    let samples = tried_as.zip(file.as_ref()).map(|(rule, file)| samples(rule, &drafted.value, file, now));
    let sample = |one: Sample| api::DraftSample { pointer: one.pointer, text: one.text };
    api::Draft {
        sentence: rule.map(rule_sentence).or_else(|| twin.map(Twin::words)),
        phrases: rule.map(|rule| rule_phrases(rule).into_iter().map(phrase).collect()).unwrap_or_default(),
        firings: rule.map(firings).or_else(of_twin).unwrap_or_default().into_iter().map(time).collect(),
        branches: rule.map(map::drawn).unwrap_or_default(),
        known: values,
        samples: samples.unwrap_or_default().into_iter().map(sample).collect(),
        tried: rule
            .zip(file.as_ref())
            .map(|(rule, file)| map::explained_rule(rule, explain(rule, file, now), Vec::new())),
        version: drafted.version,
        differences: drafted.differences.into_iter().map(difference).collect(),
        name: drafted.name,
        value: drafted.value,
        mistakes: drafted.draft.mistakes.into_iter().map(mistake).collect(),
        text: drafted.draft.text,
    }
}

fn phrase(Phrase { text, of }: Phrase) -> api::DraftPhrase {
    let pointer = of.map(|of| match of {
        PhraseOf::Starts => "/starts".to_owned(),
        PhraseOf::Branch(branch) => format!("/branch/{branch}"),
        PhraseOf::Step(branch, step) => format!("/branch/{branch}/steps/{step}"),
        PhraseOf::Original(branch) => format!("/branch/{branch}/original"),
    });
    api::DraftPhrase { text, pointer }
}

fn mistake(mistake: DraftMistake) -> api::DraftMistake {
    let (written, nearest) = match mistake.amiss {
        Amiss::Key { written, nearest } | Amiss::Name { written, nearest, .. } => (Some(written), nearest),
        Amiss::Meaning | Amiss::Missing => (None, None),
    };
    let DraftMistake { pointer, line, message, .. } = mistake;
    api::DraftMistake { pointer, line, message, written, nearest }
}
