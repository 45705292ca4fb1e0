//! Mails: a delivery if they carry files, a notice if they do not.
//!
//! A delivery is done when the server took it; until then the file waits, like one for any other place.
//! A notice is done when it lies in the outbox: it waits there, and nothing waits for it.

use futures_util::StreamExt;
use std::sync::Arc;
use wetbank_core::{FileFacts, FilePath, ItemKind, Mail, Template};
use wetbank_errands::{Enclosed, Letter, write_letter};
use wetbank_journal::NewMail;
use wetbank_places::{Place, Post};

use super::{
    letters::{mailbox, put},
    outcome::{Attempt, Effect, FailureKind, Hand, StepDone, at},
    reading::Source,
    step::AtStep,
};
use crate::clock;

/// Files that get a line of their own.
const MOST_LINES: usize = 2_000;
/// Files read from the journal at once.
const PAGE: i64 = 500;

/// A file that a mail is about.
struct About {
    facts: FileFacts,
    hand: Hand,
}

impl AtStep<'_> {
    pub(super) async fn mail(&self, mail: &Mail, attempt: &mut Attempt) -> Effect<StepDone> {
        // A mailbox has two servers: whether the one can be reached where letters are read says nothing of the other.
        let place = self.effects.arranged.now().place(&mail.by)?;
        let (mailbox, from) = mailbox(&place)?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let (files, more) = self.mail_about().await?;
        let mut lines = Vec::with_capacity(files.len());
        for file in &files {
            lines.push(self.with_file(file.facts.clone(), |facts| mail.line.render(facts))?);
        }
        if more > 0 {
            lines.push(format!("and {more} more"));
        }
        let mut about = (*self.facts().about).clone();
        about.insert("lines".to_owned(), lines.join("\n"));
        about.insert("files".to_owned(), (files.len() + more).to_string());
        let facts = self.facts().with(Arc::new(about));
        let render = |template: &Template| self.with_file(facts.clone(), |facts| template.render(facts));
        let to = mail.to.iter().map(|to| Ok(render(to)?.trim().to_owned())).collect::<Effect<Vec<_>>>()?;
        let (subject, text) = (render(&mail.subject)?, render(&mail.text)?);
        let enclosed = self.enclosed(mail, &files).await?;
        let (carried, recipients) = (enclosed.len(), to.join(", "));
        let letter = Letter {
            from: from.clone(),
            to: to.clone(),
            subject: subject.clone(),
            text,
            files: enclosed,
            id: format!(
                "{}.{}.{}.{}@{}",
                self.effects.work.instance,
                self.work.item,
                self.branch,
                at(self.position),
                wetbank_places::host_name().unwrap_or_else(|| "localhost".to_owned())
            ),
            date: clock::now(),
        };
        let letter = write_letter(letter)?;
        let done = |note: String| StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(self.hand, &note) };
        if carried == 0 {
            put(&self.effects.outbox, id, letter).await.map_err(wetbank_errands::ErrandError::from)?;
            let (rule, place) = (self.rule.name.clone(), mail.by.clone());
            let new = NewMail { id, rule, place, recipients: recipients.clone(), subject };
            return Ok(StepDone { mail: Some(new), ..done(format!("in the outbox, to {recipients}")) });
        }
        let post = Post { from, to, letter };
        tokio::select! {
            sent = mailbox.send(&post) => sent?,
            () = self.stop.cancelled() => return Err(FailureKind::Stopping),
        }
        let files = if carried == 1 { "1 file".to_owned() } else { format!("{carried} files") };
        Ok(done(format!("{files} to {recipients}")))
    }

    /// The files that a mail is about: those that one was made of, or the one in hand. Also how many more
    /// there are than get a line.
    async fn mail_about(&self) -> Effect<(Vec<About>, usize)> {
        let mut files = Vec::new();
        let mut more = 0;
        if self.work.kind == ItemKind::Made {
            let mut after = 0;
            loop {
                let page = self.effects.record.journal.sources(self.work.item, after, PAGE).await?;
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
                    let facts = FileFacts::new(&file, &hand.fingerprint).with(self.facts().about);
                    files.push(About { facts, hand });
                }
            }
        }
        if files.is_empty() && !self.hand.name.is_root() {
            files.push(About { facts: self.facts(), hand: self.hand.clone() });
        }
        Ok((files, more))
    }

    /// Reads what is to be attached: the file in hand, or those that wait to go together.
    async fn enclosed(&self, mail: &Mail, files: &[About]) -> Effect<Vec<Enclosed>> {
        let in_hand = self.hand.has_file().then_some(self.hand);
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
                Some(name) => self.place(name)?,
                None => Arc::new(self.effects.work.folder.clone()),
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
}
