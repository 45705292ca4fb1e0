//! Comparing a file with a list of checksums.

use futures_util::StreamExt;
use wetbank_archive::ArchiveError;
use wetbank_core::{FilePath, step};

use super::{AtStep, Attempt, Does, Effect, FailureKind, StepDone};
use crate::effects::{
    checksums::{find_listed, sum},
    reading::Reading,
};

/// A longer list of checksums is none.
const LONGEST_LIST: usize = 64 << 20;

impl Does for step::CheckManifest {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let list = at.with_facts(|facts| self.name.render_name(&at.work.file.path.parent(), facts))?;
        let place = at.place(&at.work.file.place)?;
        let source = at.source()?;
        let id = at.effects.record.journal.next_attempt();
        let shown = FilePath { place: place.name().clone(), path: list.clone() };
        at.start(at.began(id, Some(shown.clone()), None), attempt).await?;
        let mut text = Vec::new();
        let mut chunks = place.read(&list, 0).await?;
        while let Some(chunk) = chunks.next().await.transpose()? {
            text.extend_from_slice(&chunk);
            if text.len() > LONGEST_LIST {
                return Err(ArchiveError::Damaged(format!("{shown} is too long for a list of checksums")).into());
            }
        }
        let own = at.hand.name.name_text();
        let text = String::from_utf8_lossy(&text).into_owned();
        let Some(wanted) = find_listed(&text, &own) else {
            return Err(FailureKind::Lasting {
                code: "not-listed".to_owned(),
                why: format!("{shown} does not list \"{own}\""),
                remedy: "Ask the sender for a complete list, then release; or dismiss.".to_owned(),
            });
        };
        let reading = Reading::open(&source, at.moving(at.hand.fingerprint.size)).await?;
        let broken = reading.broken();
        let found = tokio::task::spawn_blocking(move || sum(reading)).await;
        broken.check()?;
        let found = found.map_err(FailureKind::fault)??;
        if !found.eq_ignore_ascii_case(&wanted) {
            return Err(FailureKind::Lasting {
                code: "checksum".to_owned(),
                why: format!("its SHA-256 is {found}, but {shown} says {wanted}"),
                remedy: "Ask the sender to send the file again; then dismiss this one.".to_owned(),
            });
        }
        let note = format!("its SHA-256 is the one in {shown}");
        Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(at.hand, &note) })
    }
}
