//! Writing what a database has into a file.

use tokio::runtime::Handle;
use wetbank_core::step;
use wetbank_errands::Extracting;

use super::{AtStep, Attempt, Does, Effect, StepDone};

impl Does for step::Extract {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let database = at.effects.database(&self.from).await?;
        let values = self.values.iter().map(|(key, value)| Ok((key.clone(), at.with_facts(|f| value.render(f))?)));
        let values = values.collect::<Effect<Vec<_>>>()?;
        let name = at.result_name(&self.name)?;
        let id = at.effects.record.journal.next_attempt();
        at.start(at.began(id, None, None), attempt).await?;
        let extracting = Extracting { asked: self.asked.clone(), values, separator: self.separator };
        let handle = Handle::current();
        let made = at.make(false, move |making| {
            let rows = handle.block_on(wetbank_errands::extract(&database, extracting, making))?;
            Ok(Some(if rows == 1 { "1 row".to_owned() } else { format!("{rows} rows") }))
        });
        at.made((id, attempt), name, made.await?).await
    }
}
