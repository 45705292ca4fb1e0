//! Mails that wait to be sent: notices, which nothing waits for.

use std::{
    collections::{BTreeMap, HashSet},
    io,
    path::PathBuf,
    sync::Arc,
    time::Duration,
};

use jiff::{SignedDuration, Timestamp};
use tokio_util::sync::CancellationToken;
use wetbank_core::Name;
use wetbank_journal::{MailFate, MailRecord};
use wetbank_places::{PlaceErrorKind, Post};

use crate::{
    EngineError,
    arranged::Arranged,
    clock,
    effects::{letter_path as path, mailbox},
    queue::Queue,
    record::Record,
};

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

/// Mails on their way out.
#[derive(Debug)]
pub(crate) struct Outbox {
    pub record: Record,
    pub arranged: Arc<Arranged>,
    pub queue: Arc<Queue>,
    /// Where they lie.
    pub folder: PathBuf,
    pub cancel: CancellationToken,
}

/// Sends what is due, until the service stops.
pub(crate) async fn run(outbox: Arc<Outbox>) {
    loop {
        let pause = match send_due(&outbox).await {
            Ok(true) => continue,
            Ok(false) => match outbox.record.journal.next_mail().await {
                Ok(due) => due.map(clock::until),
                Err(_) => Some(AGAIN),
            },
            Err(error) => {
                tracing::error!(%error, "mails cannot be sent; trying again");
                Some(AGAIN)
            }
        };
        tokio::select! {
            () = outbox.queue.mails.notified() => {}
            () = tokio::time::sleep(pause.unwrap_or(Duration::MAX)), if pause.is_some() => {}
            () = outbox.cancel.cancelled() => return,
        }
    }
}

/// Removes letters that the journal does not know of, or that were sent. Only before any step is done: a new
/// letter is in the folder before the journal knows of it.
pub(crate) async fn clean(outbox: &Outbox) -> Result<(), EngineError> {
    outbox.record.journal.purge_mails(clock::now() - KEPT).await?;
    let unsent = outbox.record.journal.unsent_mails().await?;
    let kept: HashSet<PathBuf> = unsent.into_iter().map(|mail| path(&outbox.folder, mail)).collect();
    let folder = outbox.folder.clone();
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
async fn send_due(outbox: &Outbox) -> Result<bool, EngineError> {
    let due = outbox.record.journal.mails_due(clock::now(), TOGETHER).await?;
    let more = due.len() as i64 == TOGETHER;
    let mut places: BTreeMap<String, Vec<MailRecord>> = BTreeMap::new();
    for mail in due {
        places.entry(mail.place.clone()).or_default().push(mail);
    }
    let each = places.into_values().map(|mails| async move {
        for mail in mails {
            if outbox.cancel.is_cancelled() {
                return Ok(());
            }
            let id = mail.id;
            let fate = send(outbox, &mail).await;
            if !matches!(fate, MailFate::Sent) {
                tracing::warn!(mail = id, place = %mail.place, ?fate, "a mail was not sent");
            }
            let is_sent = matches!(fate, MailFate::Sent);
            outbox.record.journal.end_mail(id, fate, clock::now()).await?;
            if is_sent {
                let letter = path(&outbox.folder, id);
                let _ = tokio::task::spawn_blocking(move || std::fs::remove_file(letter)).await;
            }
        }
        Ok::<(), EngineError>(())
    });
    futures_util::future::try_join_all(each).await?;
    Ok(more)
}

async fn send(outbox: &Outbox, mail: &MailRecord) -> MailFate {
    let now = clock::now();
    let later = |why: String| {
        if now.duration_since(mail.queued) > GIVEN_UP {
            return MailFate::Refused(format!("given up after three days: {why}"));
        }
        let doubled = u32::try_from(mail.tries.clamp(0, 20)).map_or(LONGEST, |tries| FIRST * 2u32.pow(tries));
        MailFate::Later(clock::after(now, doubled.min(LONGEST)), why)
    };
    let letter = path(&outbox.folder, mail.id);
    let letter = match tokio::task::spawn_blocking(move || std::fs::read(letter)).await {
        Ok(Ok(letter)) => letter,
        Ok(Err(error)) => return MailFate::Refused(format!("its letter is gone from the outbox: {error}")),
        Err(error) => return later(error.to_string()),
    };
    let place = match Name::new(&mail.place).ok().map(|name| outbox.arranged.now().place(&name)) {
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
