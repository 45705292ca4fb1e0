//! Who may come, over a real journal: what is on record counts after a restart, what the journal refuses has not happened.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{net::IpAddr, sync::Arc};

use jiff::{SignedDuration, Timestamp};
use secrecy::SecretString;
use tempfile::TempDir;
use wetbank_core::{Rights, Role};
use wetbank_crypt::Vault;
use wetbank_journal::Journal;
use wetbank_people::{Asking, NewToken, People, PeopleError, Whose};

struct Office {
    folder: TempDir,
    journal: Journal,
    people: People,
}

async fn open(folder: TempDir) -> Office {
    let journal = Journal::open(folder.path()).await.unwrap();
    let vault = Arc::new(Vault::open(folder.path(), true).unwrap());
    let people = People::open(journal.clone(), vault).await.unwrap();
    Office { folder, journal, people }
}

impl Office {
    async fn new() -> Self {
        open(TempDir::new().unwrap()).await
    }

    async fn again(self) -> Self {
        self.journal.close().await;
        open(self.folder).await
    }

    /// Lets somebody in; answers her cookie.
    async fn let_in(&self, name: &str, role: Role, now: Timestamp) -> String {
        self.people.put_user(name, "", Rights::everywhere(role), now).await.unwrap();
        let (link, _) = self.people.new_link(Some(name), now).await.unwrap();
        let opened = self.people.open_link(link.reveal(), Some(&herons()), None, &HERE, now).await.unwrap();
        opened.cookie.reveal().to_owned()
    }
}

const HERE: Asking<'_> = Asking { address: IpAddr::V4(std::net::Ipv4Addr::LOCALHOST), agent: "a test" };

fn herons() -> SecretString {
    "four grey herons".into()
}

fn later(hours: i64) -> Timestamp {
    Timestamp::now() + SignedDuration::from_hours(hours)
}

#[tokio::test]
async fn a_session_outlives_a_restart_and_ends_unused_or_old() {
    let (office, now) = (Office::new().await, Timestamp::now());
    let cookie = office.let_in("ina", Role::Manager, now).await;
    let office = office.again().await;
    let caller = office.people.session(&cookie, now).unwrap();
    assert_eq!((&*caller.who, caller.rights.role, caller.ends.unwrap() > later(29 * 24)), ("ina", Role::Manager, true));
    assert!(office.people.session(&cookie, later(13)).is_none(), "nobody used it for long");
    assert!(caller.ended.is_cancelled(), "whoever holds on to it is told");
    let cookie = office.let_in("tove", Role::Viewer, now).await;
    for day in 0..30 {
        let at = now + SignedDuration::from_hours(11 + day * 11);
        assert!(office.people.session(&cookie, at).is_some(), "it is used");
    }
    assert!(office.people.session(&cookie, later(24 * 30 + 1)).is_none(), "but not for ever");
}

#[tokio::test]
async fn a_link_is_over_after_its_time_and_no_other_opens_what_it_opens() {
    let (office, now) = (Office::new().await, Timestamp::now());
    office.people.put_user("ina", "Ina", Rights::everywhere(Role::Viewer), now).await.unwrap();
    let (link, ends) = office.people.new_link(Some("ina"), now).await.unwrap();
    assert!(matches!(office.people.look(link.reveal(), ends).await, Err(PeopleError::NoLink)));
    let late = office.people.open_link(link.reveal(), Some(&herons()), None, &HERE, ends).await;
    assert!(matches!(late, Err(PeopleError::NoLink)), "{late:?}");
    for guess in ["", "0", &"0".repeat(64), &link.reveal()[1..]] {
        assert!(matches!(office.people.look(guess, now).await, Err(PeopleError::NoLink)));
    }
    let none = office.people.open_link(link.reveal(), None, None, &HERE, now).await;
    assert!(matches!(none, Err(PeopleError::Weak(_))), "{none:?}");
    assert!(office.people.open_link(link.reveal(), Some(&herons()), None, &HERE, now).await.is_ok());
    assert!(matches!(office.people.new_link(Some("nobody"), now).await, Err(PeopleError::Unknown { .. })));
}

#[tokio::test]
async fn the_last_owner_stays_one_and_the_last_of_all_may_go() {
    let (office, now) = (Office::new().await, Timestamp::now());
    office.people.put_user("ina", "", Rights::everywhere(Role::Owner), now).await.unwrap();
    office.people.put_user("tove", "", Rights::everywhere(Role::Manager), now).await.unwrap();
    let fallen = office.people.put_user("ina", "", Rights::everywhere(Role::Viewer), now).await;
    assert!(matches!(fallen, Err(PeopleError::LastOwner(_))), "{fallen:?}");
    assert!(matches!(office.people.remove_user("ina").await, Err(PeopleError::LastOwner(_))));
    office.people.put_user("tove", "", Rights::everywhere(Role::Owner), now).await.unwrap();
    office.people.remove_user("ina").await.unwrap();
    office.people.remove_user("tove").await.unwrap();
    assert!(matches!(
        office.people.put_user("Ina Skerry", "", Rights::everywhere(Role::Owner), now).await,
        Err(PeopleError::Name(_))
    ));
    assert!(office.again().await.people.users().is_empty());
}

#[tokio::test]
async fn what_the_journal_refuses_gives_no_right_and_what_was_taken_is_taken() {
    let (office, now) = (Office::new().await, Timestamp::now());
    let cookie = office.let_in("ina", Role::Viewer, now).await;
    let session = office.people.session(&cookie, now).unwrap().session().unwrap();
    office.journal.close().await;
    assert!(office.people.put_user("ina", "", Rights::everywhere(Role::Owner), now).await.is_err());
    assert_eq!(office.people.user("ina").unwrap().rights.role, Role::Viewer);
    assert!(office.people.put_user("tove", "", Rights::everywhere(Role::Owner), now).await.is_err());
    assert_eq!(office.people.users().len(), 1);
    assert!(office.people.sign_in("ina", &herons(), None, &HERE, now).await.is_err(), "nobody comes in off the record");
    let token = NewToken { name: "desk".to_owned(), user: None, role: Role::Viewer, days: None };
    assert!(office.people.add_token(token, "ina", now).await.is_err() && office.people.tokens(None).is_empty());
    assert!(office.people.end_session(session).await.is_err());
    assert!(office.people.session(&cookie, now).is_none(), "it ended all the same");
}

#[tokio::test]
async fn so_many_sessions_a_user_and_the_oldest_gives_way() {
    let (office, now) = (Office::new().await, Timestamp::now());
    let first = office.let_in("ina", Role::Viewer, now).await;
    for _ in 0..50 {
        office.people.sign_in("ina", &herons(), None, &HERE, now).await.unwrap();
    }
    assert_eq!(office.people.sessions(Whose::Own(Some("ina")), now).len(), 50);
    assert!(office.people.session(&first, now).is_none());
}

#[tokio::test]
async fn what_opens_a_door_is_not_on_record() {
    let (office, now) = (Office::new().await, Timestamp::now());
    let cookie = office.let_in("ina", Role::Viewer, now).await;
    let (link, _) = office.people.new_link(Some("ina"), now).await.unwrap();
    let token = NewToken { name: "desk".to_owned(), user: None, role: Role::Viewer, days: None };
    let token = office.people.add_token(token, "ina", now).await.unwrap();
    assert!(office.people.token(token.reveal(), now).is_some());
    let path = office.folder.path().join("journal.db");
    let office = office.again().await;
    assert!(office.people.token(token.reveal(), now).is_some());
    office.journal.close().await;
    let bytes = std::fs::read(path).unwrap();
    for canary in [&*cookie, link.reveal(), token.reveal(), "four grey herons"] {
        assert!(!bytes.windows(canary.len()).any(|window| window == canary.as_bytes()));
        if let Ok(raw) = hex::decode(canary) {
            assert!(!bytes.windows(raw.len()).any(|window| window == raw));
        }
    }
}
