//! The state of a run is the one that its items' states make, as the domain says.

use wetbank_core::{ItemState, RunState, run_state};
use wetbank_journal::{Journal, Work};

use crate::{at, open, record, sighting};

async fn run_of(journal: &Journal, items: usize) -> Vec<Work> {
    let sightings = (0..items).map(|number| sighting(&format!("office:/in/{number}.csv"), "1"));
    let sightings = sightings.map(|one| wetbank_journal::Sighting { again: true, ..one }).collect();
    journal.take_together(sightings, wetbank_core::Cause::Hand, None, at(1)).await.unwrap()
}

#[tokio::test]
async fn a_run_is_as_its_items_are_in_every_combination_of_their_states() {
    let (_folder, journal) = open().await;
    let mut combinations: Vec<Vec<ItemState>> = vec![vec![]];
    for _ in 0..3 {
        let longer = |some: &Vec<ItemState>| ItemState::ALL.map(|state| [some.as_slice(), &[state]].concat());
        combinations.extend(combinations.clone().iter().flat_map(longer));
    }
    for states in combinations.into_iter().filter(|states| !states.is_empty()) {
        let works = run_of(&journal, states.len()).await;
        let run = works[0].run;
        // A run is looked at when an item comes to rest, or may go on: those are the last to be recorded.
        let mut both: Vec<_> = works.iter().zip(&states).collect();
        both.sort_by_key(|(_, state)| !matches!(state, ItemState::Queued | ItemState::Working | ItemState::Waiting));
        for (work, state) in both {
            if *state != ItemState::Queued {
                record(&journal, work, *state).await;
            }
        }
        let recorded = journal.run(run).await.unwrap().unwrap();
        let expected = run_state(states.iter().copied());
        assert_eq!(recorded.state, expected.as_str(), "{states:?}");
        let is_over = states.iter().all(|state| matches!(state, ItemState::Done | ItemState::Skipped));
        assert_eq!(recorded.ended.is_some(), is_over, "{states:?}");
        assert!(!is_over || matches!(expected, RunState::Done | RunState::Skipped));
    }
}

/// How SQLite goes about a query.
async fn plan(folder: &std::path::Path, query: &str) -> Vec<String> {
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(folder.join("journal.db"));
    let mut connection = sqlx::ConnectOptions::connect(&options).await.unwrap();
    let explained = format!("EXPLAIN QUERY PLAN {query}");
    let rows = sqlx::query(sqlx::AssertSqlSafe(explained)).fetch_all(&mut connection).await.unwrap();
    rows.iter().map(|row| sqlx::Row::get::<String, _>(row, "detail")).collect()
}

#[tokio::test]
async fn nobody_walks_through_all_items_of_a_run_to_tell_how_it_stands() {
    let (folder, _journal) = open().await;
    let asked = [
        include_str!("../../queries/runs_settle.sql"),
        include_str!("../../queries/join_runs.sql"),
        include_str!("../../queries/join_through.sql"),
        include_str!("../../queries/join_standing.sql"),
        include_str!("../../queries/join_gathered.sql"),
    ];
    for query in asked {
        let plan = plan(folder.path(), query).await;
        let looks: Vec<_> =
            plan.iter().filter(|step| step.contains(" item") || step.contains(" i ") || step.contains(" s ")).collect();
        let open = ["item_to_do", "item_held", "item_joining"];
        assert!(looks.iter().any(|step| open.iter().any(|index| step.contains(index))), "{query}: {plan:#?}");
        // Only whether any is done may be asked of all, and the first that is answers it.
        let is_whole = |step: &&&String| {
            step.contains("item_by_run") || (step.starts_with("SCAN item") && !step.contains("item_joining"))
        };
        let whole = looks.iter().filter(is_whole).count();
        let allowed = usize::from(query.contains("state = 'done'"));
        assert!(whole <= allowed, "{query}: {plan:#?}");
    }
}

#[tokio::test]
async fn the_end_of_a_result_costs_the_same_however_many_its_file_has() {
    let (folder, _journal) = open().await;
    for query in [include_str!("../../queries/results_begin.sql"), include_str!("../../queries/results_end.sql")] {
        let plan = plan(folder.path(), query).await;
        let walks = ["SCAN item", "SCAN r", "SCAN m"];
        assert!(!plan.iter().any(|step| walks.contains(&step.as_str())), "{plan:#?}");
    }
}
