//! Copying and moving by hand: recorded like everything else.

use futures_util::StreamExt;
use wetbank_core::{BY_HAND, Cause, FilePath, HandDelivery, Name, RelPath};
use wetbank_journal::Sighting;
use wetbank_places::{Depth, Entry, EntryKind};

use super::Engine;
use crate::{Declined, EngineError, clock};

/// Files taken in at once.
const BATCH: usize = 256;
/// Files of one request at most; the rest is left where it is, and that is said.
const MOST: usize = 20_000;

/// What was begun.
#[derive(Debug, Clone, Copy, Default)]
pub struct Begun {
    /// How many files; each is a run of its own.
    pub files: usize,
    /// The first run.
    pub first: Option<i64>,
    /// Whether there are more files than one request takes.
    pub more: bool,
}

impl Engine {
    /// Copies or moves files, and folders with all that is in them, from the folder that the
    /// delivery names. Answers as soon as all of them are on record.
    pub async fn by_hand(&self, delivery: &HandDelivery, picked: &[RelPath], who: &str) -> Result<Begun, EngineError> {
        let place = self.place(delivery.from.as_str())?;
        let target = self.place(delivery.to.place.as_str())?;
        if delivery.from == delivery.to.place && delivery.folder == delivery.to.path {
            return Err(Declined::SamePlace(delivery.to.clone()).into());
        }
        // Rather now than once for every file.
        target.reach().await?;
        let version = self.core.journal.keep_text(BY_HAND, &delivery.rule_text(), who, clock::now()).await?;
        let mut begun = Begun::default();
        let mut batch = Vec::new();
        for path in picked {
            if path.below(&delivery.folder).is_none() {
                return Err(Declined::Outside { path: path.clone(), folder: delivery.folder.clone() }.into());
            }
            let entry = place.stat(path).await?;
            match entry.kind {
                EntryKind::File => {
                    self.is_closed(&FilePath { place: delivery.from.clone(), path: path.clone() }).await?;
                    batch.push(entry);
                }
                EntryKind::Folder => {
                    let mut below = place.list(path, Depth::All);
                    while let Some(entry) = below.next().await.transpose()? {
                        if entry.kind == EntryKind::File && !entry.path.is_temporary() {
                            batch.push(entry);
                        }
                        if batch.len() >= BATCH {
                            self.take_by_hand(delivery, version, &mut batch, &mut begun).await?;
                        }
                        if begun.files >= MOST {
                            begun.more = true;
                            return Ok(begun);
                        }
                    }
                }
                EntryKind::Link | EntryKind::Other | EntryKind::Misnamed => {
                    let file = FilePath { place: delivery.from.clone(), path: path.clone() };
                    return Err(Declined::NoFile { file, what: "no regular file" }.into());
                }
            }
            if batch.len() >= BATCH {
                self.take_by_hand(delivery, version, &mut batch, &mut begun).await?;
            }
        }
        self.take_by_hand(delivery, version, &mut batch, &mut begun).await?;
        Ok(begun)
    }

    async fn take_by_hand(
        &self,
        delivery: &HandDelivery,
        version: i64,
        entries: &mut Vec<Entry>,
        begun: &mut Begun,
    ) -> Result<(), EngineError> {
        let now = clock::now();
        let sightings = entries.drain(..).map(|entry| Sighting {
            rule: Name::new(BY_HAND).expect("a plain name"),
            version,
            file: FilePath { place: delivery.from.clone(), path: entry.path },
            fingerprint: entry.fingerprint.to_string(),
            size: entry.fingerprint.size,
            seen: now,
            own_results: true,
            again: true,
            about: None,
            note_only: false,
        });
        let taken = self.core.journal.take_in(sightings.collect(), Cause::Hand, now).await?;
        let works: Vec<_> = taken.into_iter().flatten().collect();
        begun.files += works.len();
        begun.first = begun.first.or(works.first().map(|work| work.run));
        self.core.queue.claims.add(works);
        Ok(())
    }
}
