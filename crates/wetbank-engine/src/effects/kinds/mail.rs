//! Mails: a delivery if they carry files, a notice if they do not.
//!
//! A delivery is done when the server took it; until then the file waits, like one for any other place.
//! A notice is done when it lies in the outbox: it waits there, and nothing waits for it.

use std::sync::Arc;

use futures_util::StreamExt;
use wetbank_core::{FileFacts, FilePath, ItemKind, Template, step};
use wetbank_errands::{Enclosed, Letter, write_letter};
use wetbank_journal::NewMail;
use wetbank_places::{Place, Post};

use super::{AtStep, Attempt, Does, Effect, FailureKind, Hand, StepDone};
use crate::{
    clock,
    effects::{
        letters::{mailbox, put},
        outcome::{Told, at as code_at},
        reading::Source,
    },
};

/// Files that get a line of their own.
const MOST_LINES: usize = 2_000;
/// Files read from the journal at once.
const PAGE: i64 = 500;

/// A file that a mail is about.
struct About {
    facts: FileFacts,
    hand: Hand,
}

impl Does for step::Mail {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        // A mailbox has two servers: whether the one can be reached where letters are read says nothing of the other.
        let place = at.effects.arranged.now().place(&self.by)?;
        let (mailbox, from) = mailbox(&place)?;
        let id = at.effects.record.journal.next_attempt();
        at.start(at.began(id, None, None), attempt).await?;
        let (files, more) = mail_about(at).await?;
        let mut lines = Vec::with_capacity(files.len());
        for file in &files {
            lines.push(at.with_file(file.facts.clone(), |facts| self.line.render(facts))?);
        }
        if more > 0 {
            lines.push(format!("and {more} more"));
        }
        let mut about = (*at.facts().about).clone();
        about.insert("lines".to_owned(), lines.join("\n"));
        about.insert("files".to_owned(), (files.len() + more).to_string());
        let facts = at.facts().with(Arc::new(about));
        let render = |template: &Template| at.with_file(facts.clone(), |facts| template.render(facts));
        let to = self.to.iter().map(|to| Ok(render(to)?.trim().to_owned())).collect::<Effect<Vec<_>>>()?;
        // What tells of a twin's passes is written already.
        let (subject, text) = match at.hand.told.as_deref() {
            Some(Told { subject, text }) => (subject.clone(), text.clone()),
            None => (render(&self.subject)?, render(&self.text)?),
        };
        let enclosed = enclosed(at, self, &files).await?;
        let (carried, recipients) = (enclosed.len(), to.join(", "));
        let letter = Letter {
            from: from.clone(),
            to: to.clone(),
            subject: subject.clone(),
            text,
            files: enclosed,
            id: format!(
                "{}.{}.{}.{}@{}",
                at.effects.work.instance,
                at.work.item,
                at.branch,
                code_at(at.position),
                wetbank_places::host_name().unwrap_or_else(|| "localhost".to_owned())
            ),
            date: clock::now(),
        };
        let letter = write_letter(letter)?;
        let done = |note: String| StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(at.hand, &note) };
        if carried == 0 {
            put(&at.effects.outbox, id, letter).await.map_err(wetbank_errands::ErrandError::from)?;
            let (rule, place) = (at.rule.name.clone(), self.by.clone());
            let new = NewMail { id, rule, place, recipients: recipients.clone(), subject };
            return Ok(StepDone { mail: Some(new), ..done(format!("in the outbox, to {recipients}")) });
        }
        let post = Post { from, to, letter };
        tokio::select! {
            sent = mailbox.send(&post) => sent?,
            () = at.stop.cancelled() => return Err(FailureKind::Stopping),
        }
        let files = if carried == 1 { "1 file".to_owned() } else { format!("{carried} files") };
        Ok(done(format!("{files} to {recipients}")))
    }
}

/// The files that a mail is about: those that one was made of, or the one in hand. Also how many more
/// there are than get a line.
async fn mail_about(at: &AtStep<'_>) -> Effect<(Vec<About>, usize)> {
    let mut files = Vec::new();
    let mut more = 0;
    if at.work.kind == ItemKind::Made {
        let mut after = 0;
        loop {
            let page = at.effects.record.journal.sources(at.work.item, after, PAGE).await?;
            let Some(last) = page.last() else { break };
            after = last.item;
            for record in page {
                let Some(hand) = Hand::read(record.hand.as_deref())? else { continue };
                if files.len() >= MOST_LINES {
                    more += 1;
                    continue;
                }
                let path = record.file.path.parent().join(&hand.name);
                let file = FilePath { place: record.file.place, path };
                let facts = FileFacts::new(&file, &hand.fingerprint).with(at.facts().about);
                files.push(About { facts, hand });
            }
        }
    }
    if files.is_empty() && !at.hand.name.is_root() {
        files.push(About { facts: at.facts(), hand: at.hand.clone() });
    }
    Ok((files, more))
}

/// Reads what is to be attached: the file in hand, or those that wait to go together.
async fn enclosed(at: &AtStep<'_>, mail: &step::Mail, files: &[About]) -> Effect<Vec<Enclosed>> {
    let in_hand = at.hand.has_file().then_some(at.hand);
    let waiting = files.iter().map(|file| &file.hand).filter(|_| in_hand.is_none());
    let mut enclosed = Vec::new();
    let mut size = 0u64;
    for hand in in_hand.into_iter().chain(waiting) {
        let name = hand.name.name_text();
        if !hand.has_file() || !mail.attach.iter().any(|pattern| pattern.is_match(&name)) {
            continue;
        }
        let too_much = |size: u64| {
            FailureKind::Lasting {
            code: "too-large".to_owned(),
            why: format!(
                "what is to be attached has {} or more, and the step allows {}",
                wetbank_core::ByteSize(size),
                mail.most
            ),
            remedy: "Deliver large files to a place and only tell of them by mail; or allow more with most = \"…\", then release.".to_owned(),
        }
        };
        if size + hand.fingerprint.size > mail.most.0 {
            return Err(too_much(size + hand.fingerprint.size));
        }
        let place: Arc<dyn Place> = match &hand.place {
            Some(name) => at.place(name)?,
            None => Arc::new(at.effects.work.folder.clone()),
        };
        let source = Source { place, path: hand.path.clone(), fingerprint: hand.fingerprint.clone() };
        let there = source.place.stat(&source.path).await?;
        if there.fingerprint != source.fingerprint {
            return Err(FailureKind::Passing {
                code: "busy".to_owned(),
                why: format!("\"{}\" changed before it was sent", source.path),
                remedy: "It is read again when its writer is done.".to_owned(),
            });
        }
        let mut content = Vec::with_capacity(usize::try_from(hand.fingerprint.size).unwrap_or_default());
        let mut chunks = source.place.read(&source.path, 0).await?;
        while let Some(chunk) = chunks.next().await.transpose()? {
            size += chunk.len() as u64;
            if size > mail.most.0 {
                return Err(too_much(size));
            }
            content.extend_from_slice(&chunk);
        }
        enclosed.push(Enclosed { name, content });
    }
    Ok(enclosed)
}
