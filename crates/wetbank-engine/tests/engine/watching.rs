//! What is seen in a watched folder, and when.

use std::{fs, io::Write, time::Duration};

use wetbank_core::ItemState;

use crate::support::{Office, branch, on_arrival, states};

fn copies() -> String {
    on_arrival(&branch("{ copy = { to = \"archive\", exists = \"replace\" } }"))
}

#[tokio::test(flavor = "multi_thread")]
async fn what_lies_there_at_the_beginning_is_taken_and_what_comes_later_too() {
    let office = Office::new("").await;
    office.put("office/in/before.csv", "06:00;1.20");
    office.arrange(&copies()).await;
    office.only().await;
    office.put("office/in/after.csv", "07:00;1.25");
    let items = office.at_rest(2).await;
    assert!(items.iter().all(|item| item.state == ItemState::Done));
    assert_eq!(office.names("archive"), ["after.csv", "before.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_taken_when_its_writer_closed_it_and_not_before() {
    let office = Office::new(&copies()).await;
    let mut writer = fs::File::create(office.path("office/in/slow.csv")).unwrap();
    writer.write_all(b"06:00;1.20\n").unwrap();
    office.put("office/in/other.csv", "seen after it");
    assert_eq!(office.only().await.file.path.to_string(), "in/other.csv", "the other one is still written");
    writer.write_all(b"07:00;1.25\n").unwrap();
    drop(writer);
    office.at_rest(2).await;
    assert_eq!(office.read("archive/slow.csv"), "06:00;1.20\n07:00;1.25\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_written_anew_is_taken_again_and_one_that_is_touched_by_nobody_is_not() {
    let office = Office::new(&copies()).await;
    office.put("office/in/a.csv", "the first");
    office.only().await;
    office.put("office/in/a.csv", "the second, which is longer");
    office.at_rest(2).await;
    assert_eq!(office.read("archive/a.csv"), "the second, which is longer");
    office.put("office/in/b.csv", "a sign that the folder was looked at once more");
    assert_eq!(office.at_rest(3).await.len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn names_patterns_and_folders_below_are_heeded() {
    let rule = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", names = [\"*.csv\"], except = [\"draft-*\"], below = true } }\n\
                [[rule.keep.branch]]\nsteps = [ { copy = { to = \"archive\", folder = \"{{ file.folder }}\" } } ]\n";
    let office = Office::new(rule).await;
    for name in ["in/notes.txt", "in/draft-1.csv", "in/deep/er/draft-2.csv", "beside/other.csv"] {
        office.put(&format!("office/{name}"), name);
    }
    office.put("office/in/deep/er/gauge.csv", "below");
    office.put("office/in/gauge.csv", "above");
    let items = office.at_rest(2).await;
    let (above, below) =
        (("in/gauge.csv".to_owned(), ItemState::Done), ("in/deep/er/gauge.csv".to_owned(), ItemState::Done));
    assert_eq!(states(&items), [below, above]);
    assert_eq!(office.read("archive/in/deep/er/gauge.csv"), "below");
}

#[tokio::test(flavor = "multi_thread")]
async fn capitals_count_unless_it_is_said_that_they_do_not() {
    let rule = |case: &str| {
        format!(
            "[rule.keep]\nstarts = {{ arrival = {{ place = \"office\", folder = \"in\", names = [\"*.csv\"], case = \"{case}\" }} }}\n{}\n",
            branch("{ copy = { to = \"archive\" } }")
        )
    };
    let office = Office::new(&rule("exact")).await;
    office.put("office/in/GAUGE.CSV", "capitals");
    office.put("office/in/gauge.csv", "none");
    assert_eq!(office.only().await.file.path.to_string(), "in/gauge.csv");
    office.arrange(&rule("ignore")).await;
    office.at_rest(2).await;
    assert_eq!(office.read("archive/GAUGE.CSV"), "capitals");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_with_a_marker_waits_for_it_and_the_marker_is_no_file() {
    let rule = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", marker = \"*.done\" } }\n\
                [[rule.keep.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n";
    let office = Office::new(rule).await;
    office.put("office/in/waits.csv", "no marker");
    office.put("office/in/goes.csv", "with a marker");
    office.put("office/in/goes.csv.done", "");
    assert_eq!(office.only().await.file.path.to_string(), "in/goes.csv");
    assert_eq!(office.names("archive"), ["goes.csv"]);
    office.put("office/in/waits.csv.done", "");
    office.at_rest(2).await;
    assert_eq!(office.names("archive"), ["goes.csv", "waits.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_file_that_goes_away_a_rule_about_that_is_told() {
    let rule = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", of = [\"gone\"] } }\n\
                [[rule.keep.branch]]\nsteps = [ { note = { text = \"{{ file.name }} is gone\" } } ]\n";
    let office = Office::new(rule).await;
    office.put("office/in/a.csv", "for a while");
    // It must have been seen once: what nobody saw cannot go.
    let known = || async {
        let explained = office.engine.explain(&crate::support::file("office:/in/a.csv"), None).await.unwrap();
        explained.rules.iter().any(|rule| rule.notes.iter().any(|note| note.contains("took this very file")))
    };
    for _ in 0..200 {
        if known().await {
            break;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    fs::remove_file(office.path("office/in/a.csv")).unwrap();
    let item = office.only().await;
    assert_eq!(office.tried(&item).await, ["note done"]);
    assert_eq!(item.state, ItemState::Done);
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_wait_for_each_other_are_one_run() {
    let rule = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", gather = { count = 3 } } }\n\
                [[rule.keep.branch]]\nsteps = [ { manifest = { as = \"SUMS\" } }, { copy = { to = \"archive\" } } ]\n";
    let office = Office::new(rule).await;
    for name in ["a", "b"] {
        office.put(&format!("office/in/{name}.csv"), name);
    }
    office.put("office/in/c.csv", "c");
    office.until("listed", |items| items.len() == 4 && items.iter().all(|item| item.state == ItemState::Done)).await;
    assert_eq!(office.read("archive/SUMS").lines().count(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_rule_sets_aside_in_its_own_folder_is_not_taken_again() {
    let rule = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", below = true } }\n\
                [[rule.keep.branch]]\nsteps = [ { copy = { folder = \"in\", as = \"{{ file.name }}.copy\" } } ]\noriginal = { move-to = \"seen\" }\n";
    let office = Office::new(rule).await;
    office.put("office/in/a.csv", "once");
    office.only().await;
    office.put("office/in/b.csv", "a sign that the folder was looked at once more");
    let items = office.at_rest(2).await;
    assert!(items.iter().all(|item| item.state == ItemState::Done));
    assert_eq!(office.names("office/in"), ["a.csv.copy", "b.csv.copy", "seen"]);
    assert_eq!(office.names("office/in/seen"), ["a.csv", "b.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_that_is_made_later_is_watched_when_it_is_there() {
    let rule = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"later\" } }\n\
                [[rule.keep.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n";
    let office = Office::new(rule).await;
    let told = async |there: bool| {
        for _ in 0..1_000 {
            if office.engine.troubles().is_empty() != there {
                return true;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        false
    };
    assert!(told(true).await, "it is told that the folder is not there");
    office.put("office/later/a.csv", "in a new folder");
    office.only().await;
    assert_eq!(office.read("archive/a.csv"), "in a new folder");
    assert!(told(false).await, "and that it is there");
}
