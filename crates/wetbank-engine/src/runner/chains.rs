//! What starts other rules.

use wetbank_core::{ChainEvent, FilePath, Happened, Name, Planned};
use wetbank_journal::{Chained, Work};

use super::means::Runner;
use crate::effects::StepDone;

impl Runner {
    /// What it starts that a step put a file somewhere.
    pub fn chained_by(&self, work: &Work, planned: Option<&Planned>, done: &StepDone) -> Vec<Chained> {
        let Some(step) = planned.map(|planned| &planned.step) else { return Vec::new() };
        let (Some(event), Some((file, fingerprint))) = (step.event(), &done.put) else { return Vec::new() };
        let partner = step.target().and_then(|target| target.partner.as_ref());
        self.chained(work, event, file, (fingerprint.to_string(), fingerprint.size), partner)
    }

    /// What it starts that something happened to the file that came.
    pub fn chained_here(&self, work: &Work, event: ChainEvent) -> Vec<Chained> {
        // A search and what was made on the way lie nowhere that another rule could take them from.
        if work.kind != wetbank_core::ItemKind::File {
            return Vec::new();
        }
        self.chained(work, event, &work.file, (work.fingerprint.clone(), work.size), None)
    }

    fn chained(
        &self,
        work: &Work,
        event: ChainEvent,
        file: &FilePath,
        (fingerprint, size): (String, u64),
        partner: Option<&Name>,
    ) -> Vec<Chained> {
        let arrangement = self.arranged.now();
        let to = (file.place != work.file.place || file.path != work.file.path).then_some(&file.place);
        let happened = Happened { event, rule: &work.rule, from: &work.file.place, to, partner };
        let wanted = arrangement.rules.iter().filter(|live| {
            let chain = live.rule.starts.chain.as_ref();
            live.is_on && chain.is_some_and(|chain| chain.is_about(&live.rule.name, happened))
        });
        wanted
            .map(|live| {
                let partner = partner.map_or("", |partner| partner.as_str());
                let about = serde_json::json!({
                    "chain.rule": work.rule.as_str(),
                    "chain.event": event.as_str(),
                    "chain.from": work.file.place.as_str(),
                    "chain.partner": partner,
                });
                Chained {
                    rule: live.rule.name.clone(),
                    version: live.version,
                    file: file.clone(),
                    fingerprint: fingerprint.clone(),
                    size,
                    depth: work.depth + 1,
                    about: about.to_string(),
                }
            })
            .collect()
    }
}
