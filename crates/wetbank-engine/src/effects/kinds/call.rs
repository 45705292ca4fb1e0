//! Calling a web address.

use std::sync::atomic::Ordering::Relaxed;

use futures_util::StreamExt;
use wetbank_core::{CallBody, Template, step};
use wetbank_errands::{Calling, Content};

use super::{AtStep, Attempt, Does, Effect, FailureKind, StepDone};

impl Does for step::Call {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let render = |template: &Template| at.with_facts(|facts| template.render(facts));
        let fields = |fields: &[(String, Template)]| {
            fields.iter().map(|(key, value)| Ok((key.clone(), render(value)?))).collect::<Effect<Vec<_>>>()
        };
        let url = at.with_facts(|facts| self.url.render_address(facts))?;
        let headers = fields(&self.headers)?;
        let token = at.secret(self.token.as_ref()).await?;
        let source = matches!(self.body, CallBody::File).then(|| at.source()).transpose()?;
        let id = at.effects.record.journal.next_attempt();
        at.start(at.began(id, None, None), attempt).await?;
        let content = match (&self.body, source) {
            (CallBody::Empty, _) | (CallBody::File, None) => Content::Empty,
            (CallBody::Text(text), _) => Content::Text("text/plain; charset=utf-8", render(text)?),
            (CallBody::Json(pairs), _) => {
                let object: serde_json::Map<String, serde_json::Value> =
                    fields(pairs)?.into_iter().map(|(key, text)| (key, text.into())).collect();
                Content::Text("application/json", serde_json::Value::from(object).to_string())
            }
            (CallBody::File, Some(source)) => {
                let size = source.place.stat(&source.path).await?.fingerprint.size;
                let done = at.moving(size);
                let chunks = source.place.read(&source.path, 0).await?.map(move |chunk| {
                    if let Ok(chunk) = &chunk {
                        done.fetch_add(chunk.len() as u64, Relaxed);
                    }
                    chunk.map_err(std::io::Error::other)
                });
                Content::File(size, chunks.boxed())
            }
        };
        let (method, limit) = (self.method.clone(), self.limit);
        let calling = Calling { url, method, headers, token, key: at.key(), content, limit };
        let answer = tokio::select! {
            answer = wetbank_errands::call(calling) => answer?,
            () = at.stop.cancelled() => return Err(FailureKind::Stopping),
        };
        let said: String = answer.said.chars().take(300).collect();
        let said = if said.is_empty() { String::new() } else { format!(": {said}") };
        let note = format!("it answered {}{said}", answer.status);
        Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(at.hand, &note) })
    }
}
