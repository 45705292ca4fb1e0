//! Letters: what sends them, and where they lie until then.

use std::{
    io::{self, Write},
    path::{Path, PathBuf},
    sync::Arc,
};

use wetbank_places::{Mailbox, Place};

use super::outcome::{Effect, FailureKind};

/// Where a letter lies in the outbox.
pub(crate) fn path(folder: &Path, id: i64) -> PathBuf {
    folder.join(format!("{id}.eml"))
}

/// Puts a letter into the outbox, on disk before this returns. It is a mail only once the journal knows
/// of it.
pub(super) async fn put(folder: &Path, id: i64, letter: Vec<u8>) -> io::Result<()> {
    let folder = folder.to_owned();
    let written = tokio::task::spawn_blocking(move || {
        use std::os::unix::fs::OpenOptionsExt;
        let (part, last) = (folder.join(format!("{id}.part")), path(&folder, id));
        let mut file = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&part)?;
        file.write_all(&letter)?;
        file.sync_all()?;
        std::fs::rename(part, last)?;
        std::fs::File::open(&folder)?.sync_all()
    });
    written.await.map_err(io::Error::other)?
}

/// The mailbox behind a place.
pub(crate) fn mailbox(place: &Arc<dyn Place>) -> Effect<(&Mailbox, String)> {
    let sender = place.as_mailbox().and_then(|mailbox| Some((mailbox, mailbox.sender()?.to_owned())));
    sender.ok_or_else(|| FailureKind::Lasting {
        code: "no-mailbox".to_owned(),
        why: format!("{} is no mailbox that sends", place.name()),
        remedy: "Name a place of kind \"mailbox\" with send-by and sender in the step, then release.".to_owned(),
    })
}
