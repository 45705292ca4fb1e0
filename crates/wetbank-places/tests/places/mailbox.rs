//! A mailbox on Dovecot and Exim.

use std::time::Duration;

use futures_util::{StreamExt, TryStreamExt};
use secrecy::SecretString;
use wetbank_core::{MailSecurity, MailServer, MailboxSpec, Name, RelPath};
use wetbank_places::{Depth, Entry, EntryKind, Mailbox, Place, PlaceErrorKind, Post, probe};
use wetbank_testbed::{Certificate, MAIL_ADDRESS, MAIL_USER, PostOffice};

fn server(port: u16, security: MailSecurity) -> MailServer {
    MailServer { host: "127.0.0.1".to_owned(), port, security, certificate: None }
}

/// The same, whose certificate is confirmed.
fn confirmed(server: MailServer, certificate: &Certificate) -> MailServer {
    MailServer { certificate: Some(certificate.fingerprint.clone()), ..server }
}

fn spec(office: &PostOffice) -> MailboxSpec {
    MailboxSpec {
        read: Some(confirmed(server(office.imaps, MailSecurity::TlsFromStart), &office.certificate)),
        send: Some(confirmed(server(office.smtp, MailSecurity::Tls), &office.send_certificate)),
        sender: Some(MAIL_ADDRESS.to_owned()),
        sign_in: Some((MAIL_USER.0.to_owned(), Name::new("post").unwrap())),
        connections: 3,
        silence: Duration::from_secs(20),
    }
}

fn mailbox(spec: MailboxSpec, password: &str) -> Mailbox {
    Mailbox::new(Name::new("post").unwrap(), spec, Some(SecretString::from(password)))
}

fn open(office: &PostOffice) -> Mailbox {
    mailbox(spec(office), MAIL_USER.1)
}

fn letter(subject: &str, lines: usize) -> Vec<u8> {
    let text = "a line of some length, so that a letter gets its size\r\n".repeat(lines);
    format!("From: Desk <desk@lindmoor.example>\r\nTo: {MAIL_ADDRESS}\r\nSubject: {subject}\r\n\r\n{text}").into_bytes()
}

async fn listed(place: &Mailbox, folder: &str) -> Vec<Entry> {
    let mut entries: Vec<Entry> = place.list(&RelPath::parse(folder).unwrap(), Depth::One).try_collect().await.unwrap();
    entries.sort_by(|a, b| a.path.as_bytes().cmp(b.path.as_bytes()));
    entries
}

async fn content(place: &Mailbox, path: &RelPath, from: u64) -> Vec<u8> {
    let chunks: Vec<_> = place.read(path, from).await.unwrap().try_collect().await.unwrap();
    chunks.concat()
}

#[tokio::test]
async fn letters_are_files_that_are_listed_looked_at_and_read_in_pieces() {
    let office = PostOffice::start();
    let place = open(&office);
    assert_eq!(listed(&place, "INBOX").await, []);
    let large = letter("large", 40_000);
    office.bring("one", &letter("one", 1));
    office.bring("two", &large);
    let entries = listed(&place, "INBOX").await;
    assert_eq!(entries.len(), 2);
    assert!(entries.iter().all(|entry| entry.kind == EntryKind::File && entry.path.name_text().ends_with(".eml")));
    assert_eq!(entries[0].owner.as_deref(), Some("desk@lindmoor.example"));
    assert_eq!(entries[1].fingerprint.size, large.len() as u64);
    assert_eq!(place.stat(&entries[1].path).await.unwrap(), entries[1]);
    assert!(large.len() > 2 << 20);
    assert!(content(&place, &entries[1].path, 0).await == large);
    assert!(content(&place, &entries[1].path, 1_000_000).await == large[1_000_000..]);
    let root = listed(&place, "").await;
    assert!(root.iter().any(|entry| entry.path.to_string() == "INBOX" && entry.kind == EntryKind::Folder));
}

#[tokio::test]
async fn a_letter_is_filed_away_into_a_folder_that_is_made_whatever_its_name() {
    let office = PostOffice::start();
    let place = open(&office);
    office.bring("one", &letter("one", 1));
    office.bring("two", &letter("two", 1));
    let entries = listed(&place, "INBOX").await;
    let folder = RelPath::parse("Erledigt & geprüft/2026").unwrap();
    place.file_away(&entries[0].path, &folder).await.unwrap();
    place.file_away(&entries[1].path, &folder).await.unwrap();
    assert_eq!(listed(&place, "INBOX").await, []);
    let filed = listed(&place, "Erledigt & geprüft/2026").await;
    assert_eq!(filed.len(), 2);
    assert!(String::from_utf8_lossy(&content(&place, &filed[0].path, 0).await).contains("Subject: one"));
    let again = place.file_away(&entries[0].path, &folder).await.unwrap_err();
    assert_eq!((again.kind, &again.path), (PlaceErrorKind::NotFound, &entries[0].path));
    let below = listed(&place, "Erledigt & geprüft").await;
    assert_eq!(below.iter().map(|entry| entry.path.to_string()).collect::<Vec<_>>(), ["Erledigt & geprüft/2026"]);
}

#[tokio::test]
async fn a_letter_is_deleted_and_nothing_is_ever_written() {
    let office = PostOffice::start();
    let place = open(&office);
    office.bring("one", &letter("one", 1));
    let path = listed(&place, "INBOX").await.remove(0).path;
    place.delete(&path).await.unwrap();
    assert_eq!(listed(&place, "INBOX").await, []);
    for error in [
        place.delete(&path).await.unwrap_err(),
        place.stat(&path).await.unwrap_err(),
        place.read(&path, 0).await.map(drop).unwrap_err(),
        place.stat(&RelPath::parse("INBOX/x.csv").unwrap()).await.unwrap_err(),
        place.list(&RelPath::parse("Nowhere").unwrap(), Depth::One).next().await.unwrap().unwrap_err(),
    ] {
        assert_eq!(error.kind, PlaceErrorKind::NotFound, "{error}");
    }
    let there = RelPath::parse("INBOX/new.eml").unwrap();
    assert_eq!(place.stage(&there, &there, None).await.map(drop).unwrap_err().kind, PlaceErrorKind::Unsupported);
}

#[tokio::test]
async fn a_letter_is_handed_in_and_one_that_is_never_taken_is_told_apart() {
    let office = PostOffice::start();
    let place = open(&office);
    let post = |to: &str| Post {
        from: MAIL_ADDRESS.to_owned(),
        to: vec![to.to_owned()],
        letter: b"Subject: hello\r\n\r\n.a line with a dot\r\n".to_vec(),
    };
    place.send(&post("wardens@merrow.example")).await.unwrap();
    let sent = office.wait_sent(1);
    assert!(
        sent[0].contains("Envelope-to: wardens@merrow.example") && sent[0].contains("\n.a line with a dot"),
        "{sent:?}"
    );
    let refused = place.send(&post("nobody@merrow.example")).await.unwrap_err();
    assert_eq!(refused.kind, PlaceErrorKind::Denied, "{refused}");
    assert!(refused.to_string().contains("no such user here"), "{refused}");
    assert_eq!(place.send(&post("no address")).await.unwrap_err().kind, PlaceErrorKind::Denied);
}

#[tokio::test]
async fn what_is_wrong_with_a_mailbox_is_told_in_its_words() {
    let mut office = PostOffice::start();
    let right = spec(&office);
    let wrong = [
        ("a wrong password", right.clone(), "wrong", PlaceErrorKind::Refused),
        (
            "an unknown certificate",
            MailboxSpec {
                read: right.read.clone().map(|read| MailServer { certificate: Some("SHA256:00".to_owned()), ..read }),
                ..right.clone()
            },
            MAIL_USER.1,
            PlaceErrorKind::Certificate,
        ),
        (
            "no certificate confirmed",
            MailboxSpec { send: Some(server(office.smtp, MailSecurity::Tls)), ..right.clone() },
            MAIL_USER.1,
            PlaceErrorKind::Certificate,
        ),
        (
            "TLS where there is none yet",
            MailboxSpec { read: Some(server(office.imap, MailSecurity::TlsFromStart)), ..right.clone() },
            MAIL_USER.1,
            PlaceErrorKind::Unreachable,
        ),
        (
            "nobody there",
            MailboxSpec { read: Some(server(1, MailSecurity::None)), ..right.clone() },
            MAIL_USER.1,
            PlaceErrorKind::Unreachable,
        ),
    ];
    for (what, spec, password, kind) in wrong {
        let error = mailbox(spec, password).reach().await.unwrap_err();
        assert_eq!(error.kind, kind, "{what}: {error}");
        assert!(!error.to_string().contains(password), "{error}");
    }
    let only_sends = MailboxSpec { read: None, ..right.clone() };
    let refused = mailbox(only_sends.clone(), "wrong").reach().await.unwrap_err();
    assert_eq!(refused.kind, PlaceErrorKind::Refused, "{refused}");
    let steps = probe(&mailbox(only_sends, MAIL_USER.1), false).await;
    assert!(steps.iter().all(|step| step.outcome.is_ok()), "{steps:?}");
    office.stop_sending();
    let away = open(&office).reach().await.unwrap_err();
    assert_eq!(away.kind, PlaceErrorKind::Unreachable, "{away}");
}

#[tokio::test]
async fn a_mailbox_is_secured_on_demand_as_well_and_its_certificate_shown() {
    let office = PostOffice::start();
    let on_demand = MailboxSpec {
        read: Some(confirmed(server(office.imap, MailSecurity::Tls), &office.certificate)),
        ..spec(&office)
    };
    let place = mailbox(on_demand.clone(), MAIL_USER.1);
    assert!(place.reach().await.unwrap().contains("letters can be handed in"));
    assert!(place.certificate_ends().is_some());
    let shown = async |spec: &MailboxSpec| {
        let (name, spec) = (Name::new("post").unwrap(), wetbank_core::PlaceSpec::Mailbox(spec.clone()));
        wetbank_places::shown_identity(&name, &spec).await.unwrap().unwrap()
    };
    let unknown = |server: &Option<MailServer>| server.clone().map(|server| MailServer { certificate: None, ..server });
    // One after the other: first that of the server where letters are read, if it has to be confirmed at all.
    for first in [on_demand.clone(), spec(&office)] {
        let both = MailboxSpec { read: unknown(&first.read), send: unknown(&first.send), ..first.clone() };
        let told = shown(&both).await;
        assert!(told.is(&office.certificate.fingerprint) && told.key == "certificate", "{told:?}");
        let second = MailboxSpec { read: first.read.clone(), ..both.clone() };
        let unsecured = MailboxSpec { read: Some(server(office.imap, MailSecurity::None)), ..both.clone() };
        let only_sends = MailboxSpec { read: None, ..both };
        for spec in [second, unsecured, only_sends] {
            let told = shown(&spec).await;
            assert!(told.is(&office.send_certificate.fingerprint) && told.key == "send-certificate", "{told:?}");
        }
    }
}

#[tokio::test]
async fn letters_go_out_while_the_server_for_reading_is_away() {
    let mut office = PostOffice::start();
    office.stop_reading();
    let place = open(&office);
    assert_eq!(place.reach().await.unwrap_err().kind, PlaceErrorKind::Unreachable);
    let to = vec!["desk@lindmoor.example".to_owned()];
    place.send(&Post { from: MAIL_ADDRESS.to_owned(), to, letter: letter("away", 1) }).await.unwrap();
    office.wait_sent(1);
}

#[tokio::test]
async fn a_mailbox_with_many_letters_is_listed_page_by_page() {
    let office = PostOffice::start();
    for number in 0..10_000 {
        office.bring(&format!("letter-{number}"), &letter(&number.to_string(), 1));
    }
    let place = open(&office);
    let entries = listed(&place, "INBOX").await;
    assert_eq!(entries.len(), 10_000);
    // A listing that is given up halfway leaves the connection to nobody, and others go on.
    let first = place.list(&RelPath::parse("INBOX").unwrap(), Depth::One).next().await.unwrap().unwrap();
    assert_eq!(first.kind, EntryKind::File);
    assert_eq!(listed(&place, "INBOX").await.len(), 10_000);
}
