//! Which branch a file goes, and which of its steps are done.

use wetbank_core::ItemState;

use crate::support::{Office, branch, by_hand, states};

#[tokio::test(flavor = "multi_thread")]
async fn the_first_branch_that_holds_takes_the_file_and_what_none_takes_is_skipped() {
    let branches = "[[rule.keep.branch]]\nif = { file = \"name\", like = \"assay-*\" }\nsteps = [ { copy = { to = \"harbour\" } } ]\n\
        [[rule.keep.branch]]\nif = { file = \"extension\", is = \"csv\" }\nsteps = [ { copy = { to = \"archive\" } } ]\n";
    let office = Office::new(&by_hand("", branches)).await;
    for name in ["assay-1.csv", "gauge.csv", "notes.txt"] {
        office.put(&format!("office/in/{name}"), name);
    }
    let items = office.run(3).await;
    let told: Vec<_> = states(&items).into_iter().map(|(_, state)| state).collect();
    assert_eq!(told, [ItemState::Done, ItemState::Done, ItemState::Skipped]);
    assert_eq!(
        (office.names("harbour"), office.names("archive")),
        (vec!["assay-1.csv".to_owned()], vec!["gauge.csv".to_owned()])
    );
    let skipped = items.iter().find(|item| item.state == ItemState::Skipped).unwrap();
    assert!(office.tried(skipped).await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn conditions_ask_for_size_and_for_what_stands_in_the_name() {
    let branches = "[[rule.keep.branch]]\nif = { all = [ { file = \"size\", over = \"1 KiB\" }, { none = [ { file = \"name\", matches = \"(?i)draft\" } ] } ] }\n\
        steps = [ { copy = { to = \"archive\" } } ]\n[[rule.keep.branch]]\nsteps = [ { hold = { why = \"too small, or a draft\" } } ]\n";
    let office = Office::new(&by_hand("", branches)).await;
    office.put("office/in/large.csv", vec![b'x'; 2_000]);
    office.put("office/in/large-DRAFT.csv", vec![b'x'; 2_000]);
    office.put("office/in/small.csv", "x");
    let items = office.run(3).await;
    assert_eq!(office.names("archive"), ["large.csv"]);
    let held: Vec<_> = items.iter().filter_map(|item| item.why.clone()).collect();
    assert_eq!(held, ["too small, or a draft", "too small, or a draft"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_step_with_a_condition_is_left_out_for_others() {
    let steps =
        "{ copy = { to = \"archive\" }, if = { file = \"name\", is = \"a.csv\" } }, { copy = { to = \"harbour\" } }";
    let office = Office::new(&by_hand("", &branch(steps))).await;
    office.put("office/in/a.csv", "a");
    office.put("office/in/b.csv", "b");
    office.run(2).await;
    assert_eq!((office.names("archive"), office.names("harbour").len()), (vec!["a.csv".to_owned()], 2));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_goes_on_in_a_later_branch() {
    let branches = "[[rule.keep.branch]]\nif = { file = \"name\", like = \"assay-*\" }\n\
        steps = [ { copy = { to = \"harbour\" } }, { continue = { branch = \"Everything\" } } ]\n\
        [[rule.keep.branch]]\ntitle = \"Everything\"\nsteps = [ { copy = { to = \"archive\" } } ]\n";
    let office = Office::new(&by_hand("", branches)).await;
    office.put("office/in/assay-1.csv", "one");
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Done);
    assert_eq!(
        (office.read("harbour/assay-1.csv"), office.read("archive/assay-1.csv")),
        ("one".to_owned(), "one".to_owned())
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_is_made_of_the_file_the_rule_and_the_day() {
    let steps = "{ copy = { to = \"archive\", folder = \"{{ rule.name }}/{{ file.extension }}\", as = \"{{ file.stem }}-{{ count | pad(3) }}.{{ file.extension }}\" } }";
    let office = Office::new(&by_hand("", &branch(steps))).await;
    office.put("office/in/gauge.csv", "x");
    office.run(1).await;
    assert_eq!(office.names("archive/keep/csv"), ["gauge-001.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_held_file_is_released_with_the_rule_of_today() {
    let office = Office::new(&by_hand("", &branch("{ hold = { why = \"look\" } }"))).await;
    office.put("office/in/a.csv", "a");
    let held = office.run(1).await.remove(0);
    assert_eq!((held.state, held.why.as_deref()), (ItemState::Held, Some("look")));
    office.take_name();
    office.arrange(&by_hand("", &branch("{ copy = { to = \"archive\" } }"))).await;
    let again = office.run(2).await.remove(1);
    assert_eq!(again.state, ItemState::Held, "the archive is not there");
    office.arrange(&by_hand("", &branch("{ copy = { to = \"harbour\" } }"))).await;
    office.engine.release(again.id).await.unwrap();
    office.until("done", |items| items[1].state == ItemState::Done).await;
    assert_eq!(office.names("harbour"), ["a.csv"]);
}
