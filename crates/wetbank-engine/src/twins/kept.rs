//! What the sides keep of what they lost: for some days, and back at its place if somebody wants it.

use std::{sync::Arc, time::Duration};

use futures_util::StreamExt;
use jiff::{
    ToSpan,
    civil::{Date, DateTime},
};
use wetbank_core::{
    Cause, RelPath,
    twin::{Action, Line, Pair, Side, State, Twin, Why, branch_of},
};
use wetbank_places::{Depth, EntryKind, Place, PlaceError, PlaceErrorKind};

use super::{keeper::Keeper, look::places, pass::item};
use crate::{EngineError, clock};

/// After a start there is more important work.
const FIRST: Duration = Duration::from_secs(900);
const EVERY: Duration = Duration::from_secs(12 * 3_600);

/// In a longer folder nobody looks for whose a file is.
const MOST_LISTED: usize = 20_000;
/// A longer text is not shown line by line, in bytes.
const LONGEST_TEXT: usize = 256 << 10;

/// A file that a side lost and keeps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    /// Which side.
    pub side: Side,
    /// The day on which it was lost, in the twin's time.
    pub day: Date,
    /// Its path below the twin's folder until then.
    pub path: RelPath,
    /// How it is.
    pub state: State,
}

/// Removes what was kept long enough, until the service stops.
pub(super) async fn run(keeper: Arc<Keeper>) {
    let mut pause = FIRST;
    loop {
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = keeper.cancel.cancelled() => return,
        }
        pause = EVERY;
        for live in &keeper.arranged.now().twins {
            if let Err(error) = keeper.purge(&live.twin, clock::now()).await {
                tracing::warn!(twin = %live.twin.name, %error, "what it kept long enough is not removed yet");
            }
        }
    }
}

/// The folders of days in which a side keeps something.
async fn days(place: &dyn Place, kept: &RelPath) -> Result<Vec<(Date, RelPath)>, PlaceError> {
    let mut days = Vec::new();
    let mut listing = place.list(kept, Depth::One);
    loop {
        match listing.next().await {
            None => break,
            Some(Ok(entry)) if entry.kind == EntryKind::Folder => {
                if let Ok(day) = entry.path.name_text().parse() {
                    days.push((day, entry.path));
                }
            }
            Some(Ok(_)) => {}
            // Nothing was ever lost there.
            Some(Err(error)) if error.kind == PlaceErrorKind::NotFound => break,
            Some(Err(error)) => return Err(error),
        }
    }
    days.sort();
    Ok(days)
}

impl Keeper {
    /// What the sides keep, what was lost last first, at most so much; and whether there is more.
    pub async fn kept(&self, twin: &Twin, most: usize) -> Result<(Vec<Kept>, bool), EngineError> {
        let (places, mut found) = (places(&self.effects, twin)?, Vec::new());
        for side in Side::BOTH.into_iter().filter(|side| twin.loses(*side)) {
            let place = places.of(side).as_ref();
            let top = twin.folders.of(side).path.join(&twin.kept_top());
            for (day, folder) in days(place, &top).await?.into_iter().rev() {
                let mut listing = place.list(&folder, Depth::All);
                while let Some(entry) = listing.next().await.transpose()? {
                    if entry.kind != EntryKind::File {
                        continue;
                    }
                    let Some(path) = entry.path.below(&folder) else { continue };
                    if found.len() == most {
                        return Ok((found, true));
                    }
                    found.push(Kept { side, day, path, state: State::of(&entry.fingerprint) });
                }
            }
        }
        found.sort_by(|a, b| (b.day, &a.path).cmp(&(a.day, &b.path)));
        Ok((found, false))
    }

    /// Brings back what a side lost on a day, as a run. Nothing if nothing of it is kept.
    pub async fn restore(
        &self,
        twin: &Twin,
        side: Side,
        day: Date,
        paths: &[RelPath],
    ) -> Result<Option<i64>, EngineError> {
        let place = places(&self.effects, twin)?.of(side).clone();
        let folder = twin.folders.of(side).path.join(&twin.kept_of(&day.to_string()));
        let (mut wanted, mut listing) = (Vec::new(), place.list(&folder, Depth::All));
        while let Some(entry) = listing.next().await {
            match entry {
                Ok(entry) if entry.kind == EntryKind::File => {
                    let Some(path) = entry.path.below(&folder) else { continue };
                    if paths.is_empty() || paths.iter().any(|asked| path.below(asked).is_some()) {
                        wanted.push(Kept { side, day, path, state: State::of(&entry.fingerprint) });
                    }
                }
                Ok(_) => {}
                Err(error) if error.kind == PlaceErrorKind::NotFound => break,
                Err(error) => return Err(error.into()),
            }
        }
        if wanted.is_empty() {
            return Ok(None);
        }
        let line = |kept: &Kept| {
            let mut had = Pair::default();
            *had.of_mut(side) = Some(kept.state.clone());
            let from = twin.kept_of(&kept.day.to_string()).join(&kept.path);
            Line {
                at: Pair::same(kept.path.clone()),
                is_folder: false,
                action: Action::Restore { on: side, from },
                why: Why::WantedBack(side),
                if_differs: false,
                had,
                was: None,
            }
        };
        let branch = branch_of(&Action::Restore { on: side, from: RelPath::root() }).unwrap_or_default();
        let items: Vec<_> = wanted.iter().map(|kept| item(twin, line(kept), branch)).collect();
        let of = (&twin.rule_name(), self.rule_version(twin).await?, Cause::Hand);
        let works = self.record.journal.take_planned(of, wetbank_journal::PlannedRun::New, items, clock::now()).await?;
        let run = works.first().map(|work| work.run);
        self.queue.claims.add(works);
        Ok(run)
    }

    /// Whose a file is on each side, where its place tells that: some do in a listing only.
    pub async fn owners(&self, twin: &Twin, at: &Pair<RelPath>) -> Result<Pair<Option<String>>, EngineError> {
        let (places, mut owners) = (places(&self.effects, twin)?, Pair::default());
        for side in Side::BOTH {
            let (place, path) = (places.of(side), twin.file(side, at.of(side)).path);
            let mut found = [place.stat(&path).await?];
            place.tell_owners(&mut found).await;
            let [entry] = found;
            if entry.owner.is_some() {
                *owners.of_mut(side) = entry.owner;
                continue;
            }
            let mut listing = place.list(&path.parent(), Depth::One).take(MOST_LISTED);
            while let Some(entry) = listing.next().await.transpose()? {
                if entry.path == path {
                    *owners.of_mut(side) = entry.owner;
                    break;
                }
            }
        }
        Ok(owners)
    }

    /// Both versions of a text; or why they cannot be shown as texts.
    pub async fn texts(&self, twin: &Twin, at: &Pair<RelPath>) -> Result<Result<Pair<String>, String>, EngineError> {
        let (places, mut texts) = (places(&self.effects, twin)?, Pair::<String>::default());
        for side in Side::BOTH {
            let (file, mut bytes) = (twin.file(side, at.of(side)), Vec::new());
            let mut content = places.of(side).read(&file.path, 0).await?;
            while let Some(chunk) = content.next().await.transpose()? {
                bytes.extend_from_slice(&chunk);
                if bytes.len() > LONGEST_TEXT {
                    return Ok(Err(format!("{file} is too long to be shown; look at both with a program of your own")));
                }
            }
            match String::from_utf8(bytes) {
                Ok(text) if !text.contains('\0') => *texts.of_mut(side) = text,
                _ => return Ok(Err(format!("{file} is no text in UTF-8; look at both with a program of your own"))),
            }
        }
        Ok(Ok(texts))
    }

    /// Removes for good what was kept longer than the twin says.
    pub async fn purge(&self, twin: &Twin, now: jiff::Timestamp) -> Result<(), EngineError> {
        let today: DateTime = now.to_zoned(twin.zone.clone()).datetime();
        let oldest = today.date().saturating_sub(i64::from(twin.keep_days).days());
        let places = places(&self.effects, twin)?;
        for side in Side::BOTH.into_iter().filter(|side| twin.loses(*side)) {
            let place = places.of(side).as_ref();
            let top = twin.folders.of(side).path.join(&twin.kept_top());
            for (day, folder) in days(place, &top).await? {
                if day < oldest {
                    let files = remove_all(place, &folder).await?;
                    tracing::info!(twin = %twin.name, %side, %day, files, "what was kept long enough is removed");
                }
            }
        }
        Ok(())
    }
}

/// Removes a folder with all that is below it. Answers how many files.
async fn remove_all(place: &dyn Place, folder: &RelPath) -> Result<u64, PlaceError> {
    let (mut folders, mut files) = (vec![folder.clone()], 0);
    let mut listing = place.list(folder, Depth::All);
    let mut found = Vec::new();
    while let Some(entry) = listing.next().await.transpose()? {
        match entry.kind {
            EntryKind::Folder => folders.push(entry.path),
            _ => found.push(entry.path),
        }
    }
    for path in found {
        place.delete(&path).await?;
        files += 1;
    }
    if place.capabilities().folders_are_made {
        // Those below first.
        folders.sort_by_key(|folder| std::cmp::Reverse(folder.parts().count()));
        for folder in folders {
            place.remove_folder(&folder).await?;
        }
    }
    Ok(files)
}
