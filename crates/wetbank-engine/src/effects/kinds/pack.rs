//! Making one file of many.

use std::io::BufWriter;

use secrecy::ExposeSecret;
use wetbank_archive::{Format, Member, Packing};
use wetbank_core::{FileFacts, FilePath, PackForm, RelPath, Rule, TemplateFacts, step};

use super::{AtStep, Attempt, Does, Effect, Hand, StepDone};
use crate::effects::sources::files;

impl Does for step::Pack {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let passphrase = at.secret(self.passphrase.as_ref()).await?;
        let format = match self.form {
            PackForm::Zip => Format::Zip,
            PackForm::TarGz => Format::TarGz,
        };
        let (rule, folders) = (at.rule.clone(), self.folders);
        let started = at.work.started;
        at.make_of_sources(&self.name, attempt, move |sources, output| {
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
}

/// A file's name in an archive that keeps folders.
fn kept_folders(rule: &Rule, file: &FilePath, hand: &Hand, started: jiff::Timestamp) -> RelPath {
    let facts = FileFacts::new(file, &hand.fingerprint);
    let facts = TemplateFacts { file: &facts, rule, run: 0, started, now: started };
    let folder = file.path.parent();
    let below = folder.below(&rule.base(file, &facts)).unwrap_or_else(RelPath::root);
    below.join(&hand.name)
}
