//! Every call with every one of its answers lost.

use futures_util::StreamExt;
use wetbank_places::{Collision, Depth, Place, PlaceError, PlaceErrorKind};

use crate::support::{Rig, path, put, read};

/// The line is whole again: a connection of which nobody had heard that it is cut is given up by then.
async fn reached(place: &dyn Place) {
    let mut told = None;
    for _ in 0..5 {
        match place.stat(&path("nobody-has-this")).await.expect_err("there is no such file") {
            error if error.kind == PlaceErrorKind::NotFound => return,
            error => told = Some(error),
        }
    }
    panic!("the line stays broken: {}", told.expect("it was tried"));
}

/// Runs a call with every one of its answers lost in turn. It may succeed, by asking again; or it says that the
/// line broke, and nothing that would be taken for the server's word.
async fn with_every_answer_lost<T>(
    rig: &Rig,
    what: &str,
    mut call: impl AsyncFnMut(usize) -> Result<T, PlaceError>,
    mut judge: impl AsyncFnMut(usize, Option<T>),
) {
    let line = rig.line.as_ref().expect("a line to a server");
    reached(rig.place.as_ref()).await;
    call(0).await.unwrap();
    // How many answers there are depends on what comes together: it is over when calls went through uncut.
    let (mut number, mut cut, mut uncut) = (0, 0, 0);
    while uncut < if cut == 0 { 12 } else { 2 } {
        number += 1;
        line.cut_at(number);
        let result = call(number).await;
        let has_cut = line.has_cut();
        cut += usize::from(has_cut);
        uncut = if has_cut { 0 } else { uncut + 1 };
        line.cut_at(0);
        // By now the server has also done what it was asked before the line broke.
        reached(rig.place.as_ref()).await;
        let done = match result {
            Ok(done) => Some(done),
            Err(error) => {
                let is_broken = matches!(error.kind, PlaceErrorKind::Interrupted | PlaceErrorKind::Unreachable);
                assert!(is_broken, "{what}, answer {number} lost: {:?}: {error}", error.kind);
                None
            }
        };
        judge(number, done).await;
    }
    assert!(cut > 0, "{what}: no answer was lost");
}

pub async fn an_answer_that_is_lost_is_told_as_a_broken_line_and_as_nothing_else(rig: Rig) {
    if rig.line.is_none() {
        return;
    }
    let (place, outside) = (rig.place.as_ref(), &rig.outside);
    let named = |number: usize| format!("bulletin-{number:03}.pdf");
    let parted = |number: usize| format!(".wetbank-{number}");
    let write = async |number| put(place, &parted(number), &path(&named(number)), b"pages").await;
    with_every_answer_lost(&rig, "to write", write, async |number, done| {
        let there = outside.get(named(number)).await;
        assert!(there.is_none() || there.as_deref() == Some(b"pages"), "whole or not at all");
        assert!(done.is_none() || there.is_some());
        let found = place.stat(&path(&named(number))).await.map_err(|error| error.kind);
        assert_eq!(found.is_ok(), there.is_some(), "the place tells the same: {found:?}");
    })
    .await;
    for number in 0..60 {
        outside.put(format!("old-{number}"), "pages").await;
    }
    let rename = async |number| {
        let (from, to) = (path(&format!("old-{number}")), path(&format!("new-{number}")));
        place.rename(&from, &to, Collision::Refuse).await.map(drop)
    };
    with_every_answer_lost(&rig, "to rename", rename, async |number, done| {
        let (old, new) = (outside.get(format!("old-{number}")).await, outside.get(format!("new-{number}")).await);
        assert!(old.is_some() || new.is_some(), "it is lost under both names");
        assert!(done.is_none() || (old.is_none() && new.is_some()));
    })
    .await;
    for number in 0..60 {
        outside.put(format!("gone-{number}"), "pages").await;
    }
    let delete = async |number| place.delete(&path(&format!("gone-{number}"))).await;
    with_every_answer_lost(&rig, "to delete", delete, async |number, done| {
        let there = outside.get(format!("gone-{number}")).await.is_some();
        assert!(done.is_none() || !there);
    })
    .await;
    let make = async |number| place.make_folder(&path(&format!("2026/{number}"))).await;
    with_every_answer_lost(&rig, "to make a folder", make, async |number, done| {
        assert!(done.is_none() || outside.has_folder(&format!("2026/{number}")).await);
    })
    .await;
    outside.put("below/file", "pages").await;
    let list = async |_| place.list(&path("below"), Depth::One).next().await.expect("not an empty folder");
    with_every_answer_lost(&rig, "to list", list, async |_, _| {}).await;
    let look = async |_| place.stat(&path("below/file")).await;
    with_every_answer_lost(&rig, "to look at a file", look, async |_, _| {}).await;
    let fetch = async |_| read(place, "below/file").await;
    with_every_answer_lost(&rig, "to read", fetch, async |_, content| {
        assert!(content.is_none_or(|content| content == b"pages"));
    })
    .await;
}
