//! Loading a file into a table.

use wetbank_core::step;
use wetbank_errands::Loading;

use super::{AtStep, Attempt, Does, Effect, StepDone};
use crate::effects::reading::Reading;

impl Does for step::Load {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let database = at.effects.database(&self.into).await?;
        let source = at.source()?;
        let id = at.effects.record.journal.next_attempt();
        at.start(at.began(id, None, None), attempt).await?;
        let reading = Reading::open(&source, at.moving(at.hand.fingerprint.size)).await?;
        let broken = reading.broken();
        let loading = Loading { said: self.clone(), key: at.key() };
        let loaded = wetbank_errands::load(&database, loading, reading).await;
        broken.check()?;
        let loaded = loaded?;
        let mut note = match (loaded.before, loaded.rows) {
            (true, _) => "it was loaded before the service was stopped".to_owned(),
            (false, 1) => format!("1 row into {}", self.table),
            (false, rows) => format!("{rows} rows into {}", self.table),
        };
        if loaded.left_out > 0 {
            note.push_str(&format!("; {} left out: {}", loaded.left_out, loaded.named.join("; ")));
        }
        Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(at.hand, &note) })
    }
}
