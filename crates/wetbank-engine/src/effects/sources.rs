//! Files of a run that wait to go together, and what is made of all of them.

use std::sync::Arc;

use tokio::runtime::Handle;
use tokio_util::sync::CancellationToken;
use wetbank_archive::ArchiveError;
use wetbank_core::Template;
use wetbank_journal::SourceRecord;
use wetbank_places::Place;

use super::{
    making::Making,
    means::Effects,
    outcome::{Attempt, Effect, FailureKind, Hand, StepDone},
    reading::{Reading, Source},
    step::AtStep,
};
use crate::EngineError;

/// Sources read from the journal at once.
const PAGE: i64 = 500;

impl From<ArchiveError> for FailureKind {
    fn from(error: ArchiveError) -> Self {
        let why = error.to_string();
        let (code, remedy) = match &error {
            ArchiveError::Locked(_) | ArchiveError::WrongPassphrase(_) => {
                ("passphrase", "Set the right passphrase for this step, then release.")
            }
            ArchiveError::Twice(_) => (
                "name-twice",
                "Rename the files before they are packed, or keep their folders with folders = true; then release.",
            ),
            ArchiveError::Name { .. } | ArchiveError::NotAFile(_) => {
                ("unsafe-archive", "Ask the sender what this is; nothing of it was taken out. Then dismiss it.")
            }
            ArchiveError::TooMany(_) | ArchiveError::TooLarge(_) | ArchiveError::Bomb(_) => (
                "too-large",
                "If the sender means it, allow more with files = … and most = \"…\" in the step, then release.",
            ),
            ArchiveError::Io(_) if error.is_retryable() => {
                return Self::Passing {
                    code: "work-folder".to_owned(),
                    why: format!("cannot write the work folder: {why}"),
                    remedy: "Free space on the disk that holds Wetbank's data folder.".to_owned(),
                };
            }
            _ => ("damaged", "Ask the sender to send the file again; then dismiss this one."),
        };
        Self::Lasting { code: code.to_owned(), why, remedy: remedy.to_owned() }
    }
}

/// The sources of an item, read page by page from a blocking task.
pub(super) struct Sources {
    effects: Arc<Effects>,
    handle: Handle,
    item: i64,
    stop: CancellationToken,
    page: std::vec::IntoIter<SourceRecord>,
    after: i64,
}

impl Iterator for Sources {
    type Item = Result<(SourceRecord, Hand, Source), FailureKind>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.page.len() == 0 {
            let page = self.handle.block_on(self.effects.record.journal.sources(self.item, self.after, PAGE));
            self.page = match page {
                Ok(page) => page.into_iter(),
                Err(error) => return Some(Err(error.into())),
            };
        }
        let record = self.page.next()?;
        self.after = record.item;
        Some(self.source(record))
    }
}

impl Sources {
    fn source(&self, record: SourceRecord) -> Result<(SourceRecord, Hand, Source), FailureKind> {
        let Some(hand) = Hand::read(record.hand.as_deref())? else {
            return Err(EngineError::Broken(format!("{} has nothing in hand", record.file)).into());
        };
        let place: Arc<dyn Place> = match &hand.place {
            Some(name) => self.effects.arranged.now().place(name)?,
            None => Arc::new(self.effects.work.folder.clone()),
        };
        let source = Source { place, path: hand.path.clone(), fingerprint: hand.fingerprint.clone() };
        Ok((record, hand, source))
    }

    /// Opens a source, which must be in the state in which it was gathered.
    pub fn open(&self, source: &Source) -> Result<Reading, FailureKind> {
        self.handle.block_on(async {
            let there = source.place.stat(&source.path).await?;
            if there.fingerprint != source.fingerprint {
                return Err(FailureKind::Lasting {
                    code: "changed".to_owned(),
                    why: format!("{}:/{} changed while it waited for the others", source.place.name(), source.path),
                    remedy: "Dismiss this and run the rule again, so that all files are taken as they are now."
                        .to_owned(),
                });
            }
            Ok(Reading::open(source, Arc::default()).await?.until(&self.stop))
        })
    }
}

impl AtStep<'_> {
    /// Makes a file in the work folder from all sources of this item.
    pub(super) async fn make_of_sources(
        &self,
        name: &Template,
        attempt: &mut Attempt,
        make: impl FnOnce(Sources, &mut Making) -> Effect<Option<String>> + Send + 'static,
    ) -> Effect<StepDone> {
        let name = self.result_name(name)?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let _slot = self.effects.slots.crypt.acquire().await.expect("the semaphore is never closed");
        let _moving = self.moving(0);
        let sources = Sources {
            effects: self.effects.clone(),
            handle: Handle::current(),
            item: self.work.item,
            stop: self.stop.clone(),
            page: Vec::new().into_iter(),
            after: 0,
        };
        let made = self.make(true, move |making| make(sources, making)).await?;
        self.made((id, attempt), name, made).await
    }
}

/// How many files, in words.
pub(super) fn files(count: usize) -> String {
    if count == 1 { "1 file".to_owned() } else { format!("{count} files") }
}
