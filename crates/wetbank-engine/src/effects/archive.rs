//! Steps that make many files one, one many, and large ones small.

use std::{
    io::{BufReader, BufWriter, Read, Write},
    sync::Arc,
};

use futures_util::StreamExt;
use tokio::runtime::Handle;
use tokio_util::sync::CancellationToken;
use wetbank_archive::{ArchiveError, Format, Limits, Member, Packing, Taking};
use wetbank_core::{Compression, FilePath, Most, PackForm, Position, RelPath, Step, Template};
use wetbank_journal::{NewPart, SourceRecord};
use wetbank_places::Place;

use super::{
    base::base,
    convert::Coming,
    making::{create_private, mode},
    means::Effects,
    outcome::{Attempt, Effect, FailureKind, Hand, StepDone, at},
    reading::{Reading, Source},
    step::AtStep,
};
use crate::EngineError;

/// Sources read from the journal at once.
const PAGE: i64 = 500;
/// A longer list of checksums is none.
const LONGEST_LIST: usize = 64 << 20;

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
    fn open(&self, source: &Source) -> Result<Reading, FailureKind> {
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
    pub(super) async fn compress(&self, with: Compression, name: &Template, attempt: &mut Attempt) -> Effect<StepDone> {
        let with = match with {
            Compression::Gzip => wetbank_archive::Compression::Gzip,
            Compression::Zstd => wetbank_archive::Compression::Zstd,
        };
        self.through_work(name, Coming::alike(), attempt, move |input, output| {
            wetbank_archive::compress(input, output, with).map(|()| None)
        })
        .await
    }

    pub(super) async fn expand(&self, name: &Template, most: Most, attempt: &mut Attempt) -> Effect<StepDone> {
        let (size, limits) = (self.hand.fingerprint.size, Limits::of(most.bytes.0, most.is_said));
        self.through_work(name, Coming::alike(), attempt, move |input, output| {
            wetbank_archive::expand(input, output, size, limits).map(|_| None)
        })
        .await
    }

    /// Packs the sources of this item into one file in the work folder.
    pub(super) async fn pack(&self, step: &Step, attempt: &mut Attempt) -> Effect<StepDone> {
        let Step::Pack { form, passphrase, folders, name } = step else { unreachable!("called for this step only") };
        let passphrase = match passphrase {
            Some(secret) => Some(self.effects.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let format = match form {
            PackForm::Zip => Format::Zip,
            PackForm::TarGz => Format::TarGz,
        };
        let (rule, folders) = (self.rule.clone(), *folders);
        let started = self.work.started;
        self.make_of_sources(name, attempt, move |sources, output| {
            use secrecy::ExposeSecret;
            // A failure of a source must not be mistaken for one of the archive.
            let mut failure = None;
            let mut taken = sources;
            let members = std::iter::from_fn(|| {
                let (record, hand, source) = match taken.next()? {
                    Ok(source) => source,
                    Err(kind) => {
                        failure = Some(kind);
                        return Some(Err(std::io::Error::from(std::io::ErrorKind::Interrupted).into()));
                    }
                };
                let name = if folders { kept_folders(&rule, &record.file, &hand, started) } else { hand.name.clone() };
                let (size, modified) = (hand.fingerprint.size, hand.fingerprint.modified_at());
                match taken.open(&source) {
                    Ok(reading) => Some(Ok((Member { name, size, modified }, reading))),
                    Err(kind) => {
                        failure = Some(kind);
                        Some(Err(std::io::Error::from(std::io::ErrorKind::Interrupted).into()))
                    }
                }
            });
            let packing = Packing { passphrase: passphrase.as_ref().map(|secret| secret.expose_secret()) };
            let packed = wetbank_archive::pack(format, BufWriter::with_capacity(256 << 10, output), &packing, members);
            match (failure, packed) {
                (Some(kind), _) => Err(kind),
                (None, packed) => Ok(Some(files(packed?))),
            }
        })
        .await
    }

    /// Lists the checksums of the sources of this item, as `sha256sum` does.
    pub(super) async fn manifest(&self, name: &Template, attempt: &mut Attempt) -> Effect<StepDone> {
        self.make_of_sources(name, attempt, move |mut sources, output| {
            let mut output = BufWriter::new(output);
            let mut count = 0;
            while let Some(source) = sources.next() {
                let (_, hand, source) = source?;
                let sum = sum(sources.open(&source)?)?;
                writeln!(output, "{}", listed(&sum, &hand.name.name_text())).map_err(ArchiveError::from)?;
                count += 1;
            }
            output.flush().map_err(ArchiveError::from)?;
            Ok(Some(files(count)))
        })
        .await
    }

    /// Makes a file in the work folder from all sources of this item.
    async fn make_of_sources(
        &self,
        name: &Template,
        attempt: &mut Attempt,
        make: impl FnOnce(Sources, &mut std::fs::File) -> Effect<Option<String>> + Send + 'static,
    ) -> Effect<StepDone> {
        let name = self.with_facts(|facts| name.render_name(&RelPath::root(), facts))?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let _slot = self.effects.slots.crypt.acquire().await.expect("the semaphore is never closed");
        let _moving = self.moving(0);
        let part = self.in_work(".part").map_err(ArchiveError::from)?;
        let last = self.in_work("").map_err(ArchiveError::from)?;
        let sources = Sources {
            effects: self.effects.clone(),
            handle: Handle::current(),
            item: self.work.item,
            stop: self.stop.clone(),
            page: Vec::new().into_iter(),
            after: 0,
        };
        let made = tokio::task::spawn_blocking(move || {
            let mut file = create_private(&part).map_err(ArchiveError::from)?;
            let note = make(sources, &mut file)?;
            file.sync_data().map_err(ArchiveError::from)?;
            drop(file);
            let file = std::fs::File::open(&part).map_err(ArchiveError::from)?;
            let mut hashing = wetbank_crypt::Hashing::for_ourselves();
            let mut reading = BufReader::with_capacity(256 << 10, &file);
            each_chunk(&mut reading, |chunk| hashing.update_slice(chunk)).map_err(ArchiveError::from)?;
            let size = file.metadata().map_err(ArchiveError::from)?.len();
            std::fs::rename(&part, &last).map_err(ArchiveError::from)?;
            Ok::<_, FailureKind>((note, (hashing.finish(), size)))
        });
        let made = made.await.map_err(FailureKind::fault)?;
        if made.is_err() && self.stop.is_cancelled() {
            return Err(FailureKind::Stopping);
        }
        let (note, made) = made?;
        self.made((id, attempt), name, made, note).await
    }

    /// Takes the files of the archive in hand out.
    pub(super) async fn unpack(&self, step: &Step, attempt: &mut Attempt) -> Effect<StepDone> {
        let Step::Unpack { passphrase, files: count, most } = step else { unreachable!("called for this step only") };
        let passphrase = match passphrase {
            Some(secret) => Some(self.effects.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let limits = Limits { files: *count, ..Limits::of(most.bytes.0, most.is_said) };
        let source = self.source()?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let _slot = self.effects.slots.crypt.acquire().await.expect("the semaphore is never closed");
        let before = source.place.stat(&source.path).await?;
        let done = self.moving(before.fingerprint.size);
        let path = self.work_path();
        let whole = self.in_work(".part").map_err(ArchiveError::from)?;
        let folder = self.in_work(".d").map_err(ArchiveError::from)?;
        let mode = mode(source.is_private().await?);
        let mut reading = Reading::open(&source, done).await?.until(self.stop);
        let (broken, stop) = (reading.broken(), self.stop.clone());
        let taken = tokio::task::spawn_blocking(move || {
            use secrecy::ExposeSecret;
            // An archive's directory stands at its end, so all of it must be here.
            let mut file = create_private(&whole)?;
            std::io::copy(&mut reading, &mut file)?;
            drop(file);
            let _ = std::fs::remove_dir_all(&folder);
            std::fs::create_dir(&folder)?;
            let passphrase = passphrase.as_ref().map(|secret| secret.expose_secret());
            let taking = Taking { passphrase, limits, mode, stop: &|| stop.is_cancelled() };
            let taken = wetbank_archive::unpack(std::fs::File::open(&whole)?, &folder, taking);
            if taken.is_err() {
                let _ = std::fs::remove_dir_all(&folder);
            }
            std::fs::remove_file(&whole)?;
            taken
        })
        .await
        .map_err(FailureKind::fault)?;
        if taken.is_err() && self.stop.is_cancelled() {
            return Err(FailureKind::Stopping);
        }
        broken.check()?;
        let taken = taken?;
        if taken.is_empty() {
            return Err(ArchiveError::Damaged("there is no file in it".to_owned()).into());
        }
        let mut parts = Vec::with_capacity(taken.len());
        for (number, one) in taken.iter().enumerate() {
            let path = RelPath::parse(&format!("{path}.d/{number}")).expect("a plain path");
            let entry = self.effects.work.folder.stat(&path).await?;
            let name = RelPath::from_bytes(one.name.name()).expect("a name of a path");
            let fingerprint = entry.fingerprint;
            let (shown, size) = (fingerprint.to_string(), fingerprint.size);
            let hand = Hand { place: None, path, name, fingerprint, original: None, fault: None, count: None };
            parts.push(NewPart {
                file: FilePath { place: self.work.file.place.clone(), path: self.work.file.path.join(&one.name) },
                fingerprint: shown,
                size,
                position: Position::Branching,
                hand: serde_json::to_string(&hand).expect("plain values serialise"),
            });
        }
        let note = files(parts.len());
        Ok(StepDone { attempt: Some(id), skipped: false, parts, ..StepDone::nothing(self.hand, &note) })
    }

    /// Compares the file in hand with the list of checksums beside the original.
    pub(super) async fn check_manifest(&self, name: &Template, attempt: &mut Attempt) -> Effect<StepDone> {
        let list = self.with_facts(|facts| name.render_name(&self.work.file.path.parent(), facts))?;
        let place = self.place(&self.work.file.place)?;
        let source = self.source()?;
        let id = self.effects.record.journal.next_attempt();
        let shown = FilePath { place: place.name().clone(), path: list.clone() };
        self.start(self.began(id, Some(shown.clone()), None), attempt).await?;
        let mut text = Vec::new();
        let mut chunks = place.read(&list, 0).await?;
        while let Some(chunk) = chunks.next().await.transpose()? {
            text.extend_from_slice(&chunk);
            if text.len() > LONGEST_LIST {
                return Err(ArchiveError::Damaged(format!("{shown} is too long for a list of checksums")).into());
            }
        }
        let own = self.hand.name.name_text();
        let text = String::from_utf8_lossy(&text).into_owned();
        let Some(wanted) = find_listed(&text, &own) else {
            return Err(FailureKind::Lasting {
                code: "not-listed".to_owned(),
                why: format!("{shown} does not list \"{own}\""),
                remedy: "Ask the sender for a complete list, then release; or dismiss.".to_owned(),
            });
        };
        let reading = Reading::open(&source, self.moving(self.hand.fingerprint.size)).await?;
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
        Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(self.hand, &note) })
    }

    /// Where in the work folder this step's result lies: below its item's own folder, so that all of it goes at once.
    pub(super) fn work_path(&self) -> RelPath {
        let name = format!("{}/{}-{}", self.work.item, self.branch, at(self.position));
        RelPath::parse(&name).expect("a plain name")
    }

    /// What lies beside it, with this ending; the folder for it is there.
    pub(super) fn in_work(&self, ending: &str) -> std::io::Result<std::path::PathBuf> {
        let path = self.effects.work.folder.root().join(format!("{}{ending}", self.work_path()));
        std::fs::create_dir_all(path.parent().expect("the item's folder"))?;
        Ok(path)
    }
}

/// A file's name in an archive that keeps folders.
fn kept_folders(rule: &wetbank_core::Rule, file: &FilePath, hand: &Hand, started: jiff::Timestamp) -> RelPath {
    let facts = wetbank_core::FileFacts::new(file, &hand.fingerprint);
    let facts = wetbank_core::TemplateFacts { file: &facts, rule, run: 0, started, now: started };
    let folder = file.path.parent();
    let below = folder.below(&base(rule, file, &facts)).unwrap_or_else(RelPath::root);
    below.join(&hand.name)
}

fn files(count: usize) -> String {
    if count == 1 { "1 file".to_owned() } else { format!("{count} files") }
}

fn each_chunk(from: &mut impl Read, mut with: impl FnMut(&[u8])) -> std::io::Result<()> {
    let mut buffer = vec![0; 256 << 10];
    loop {
        let read = from.read(&mut buffer)?;
        if read == 0 {
            return Ok(());
        }
        with(&buffer[..read]);
    }
}

/// The SHA-256 of what is read, in hexadecimal.
fn sum(mut reading: Reading) -> Effect<String> {
    let mut hashing = wetbank_crypt::Hashing::default();
    let broken = reading.broken();
    let read = each_chunk(&mut reading, |chunk| hashing.update_slice(chunk));
    broken.check()?;
    read.map_err(ArchiveError::from)?;
    Ok(hashing.finish().sha256.unwrap_or_default())
}

/// A line of a list of checksums. A name that would break the line is escaped, which a backslash
/// at its start tells.
fn listed(sum: &str, name: &str) -> String {
    let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
    if escaped == name { format!("{sum}  {name}") } else { format!("\\{sum}  {escaped}") }
}

/// What a list says of a name.
fn find_listed(list: &str, name: &str) -> Option<String> {
    list.lines().find_map(|line| {
        let (escaped, line) = line.strip_prefix('\\').map_or((false, line), |rest| (true, rest));
        let (sum, rest) = line.split_once(' ')?;
        // A space or an asterisk tells text from binary.
        let there = rest.strip_prefix([' ', '*'])?;
        let there = if escaped { unescaped(there) } else { there.to_owned() };
        let is_it = there.strip_prefix("./").unwrap_or(&there) == name;
        (is_it && sum.len() == 64 && sum.bytes().all(|b| b.is_ascii_hexdigit())).then(|| sum.to_owned())
    })
}

fn unescaped(name: &str) -> String {
    let mut plain = String::with_capacity(name.len());
    let mut letters = name.chars();
    while let Some(letter) = letters.next() {
        match (letter, letter == '\\') {
            (_, true) => match letters.next() {
                Some('n') => plain.push('\n'),
                Some('r') => plain.push('\r'),
                Some(other) => plain.push(other),
                None => {}
            },
            (letter, false) => plain.push(letter),
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_of_checksums_is_read_as_it_is_written() {
        let sum = "ab".repeat(32);
        for name in ["gauge-07.csv", "a b.csv", "back\\slash", "new\nline", "back\\nline", " lead"] {
            let line = listed(&sum, name);
            assert!(!line.contains('\n'));
            assert_eq!(find_listed(&line, name), Some(sum.clone()), "{line}");
        }
        assert_eq!(find_listed(&format!("{sum} *gauge-07.csv\r\n"), "gauge-07.csv"), Some(sum.clone()));
        assert_eq!(find_listed(&format!("{sum} *./gauge-07.csv\n"), "gauge-07.csv"), Some(sum.clone()));
        for wrong in [
            "",
            "gauge-07.csv",
            "12  gauge-07.csv",
            &format!("{sum}  other.csv"),
            &format!("{}  gauge-07.csv", "xy".repeat(32)),
        ] {
            assert_eq!(find_listed(wrong, "gauge-07.csv"), None, "{wrong}");
        }
    }
}
