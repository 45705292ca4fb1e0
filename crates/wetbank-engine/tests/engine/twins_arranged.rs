//! Twins of the book: when their passes are made, what a person is asked, and what comes back.

use std::{fs, time::Duration};

use wetbank_core::{
    Cause, ItemState, Name, RelPath,
    twin::{Choices, Side},
};

use crate::support::Office;

/// A twin `readings` of the office's folder `in` and the archive's folder `shared`.
fn twin(keys: &str) -> String {
    format!(
        "[twin.readings]\nnear = {{ place = \"office\", folder = \"in\" }}\nfar = {{ place = \"archive\", folder = \"shared\" }}\n{keys}\n"
    )
}

async fn office(book: &str) -> Office {
    let office = Office::new("").await;
    fs::create_dir_all(office.path("archive/shared")).unwrap();
    office.arrange(book).await;
    office
}

async fn until(what: &str, is: impl AsyncFn() -> bool) {
    let end = std::time::Instant::now() + Duration::from_secs(30);
    while !is().await {
        assert!(std::time::Instant::now() < end, "never: {what}");
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

async fn pass(office: &Office) -> wetbank_engine::Passing {
    let twin = office.engine.twin("readings").unwrap();
    office.engine.pass(&twin, Cause::Hand, &Choices::default()).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_changes_on_a_side_is_on_the_other_and_what_was_meant_for_nobody_is_not() {
    let office = office(&twin("way = \"both\"\nexcept = [\"*.tmp\", \"/drafts\"]\nstarts = { change = {} }")).await;
    office.put("office/in/a.csv", "a");
    until("a is there", async || office.is_there("archive/shared/a.csv")).await;
    office.put("archive/shared/deep/er/b.csv", "b");
    until("b is here", async || office.is_there("office/in/deep/er/b.csv")).await;
    // A folder that came just now is watched too.
    office.put("office/in/deep/er/c.csv", "c");
    office.put("office/in/x.tmp", "x");
    office.put("office/in/drafts/y.csv", "y");
    office.put("office/in/.hidden", "z");
    until("c is there", async || office.is_there("archive/shared/deep/er/c.csv")).await;
    fs::remove_file(office.path("archive/shared/a.csv")).unwrap();
    until("a is gone here", async || !office.is_there("office/in/a.csv")).await;
    for name in ["x.tmp", "drafts", ".hidden"] {
        assert!(!office.is_there(&format!("archive/shared/{name}")), "{name}");
    }
    // Off, nothing follows until somebody asks.
    office.engine.switch_twin("readings", false).await.unwrap();
    office.put("office/in/d.csv", "d");
    tokio::time::sleep(Duration::from_millis(400)).await;
    assert!(!office.is_there("archive/shared/d.csv"));
    pass(&office).await;
    assert!(office.is_there("archive/shared/d.csv"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_twin_follows_its_schedule_and_a_rule_brings_several_up_to_date() {
    let book = format!(
        "{}[twin.copies]\nnear = {{ place = \"office\", folder = \"in\" }}\nfar = {{ place = \"harbour\" }}\nway = \"add\"\n\
         [rule.nightly]\nstarts = {{ hand = {{}} }}\n[[rule.nightly.branch]]\n\
         steps = [ {{ align = {{ twin = \"readings\" }} }}, {{ align = {{ twin = \"copies\" }} }} ]\n",
        twin("way = \"exact\"\nstarts = { schedule = { every = \"1 s\" } }")
    );
    let office = office(&book).await;
    office.put("office/in/a.csv", "a");
    until("the clock to see to it", async || office.is_there("archive/shared/a.csv")).await;
    assert!(!office.is_there("harbour/a.csv"));
    office.engine.run_rule("nightly", false).await.unwrap();
    until("the rule to see to the other", async || office.is_there("harbour/a.csv")).await;
    until("the rule to be done", async || office.items().await.iter().all(|item| item.state == ItemState::Done)).await;
    let twins = office.engine.twins(10).await.unwrap();
    assert_eq!(twins.len(), 2);
    assert!(twins[0].next.is_some() && twins[1].next.is_none());
    let schedule = twins[0].passes.iter().filter(|pass| pass.record.run.is_some()).count();
    assert_eq!(schedule, 1, "passes without a change are no runs: {:?}", twins[0].passes);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stopped_pass_waits_for_a_person_once_and_goes_on_when_it_is_released() {
    let office = office(&twin("way = \"exact\"")).await;
    for number in 0..30 {
        office.put(&format!("office/in/{number}.csv"), number.to_string());
    }
    pass(&office).await;
    for number in 0..12 {
        fs::remove_file(office.path(&format!("office/in/{number}.csv"))).unwrap();
    }
    // As fast as they follow each other: what an earlier one asks may not be held yet.
    for _ in 0..20 {
        assert!(pass(&office).await.stop.is_some());
    }
    let held = |items: Vec<wetbank_journal::ItemRecord>| {
        items.into_iter().filter(|item| item.state == ItemState::Held).collect::<Vec<_>>()
    };
    until("it to be held", async || !held(office.items().await).is_empty()).await;
    let status = office.engine.twin_now("readings", 5).await.unwrap();
    let (item, why) = status.question.unwrap();
    assert!(why.contains("would delete 12 of 30 files on the far side"), "{why}");
    assert_eq!(held(office.items().await).len(), 1, "it is asked once");
    office.engine.release(item).await.unwrap();
    until("it to be done", async || !office.is_there("archive/shared/0.csv")).await;
    until("nothing to be held", async || held(office.items().await).is_empty()).await;
    until("nothing to be asked", async || office.engine.twin_now("readings", 1).await.unwrap().question.is_none())
        .await;
    // Whoever puts back what was missing has nothing to answer.
    for number in 12..30 {
        fs::rename(office.path(&format!("office/in/{number}.csv")), office.path(&format!("aside-{number}"))).unwrap();
    }
    assert!(pass(&office).await.stop.is_some());
    until("it to be held", async || !held(office.items().await).is_empty()).await;
    for number in 12..30 {
        fs::rename(office.path(&format!("aside-{number}")), office.path(&format!("office/in/{number}.csv"))).unwrap();
    }
    assert_eq!(pass(&office).await.stop, None);
    until("nothing to be held", async || held(office.items().await).is_empty()).await;
    // What is released when it would be more by then is stopped again.
    for number in 12..24 {
        fs::remove_file(office.path(&format!("office/in/{number}.csv"))).unwrap();
    }
    assert!(pass(&office).await.stop.is_some());
    until("it to be held", async || !held(office.items().await).is_empty()).await;
    let (item, _) = office.engine.twin_now("readings", 1).await.unwrap().question.unwrap();
    fs::remove_file(office.path("office/in/24.csv")).unwrap();
    office.engine.release(item).await.unwrap();
    until("it to be asked anew", async || {
        let question = office.engine.twin_now("readings", 1).await.unwrap().question;
        question.is_some_and(|(_, why)| why.contains("delete 13"))
    })
    .await;
    assert!(office.is_there("archive/shared/12.csv"), "nothing was deleted");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_side_lost_is_brought_back_to_both_and_goes_for_good_after_its_days() {
    for way in ["both", "exact"] {
        let office = office(&twin(&format!("way = \"{way}\"\nkeep-days = 3"))).await;
        office.put("office/in/2026/a.csv", "a");
        office.put("office/in/2026/b.csv", "b");
        pass(&office).await;
        fs::remove_dir_all(office.path("office/in/2026")).unwrap();
        office.put("office/in/c.csv", "c");
        pass(&office).await;
        assert!(!office.is_there("archive/shared/2026"), "{way}");
        let twin = office.engine.twin("readings").unwrap();
        let (kept, more) = office.engine.kept(&twin, 10).await.unwrap();
        let told: Vec<_> = kept.iter().map(|one| (one.side, one.path.to_string(), one.state.print.size)).collect();
        assert_eq!(told, [(Side::Far, "2026/a.csv".to_owned(), 1), (Side::Far, "2026/b.csv".to_owned(), 1)]);
        assert!(!more);
        let path = |text: &str| RelPath::parse(text).unwrap();
        let none = office.engine.restore(&twin, Side::Far, kept[0].day, &[path("2026/nothing.csv")]).await.unwrap();
        assert_eq!(none, None);
        office.engine.restore(&twin, Side::Far, kept[0].day, &[path("2026/a.csv")]).await.unwrap().unwrap();
        until("a is back", async || {
            office.is_there("archive/shared/2026/a.csv") && office.is_there("office/in/2026/a.csv")
        })
        .await;
        until("it to be done", async || office.items().await.iter().all(|item| item.state == ItemState::Done)).await;
        let after = pass(&office).await;
        assert_eq!((after.run, after.counts.is_alike()), (None, true), "{way}: it stays");
        assert_eq!(office.engine.kept(&twin, 10).await.unwrap().0.len(), 1);
        // A file of its name is there by now: it comes back beside it.
        office.put("office/in/2026/b.csv", "another b");
        pass(&office).await;
        office.engine.restore(&twin, Side::Far, kept[0].day, &[]).await.unwrap().unwrap();
        until("b is back", async || office.names("office/in/2026").len() == 3).await;
        until("it to be done", async || office.items().await.iter().all(|item| item.state == ItemState::Done)).await;
        assert_eq!(office.names("office/in/2026"), office.names("archive/shared/2026"));
        assert_eq!(office.read("office/in/2026/b.csv"), "another b");
        // Days later what is kept goes, and nothing else.
        fs::remove_file(office.path("office/in/c.csv")).unwrap();
        pass(&office).await;
        let now = jiff::Timestamp::now();
        let days = |days: i64| now + jiff::SignedDuration::from_hours(24 * days);
        office.engine.purge_kept(&twin, days(3)).await.unwrap();
        assert_eq!(office.engine.kept(&twin, 10).await.unwrap().0.len(), 1);
        office.engine.purge_kept(&twin, days(5)).await.unwrap();
        assert!(office.engine.kept(&twin, 10).await.unwrap().0.is_empty());
        assert_eq!(pass(&office).await.run, None);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_that_lies_in_the_other_one_by_another_way_is_refused_before_anything_is_done() {
    let office = office(&twin("way = \"both\"")).await;
    office.put("office/in/a.csv", "a");
    fs::remove_dir(office.path("archive/shared")).unwrap();
    for far in ["office/in/below", "office/in", "office"] {
        fs::create_dir_all(office.path(far)).unwrap();
        std::os::unix::fs::symlink(office.path(far), office.path("archive/shared")).unwrap();
        let twin = office.engine.twin("readings").unwrap();
        let refused = office.engine.pass(&twin, Cause::Hand, &Choices::default()).await.unwrap_err().to_string();
        assert!(refused.contains("one lies in the other") || refused.contains("archive"), "{refused}");
        fs::remove_file(office.path("archive/shared")).unwrap();
    }
    assert_eq!(office.names("office/in"), ["a.csv", "below"]);
    assert!(office.names("office/in/below").is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn two_sides_that_meet_under_the_name_of_an_older_twin_meet_for_the_first_time() {
    let office = office(&twin("way = \"both\"")).await;
    office.put("office/in/a.csv", "a");
    pass(&office).await;
    office.put("harbour/b.csv", "b");
    office.arrange(&twin("way = \"both\"").replace("\"archive\", folder = \"shared\"", "\"harbour\"")).await;
    let passing = pass(&office).await;
    assert!(passing.is_first && passing.stop.is_none(), "{passing:?}");
    assert!(office.is_there("harbour/a.csv") && office.is_there("office/in/b.csv"));
    assert_eq!(office.names("archive/shared"), [".wetbank-kept", "a.csv"]);
    assert_eq!(office.engine.arrangement().twin(&Name::new("readings").unwrap()).unwrap().twin.keep_days, 30);
}
