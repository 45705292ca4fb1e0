//! What partners do at our own server: put on record, and taken in where a rule waits for it, before they are told so.

use std::{
    collections::HashMap,
    net::IpAddr,
    sync::Arc,
    time::{Duration, Instant},
};

use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::Notify;
use wetbank_core::{Account, AccountEvent, Cause, Did, FilePath, Fingerprint, Name, RelPath};
use wetbank_journal::{DueRecord, NewExchange, Sighting, Work};

use super::{means::Intake, starting::Beginning};
use crate::{EngineError, LiveRule, clock, events::Event};

/// How often it is looked whether a visit is quiet.
const LOOK: Duration = Duration::from_millis(500);
/// After the journal refused something, when it is tried again.
const AGAIN: Duration = Duration::from_secs(2);

/// Somebody who came with an account.
#[derive(Debug, Clone)]
pub struct Visitor {
    /// The visit's number.
    pub visit: i64,
    /// The account as it was when the visit began.
    pub account: Arc<Account>,
    /// From where.
    pub address: IpAddr,
}

/// Which visits gather files for which rules.
#[derive(Debug, Default)]
pub(crate) struct Gatherings {
    /// When something came last; nothing once the visit has ended.
    last: Mutex<HashMap<(Name, i64), Option<Instant>>>,
    news: Notify,
}

impl Gatherings {
    fn came(&self, rule: &Name, visit: i64) {
        self.last.lock().insert((rule.clone(), visit), Some(Instant::now()));
        self.news.notify_one();
    }

    /// Nothing more comes of a visit.
    pub fn ended(&self, visit: i64) {
        let mut last = self.last.lock();
        last.iter_mut().filter(|((_, of), _)| *of == visit).for_each(|(_, at)| *at = None);
        self.news.notify_one();
    }

    /// What is complete; `quiet` tells how long a rule waits.
    fn complete(&self, quiet: impl Fn(&Name) -> Option<Duration>) -> Vec<(Name, i64)> {
        let mut last = self.last.lock();
        let is_over = |rule: &Name, at: &Option<Instant>| match (at, quiet(rule)) {
            (Some(at), Some(quiet)) => at.elapsed() >= quiet,
            _ => true,
        };
        let complete: Vec<_> =
            last.iter().filter(|((rule, _), at)| is_over(rule, at)).map(|(key, _)| key.clone()).collect();
        complete.iter().for_each(|key| _ = last.remove(key));
        complete
    }

    fn again(&self, key: (Name, i64)) {
        self.last.lock().entry(key).or_insert(None);
    }
}

/// What is known of a run that an account starts, as conditions and placeholders have it.
fn about(did: Did<'_>, visit: i64) -> [(String, String); 5] {
    [
        ("account.name", did.account.to_string()),
        ("account.partner", did.partner.to_string()),
        ("account.event", did.event.as_str().to_owned()),
        ("account.address", did.address.to_canonical().to_string()),
        ("account.visit", visit.to_string()),
    ]
    .map(|(word, text)| (word.to_owned(), text))
}

fn about_text(did: Did<'_>, visit: i64) -> String {
    let about: std::collections::BTreeMap<String, String> = about(did, visit).into();
    serde_json::to_string(&about).expect("plain values serialise")
}

/// Those of the rules that wait for the rest of a visit.
fn together(rules: &[LiveRule]) -> Vec<Name> {
    let waits = |live: &&LiveRule| live.rule.starts.account.as_ref().is_some_and(|of| of.together.is_some());
    rules.iter().filter(waits).map(|live| live.rule.name.clone()).collect()
}

/// What a visitor does with a file.
#[derive(Debug)]
pub(crate) struct Exchanged<'a> {
    pub visitor: &'a Visitor,
    pub event: AccountEvent,
    /// As the account sees it.
    pub seen: &'a RelPath,
    pub file: FilePath,
    pub fingerprint: &'a Fingerprint,
    pub sum: Option<String>,
    /// Where it lies until it has its name.
    pub staged: Option<RelPath>,
    /// Set where only its own name tells its state: then rules take it in afterwards.
    pub taken_later: bool,
}

impl Intake {
    fn wanted(&self, did: Did<'_>) -> Vec<LiveRule> {
        let arrangement = self.arranged.now();
        let wants =
            |live: &&LiveRule| live.is_on && live.rule.starts.account.as_ref().is_some_and(|of| of.is_about(did));
        arrangement.rules.iter().filter(wants).cloned().collect()
    }

    fn sightings(
        &self,
        rules: &[LiveRule],
        did: Did<'_>,
        visit: i64,
        file: &FilePath,
        state: &Fingerprint,
    ) -> Vec<Sighting> {
        let alone =
            rules.iter().filter(|live| live.rule.starts.account.as_ref().is_some_and(|of| of.together.is_none()));
        alone
            .map(|live| Sighting {
                rule: live.rule.name.clone(),
                version: live.version,
                file: file.clone(),
                fingerprint: state.to_string(),
                size: state.size,
                seen: clock::now(),
                own_results: true,
                // What is collected twice happened twice.
                again: did.event == AccountEvent::Collected,
                about: Some(about_text(did, visit)),
                note_only: false,
            })
            .collect()
    }

    /// Puts on record what a visitor does with a file, with the work that it begins. Nothing of the work is begun yet.
    pub async fn exchanged(&self, of: Exchanged<'_>) -> Result<(i64, Vec<Work>), EngineError> {
        let Visitor { visit, account, address } = of.visitor;
        let did = Did {
            event: of.event,
            account: &account.name,
            partner: &account.partner,
            path: Some(of.seen),
            address: *address,
        };
        let rules = if of.taken_later { Vec::new() } else { self.wanted(did) };
        let together = together(&rules);
        let sightings = self.sightings(&rules, did, *visit, &of.file, of.fingerprint);
        let new = NewExchange {
            visit: *visit,
            account: account.name.clone(),
            partner: account.partner.clone(),
            what: of.event.as_str(),
            seen: of.seen.clone(),
            file: of.file,
            fingerprint: of.fingerprint.to_string(),
            size: of.fingerprint.size,
            sum: of.sum,
            address: address.to_canonical().to_string(),
            at: clock::now(),
            staged: of.staged,
        };
        let done = self.record.journal.exchange(new, sightings, together.clone()).await?;
        self.gathers(&together, *visit);
        Ok(done)
    }

    /// What rules take of a file that was handed in and lies under its name in this state; and which wait for the rest of
    /// the visit.
    pub fn wanted_of(&self, visitor: &Visitor, seen: &RelPath, state: &Fingerprint) -> (Vec<Sighting>, Vec<Name>) {
        let Visitor { visit, account, address } = visitor;
        let (event, path) = (AccountEvent::HandedIn, Some(seen));
        let did = Did { event, account: &account.name, partner: &account.partner, path, address: *address };
        let rules = self.wanted(did);
        (self.sightings(&rules, did, *visit, &account.file(seen), state), together(&rules))
    }

    /// Notes that rules wait for the rest of a visit.
    pub fn gathers(&self, rules: &[Name], visit: i64) {
        rules.iter().for_each(|rule| self.gatherings.came(rule, visit));
    }

    /// Begins work that is on record.
    pub fn begin(&self, works: Vec<Work>) {
        for work in &works {
            self.queue.events.tell(Event::Item {
                run: work.run,
                item: work.item,
                rule: work.rule.clone(),
                state: work.state,
                branch: None,
                step: 0,
            });
        }
        self.queue.claims.add(works);
    }

    /// Starts the rules that wait for something that is about no file.
    pub async fn account_did(
        &self,
        event: AccountEvent,
        account: &Account,
        (address, visit): (IpAddr, i64),
    ) -> Result<(), EngineError> {
        let did = Did { event, account: &account.name, partner: &account.partner, path: None, address };
        for live in self.wanted(did) {
            let beginning = Beginning { about: about(did, visit).into(), ..Beginning::default() };
            self.start_run(&live, Cause::Account, beginning).await?;
        }
        Ok(())
    }

    /// Takes in, as one run, what a visit gathered for a rule.
    async fn take_together(&self, rule: &Name, visit: i64) -> Result<(), EngineError> {
        let due = self.record.journal.exchanges_due().await?;
        let due: Vec<DueRecord> =
            due.into_iter().filter(|one| one.rule == rule.as_str() && one.visit == visit).collect();
        let (Some(first), Some(last)) = (due.first(), due.last()) else { return Ok(()) };
        let arrangement = self.arranged.now();
        let live = arrangement.rule(rule).filter(|live| live.is_on);
        let name = |text: &str| Name::new(text).map_err(EngineError::from);
        let (account, partner) = (name(&first.account)?, name(&first.partner)?);
        let address = first.address.parse().unwrap_or(IpAddr::from([0, 0, 0, 0]));
        let event = AccountEvent::parse(&first.what).unwrap_or(AccountEvent::HandedIn);
        let did = Did { event, account: &account, partner: &partner, path: None, address };
        let sighting = |live: &LiveRule, one: &DueRecord| Sighting {
            rule: rule.clone(),
            version: live.version,
            file: one.file.clone(),
            fingerprint: one.fingerprint.clone(),
            size: one.size,
            seen: one.at,
            own_results: true,
            again: event == AccountEvent::Collected,
            about: None,
            note_only: false,
        };
        let sightings =
            live.map_or_else(Vec::new, |live| due.iter().map(|one| (one.exchange, sighting(live, one))).collect());
        let key = (rule.as_str(), visit, last.exchange);
        let works = self.record.journal.take_due(key, sightings, about_text(did, visit), Timestamp::now()).await?;
        self.begin(works);
        Ok(())
    }
}

/// Makes runs of what visits gathered, once they are over or quiet, until the service stops.
pub(crate) async fn gatherings(intake: Arc<Intake>) {
    // Whoever was there when the service ended is gone.
    loop {
        match intake.record.journal.exchanges_due().await {
            Ok(due) => {
                let keys = due.into_iter().filter_map(|one| Some((Name::new(&one.rule).ok()?, one.visit)));
                keys.for_each(|key| intake.gatherings.again(key));
                break;
            }
            Err(error) => tracing::warn!(%error, "what waits for the rest of its visit cannot be read; trying again"),
        }
        tokio::select! {
            () = tokio::time::sleep(AGAIN) => {}
            () = intake.cancel.cancelled() => return,
        }
    }
    loop {
        let arrangement = intake.arranged.now();
        let quiet = |rule: &Name| arrangement.rule(rule)?.rule.starts.account.as_ref()?.together;
        for (rule, visit) in intake.gatherings.complete(quiet) {
            if let Err(error) = intake.take_together(&rule, visit).await {
                tracing::error!(%error, %rule, visit, "what a visit brought cannot be taken in; trying again");
                intake.gatherings.again((rule, visit));
                tokio::time::sleep(AGAIN).await;
            }
        }
        let waits = !intake.gatherings.last.lock().is_empty();
        tokio::select! {
            () = tokio::time::sleep(LOOK), if waits => {}
            () = intake.gatherings.news.notified() => {}
            () = intake.cancel.cancelled() => return,
        }
    }
}
