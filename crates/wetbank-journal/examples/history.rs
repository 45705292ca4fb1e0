//! A journal as a service has it after some years, written by the journal's own code, to measure what it answers.
//!
//! `history FOLDER ITEMS`

#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a tool for measurements ends by panicking")]

use std::{path::PathBuf, time::Instant};

use futures_util::future::join_all;
use jiff::{SignedDuration, Timestamp};
use wetbank_core::{Cause, FilePath, ItemState, Name, Position, RelPath};
use wetbank_journal::{
    AttemptEnd, AttemptStart, Intention, ItemChange, Journal, NewHold, Outcome, Output, Progress, Sighting, Work,
};

/// The rules that worked all that time.
const RULES: u64 = 40;
/// Items written together.
const TOGETHER: u64 = 2_000;
/// Every so many batches are one run of many files instead of many runs.
const LARGE_RUN: u64 = 10;
/// Over so long the items are spread.
const YEARS: SignedDuration = SignedDuration::from_hours(2 * 365 * 24);

const KINDS: [&str; 6] = ["assay", "levels", "survey", "readings", "invoice", "tide-table"];

struct Writer {
    journal: Journal,
    items: u64,
    begun: Timestamp,
}

#[tokio::main]
async fn main() {
    let mut words = std::env::args().skip(1);
    let folder = PathBuf::from(words.next().expect("history FOLDER ITEMS"));
    let items: u64 = words.next().and_then(|word| word.parse().ok()).expect("history FOLDER ITEMS");
    std::fs::create_dir_all(&folder).unwrap();
    let began = Instant::now();
    let writer = Writer { journal: Journal::open(&folder).await.unwrap(), items, begun: Timestamp::now() - YEARS };
    for first in (0..items).step_by(TOGETHER as usize) {
        writer.batch(first).await;
    }
    writer.journal.close().await;
    println!("{items} items in {:.0} s", began.elapsed().as_secs_f64());
}

/// A number that looks like none before it, always the same for the same item.
fn noise(number: u64) -> u64 {
    let mut x = number.wrapping_add(0x9e37_79b9_7f4a_7c15);
    x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    x ^ (x >> 31)
}

impl Writer {
    fn at(&self, number: u64) -> Timestamp {
        let share = number as f64 / self.items as f64;
        let millis = (YEARS.as_millis() as f64 * share) as i64;
        self.begun + SignedDuration::from_millis(millis)
    }

    fn sighting(&self, number: u64, rule: u64) -> Sighting {
        let kind = KINDS[(noise(number) % KINDS.len() as u64) as usize];
        let path = format!("in/{kind}-{:05}-{number:07}.csv", noise(number) % 100_000);
        Sighting {
            rule: Name::new(&format!("rule-{rule}")).unwrap(),
            version: 1,
            file: FilePath { place: Name::new("office").unwrap(), path: RelPath::parse(&path).unwrap() },
            fingerprint: format!("{number}"),
            size: noise(number) % 1_000_000,
            seen: self.at(number),
            own_results: false,
            again: false,
            about: None,
            note_only: false,
        }
    }

    async fn batch(&self, first: u64) {
        let numbers = first..(first + TOGETHER).min(self.items);
        let at = self.at(first);
        let batch = first / TOGETHER;
        let works: Vec<Work> = if batch.is_multiple_of(LARGE_RUN) {
            let sightings = numbers.clone().map(|number| self.sighting(number, batch % RULES)).collect();
            self.journal.take_together(sightings, Cause::Schedule, None, at).await.unwrap()
        } else {
            let sightings = numbers.clone().map(|number| self.sighting(number, noise(number) % RULES)).collect();
            let taken = self.journal.take_in(sightings, Cause::Arrival, at).await.unwrap();
            taken.into_iter().map(Result::unwrap).collect()
        };
        join_all(works.iter().zip(numbers).map(|(work, number)| self.go_through(work, number))).await;
    }

    /// Two steps and an end, as most files have them; of the last ones some are open, and a few are held.
    async fn go_through(&self, work: &Work, number: u64) {
        if number + 200 > self.items {
            return;
        }
        let is_held = noise(number).is_multiple_of(2_000);
        self.step(work, number, 0, "rename", None).await;
        let hold = is_held.then(|| NewHold {
            code: "exists".to_owned(),
            why: "the name is taken".to_owned(),
            remedy: "Rename it.".to_owned(),
        });
        self.step(work, number, 1, "deliver", Some(hold)).await;
    }

    async fn step(&self, work: &Work, number: u64, step: usize, kind: &'static str, last: Option<Option<NewHold>>) {
        let (id, at) = (self.journal.next_attempt(), self.at(number));
        let name = format!("out/{}-sent-{number}.csv", KINDS[step]);
        let target = FilePath { place: Name::new("harbour").unwrap(), path: RelPath::parse(&name).unwrap() };
        let start = AttemptStart {
            id,
            item: work.item,
            branch: Some(0),
            position: Position::Step(step),
            kind,
            number: 1,
            began: at,
            target: Some(target.clone()),
            intent: None,
        };
        self.journal.start_attempt(start).await.unwrap();
        // One file in fifty is the same as all the others of these.
        let sum = if noise(number).is_multiple_of(50) { 1 } else { number + 2 };
        let sum = (0..4).map(|part| format!("{:016x}", noise(4 * sum + part))).collect::<String>();
        let output = Output {
            file: target.clone(),
            fingerprint: "1".to_owned(),
            rule: work.rule.clone(),
            item: work.item,
            depth: 1,
        };
        let intention = Intention {
            attempt: id,
            intent: "{}".to_owned(),
            target,
            size: work.size,
            sha256: Some(sum.clone()),
            blake3: Some(sum.clone()),
            output: Some(output),
        };
        self.journal.intend(intention).await.unwrap();
        let (is_last, hold) = (last.is_some(), last.flatten());
        let end = AttemptEnd {
            id,
            ended: at,
            outcome: if hold.is_some() { Outcome::Failed } else { Outcome::Done },
            size: Some(work.size),
            code: None,
            message: None,
            remedy: None,
            also_named: Some(name),
            unclear: false,
        };
        let state = match (&hold, is_last) {
            (Some(_), _) => ItemState::Held,
            (None, true) => ItemState::Done,
            (None, false) => ItemState::Working,
        };
        let change = ItemChange {
            item: work.item,
            run: work.run,
            state,
            branch: Some(0),
            position: Position::Step(step + 1),
            hand: None,
            failures: 0,
            due: None,
            why: None,
            at,
        };
        let progress = Progress { end: Some(end), hold, ..Progress::change(change) };
        self.journal.record(progress).await.unwrap();
    }
}
