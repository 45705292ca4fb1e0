//! Mails that wait to be sent.

use wetbank_core::{ItemState, Name};
use wetbank_journal::{Journal, MailFate, NewMail, Progress};

use crate::{at, change, open, sighting, take};

async fn write(journal: &Journal, subject: &str) -> i64 {
    let work = take(journal, sighting(&format!("office:/{subject}.csv"), "1")).await.unwrap();
    let id = journal.next_attempt();
    let mail = NewMail {
        id,
        rule: work.rule.clone(),
        place: Name::new("post").unwrap(),
        recipients: "tove@merrow.example".to_owned(),
        subject: subject.to_owned(),
    };
    let mut step = Progress::change(change(&work, ItemState::Done));
    step.mail = Some(mail);
    journal.record(step).await.unwrap();
    id
}

async fn subjects(journal: &Journal) -> Vec<(String, String)> {
    journal.mails(50).await.unwrap().into_iter().map(|mail| (mail.subject, mail.state)).collect()
}

fn pair(subject: &str, state: &str) -> (String, String) {
    (subject.to_owned(), state.to_owned())
}

#[tokio::test]
async fn a_mail_is_written_with_its_step_and_survives_a_stop() {
    let (folder, journal) = open().await;
    let id = write(&journal, "bulletin").await;
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    let far = at(1_000_000_000);
    let due = journal.mails_due(far, 10).await.unwrap();
    assert_eq!((due.len(), due[0].id, due[0].tries), (1, id, 0));
    assert_eq!(due[0].recipients, "tove@merrow.example");
    assert!(journal.next_mail().await.unwrap().is_some());
    assert_eq!(journal.unsent_mails().await.unwrap(), [id]);
}

#[tokio::test]
async fn a_mail_that_failed_is_due_later_and_a_sent_one_never_again() {
    let (_folder, journal) = open().await;
    let id = write(&journal, "bulletin").await;
    let later = at(500_000_000);
    journal.end_mail(id, MailFate::Later(later, "no answer".to_owned()), at(10)).await.unwrap();
    assert!(journal.mails_due(at(400_000_000), 10).await.unwrap().is_empty());
    assert_eq!(journal.next_mail().await.unwrap(), Some(later));
    let late = journal.late_mails(at(0)).await.unwrap();
    assert_eq!((late[0].place.as_str(), late[0].count, late[0].why.as_deref()), ("post", 1, Some("no answer")));
    assert_eq!(journal.mails(1).await.unwrap()[0].tries, 1);
    journal.end_mail(id, MailFate::Sent, at(20)).await.unwrap();
    assert_eq!(journal.next_mail().await.unwrap(), None);
    assert!(journal.late_mails(at(0)).await.unwrap().is_empty());
    assert!(journal.unsent_mails().await.unwrap().is_empty());
    assert!(!journal.mail_again(id, at(30)).await.unwrap(), "a mail that went is not sent a second time");
    assert!(journal.mails_due(at(1_000_000_000), 10).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_refused_mail_is_told_until_somebody_has_it_tried_again() {
    let (_folder, journal) = open().await;
    let id = write(&journal, "bulletin").await;
    journal.end_mail(id, MailFate::Refused("no such user".to_owned()), at(10)).await.unwrap();
    assert!(journal.mails_due(at(1_000_000_000), 10).await.unwrap().is_empty());
    assert_eq!(journal.late_mails(at(0)).await.unwrap().len(), 1);
    assert!(journal.late_mails(at(11)).await.unwrap().is_empty(), "old refusals are no news");
    assert_eq!(journal.unsent_mails().await.unwrap(), [id], "its text is kept as long as it was not sent");
    assert!(journal.mail_again(id, at(20)).await.unwrap());
    assert_eq!(journal.mails_due(at(20), 10).await.unwrap()[0].id, id);
    assert!(!journal.mail_again(id + 1, at(20)).await.unwrap());
}

#[tokio::test]
async fn those_that_wait_are_listed_first_and_only_those_that_ended_are_given_up() {
    let (_folder, journal) = open().await;
    let mut ids = Vec::new();
    for subject in ["first", "second", "third"] {
        ids.push(write(&journal, subject).await);
    }
    journal.end_mail(ids[1], MailFate::Sent, at(10)).await.unwrap();
    journal.end_mail(ids[2], MailFate::Refused("too large".to_owned()), at(20)).await.unwrap();
    let listed = subjects(&journal).await;
    assert_eq!(listed, [pair("first", "waiting"), pair("third", "refused"), pair("second", "sent")]);
    journal.purge_mails(at(15)).await.unwrap();
    assert_eq!(subjects(&journal).await, [pair("first", "waiting"), pair("third", "refused")]);
    journal.purge_mails(at(1_000_000_000)).await.unwrap();
    assert_eq!(subjects(&journal).await, [pair("first", "waiting")], "what waits is never given up");
}
