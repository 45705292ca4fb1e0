//! Mails that wait to be sent: notices, which nothing waits for.

use std::{
    collections::{BTreeMap, HashSet},
    io::{self, Write},
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

use jiff::{SignedDuration, Timestamp};
use wetbank_core::Name;
use wetbank_journal::{MailFate, MailRecord};
use wetbank_places::{PlaceErrorKind, Post};

use crate::{EngineError, clock, engine::Core, step::mailbox};

/// Mails taken up at once.
const TOGETHER: i64 = 50;
/// The pause after the first failure; it doubles up to the longest.
const FIRST: Duration = Duration::from_secs(15);
const LONGEST: Duration = Duration::from_secs(30 * 60);
/// A mail that was not sent for so long never is.
const GIVEN_UP: SignedDuration = SignedDuration::from_hours(72);
/// What was sent is told of for so long.
const KEPT: SignedDuration = SignedDuration::from_hours(30 * 24);
/// After the journal refused something, when it is tried again.
const AGAIN: Duration = Duration::from_secs(5);

fn path(folder: &Path, id: i64) -> PathBuf {
    folder.join(format!("{id}.eml"))
}

/// Puts a letter into the outbox, on disk before this returns. It is a mail only once the journal knows
/// of it.
pub(crate) async fn put(folder: &Path, id: i64, letter: Vec<u8>) -> io::Result<()> {
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

/// Sends what is due, until the service stops.
pub(crate) async fn run(core: Arc<Core>) {
    loop {
        let pause = match send_due(&core).await {
            Ok(true) => continue,
            Ok(false) => match core.journal.next_mail().await {
                Ok(due) => due.map(clock::until),
                Err(_) => Some(AGAIN),
            },
            Err(error) => {
                tracing::error!(%error, "mails cannot be sent; trying again");
                Some(AGAIN)
            }
        };
        tokio::select! {
            () = core.mail_news.notified() => {}
            () = tokio::time::sleep(pause.unwrap_or(Duration::MAX)), if pause.is_some() => {}
            () = core.cancel.cancelled() => return,
        }
    }
}

/// Removes letters that the journal does not know of, or that were sent. Only before any step is done: a new
/// letter is in the folder before the journal knows of it.
pub(crate) async fn clean(core: &Core) -> Result<(), EngineError> {
    core.journal.purge_mails(clock::now() - KEPT).await?;
    let unsent = core.journal.unsent_mails().await?;
    let kept: HashSet<PathBuf> = unsent.into_iter().map(|mail| path(&core.outbox, mail)).collect();
    let folder = core.outbox.clone();
    let cleaned = tokio::task::spawn_blocking(move || {
        for entry in std::fs::read_dir(folder)?.flatten() {
            if !kept.contains(&entry.path()) {
                std::fs::remove_file(entry.path())?;
            }
        }
        Ok::<(), io::Error>(())
    });
    if let Ok(Err(error)) = cleaned.await {
        tracing::warn!(%error, "a letter that is of no use cannot be removed");
    }
    Ok(())
}

/// Sends what is due, places beside each other. Answers whether there may be more.
async fn send_due(core: &Arc<Core>) -> Result<bool, EngineError> {
    let due = core.journal.mails_due(clock::now(), TOGETHER).await?;
    let more = due.len() as i64 == TOGETHER;
    let mut places: BTreeMap<String, Vec<MailRecord>> = BTreeMap::new();
    for mail in due {
        places.entry(mail.place.clone()).or_default().push(mail);
    }
    let each = places.into_values().map(|mails| async move {
        for mail in mails {
            if core.cancel.is_cancelled() {
                return Ok(());
            }
            let id = mail.id;
            let fate = send(core, &mail).await;
            if !matches!(fate, MailFate::Sent) {
                tracing::warn!(mail = id, place = %mail.place, ?fate, "a mail was not sent");
            }
            let is_sent = matches!(fate, MailFate::Sent);
            core.journal.end_mail(id, fate, clock::now()).await?;
            if is_sent {
                let letter = path(&core.outbox, id);
                let _ = tokio::task::spawn_blocking(move || std::fs::remove_file(letter)).await;
            }
        }
        Ok::<(), EngineError>(())
    });
    futures_util::future::try_join_all(each).await?;
    Ok(more)
}

async fn send(core: &Core, mail: &MailRecord) -> MailFate {
    let now = clock::now();
    let later = |why: String| {
        if now.duration_since(mail.queued) > GIVEN_UP {
            return MailFate::Refused(format!("given up after three days: {why}"));
        }
        let doubled = u32::try_from(mail.tries.clamp(0, 20)).map_or(LONGEST, |tries| FIRST * 2u32.pow(tries));
        MailFate::Later(clock::after(now, doubled.min(LONGEST)), why)
    };
    let letter = path(&core.outbox, mail.id);
    let letter = match tokio::task::spawn_blocking(move || std::fs::read(letter)).await {
        Ok(Ok(letter)) => letter,
        Ok(Err(error)) => return MailFate::Refused(format!("its letter is gone from the outbox: {error}")),
        Err(error) => return later(error.to_string()),
    };
    let place = match Name::new(&mail.place).ok().map(|name| core.arrangement().place(&name)) {
        Some(Ok(place)) => place,
        Some(Err(error)) => return later(error.to_string()),
        None => return MailFate::Refused(format!("\"{}\" is no place", mail.place)),
    };
    let Ok((mailbox, from)) = mailbox(&place) else {
        return later(format!("{} is no mailbox that sends", mail.place));
    };
    let to = mail.recipients.split(", ").map(str::to_owned).collect();
    match mailbox.send(&Post { from, to, letter }).await {
        Ok(()) => MailFate::Sent,
        Err(error) if error.kind == PlaceErrorKind::Denied => MailFate::Refused(error.to_string()),
        Err(error) => later(error.to_string()),
    }
}

/// What is told of mails that were not sent.
pub(crate) fn since_for_warnings(now: Timestamp) -> Timestamp {
    now - SignedDuration::from_hours(3 * 24)
}
