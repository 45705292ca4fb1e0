//! One suite of facts, run on every back end against the real thing.

mod lost_answers;
mod rigs;

use std::fs;

use crate::support::{Outside, Rig, path, put, read, read_from, write};
use futures_util::StreamExt;
use lost_answers::an_answer_that_is_lost_is_told_as_a_broken_line_and_as_nothing_else;
use rigs::{
    bucket, drive, folder, ftp, ftp_on, proftpd_ssh, sftp, share, small_bucket, small_ftp, webdav, webdav_on,
    webdav_with_slashes,
};
use tempfile::TempDir;
use wetbank_core::{BucketAddressing, RelPath};
use wetbank_places::{Collision, Depth, Entry, EntryKind, Names, PlaceErrorKind};
use wetbank_testbed::{FtpOffer, FtpServer, ShareOffer, WebServer};

macro_rules! facts {
    ($($fact:ident),+ $(,)?) => {
        mod on_ftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp(super::FtpOffer::Plain)).await })+ }
        mod on_ftp_with_tls { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp(super::FtpOffer::Tls)).await })+ }
        mod on_ftp_with_tls_from_start { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp(super::FtpOffer::TlsFromStart)).await })+ }
        mod on_old_ftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp(super::FtpOffer::Old)).await })+ }
        mod on_vsftpd { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp_on(super::FtpServer::vsftpd(""))).await })+ }
        mod on_pure_ftpd { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp_on(super::FtpServer::pure())).await })+ }
        mod on_proftpd_with_sftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::proftpd_ssh()).await })+ }
        mod on_share { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::share(super::ShareOffer::Usual)).await })+ }
        mod on_signed_share { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::share(super::ShareOffer::Plain)).await })+ }
        mod on_oldest_share { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::share(super::ShareOffer::Oldest)).await })+ }
        mod on_webdav { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::webdav()).await })+ }
        mod on_webdav_with_slashes { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::webdav_with_slashes()).await })+ }
        mod on_nginx { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::webdav_on(super::WebServer::nginx())).await })+ }
        mod on_lighttpd { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::webdav_on(super::WebServer::lighttpd())).await })+ }
        mod on_bucket { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::bucket(super::BucketAddressing::Path).await).await })+ }
        mod on_bucket_by_host { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::bucket(super::BucketAddressing::Host).await).await })+ }
        mod on_drive { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::drive().await).await })+ }
        mod on_small_bucket { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::small_bucket().await).await })+ }
        mod on_small_ftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::small_ftp().await).await })+ }
        mod on_folder { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::folder()).await })+ }
        mod on_sftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::sftp()).await })+ }
    };
}

facts!(
    what_is_written_is_read_back,
    nothing_is_visible_before_the_rename,
    what_is_staged_can_be_given_up,
    rename_replaces_its_target_when_told,
    rename_refuses_a_taken_name_when_told,
    a_missing_file_is_not_found,
    a_missing_folder_is_not_found,
    a_large_file_is_read_from_any_offset,
    a_broken_write_is_resumed_behind_what_is_there,
    a_new_write_replaces_a_leftover,
    thousands_of_entries_are_listed_each_once,
    a_deep_listing_shows_what_lies_below,
    awkward_names_survive,
    an_awkward_folder_is_listed_as_it_is_called,
    a_name_as_long_as_can_be_is_fine_and_a_longer_one_is_not,
    the_time_of_a_file_is_set_before_it_has_its_name_and_stays,
    links_and_pipes_are_told_and_never_read,
    no_link_leads_out_of_the_root,
    folders_are_made_with_those_above_and_once_more_without_harm,
    delete_removes_a_file_and_no_folder,
    only_an_empty_folder_is_removed,
    a_root_that_is_gone_is_no_empty_folder,
    many_writers_at_once_do_not_mix,
    an_unreadable_file_is_denied_or_read_by_root,
    an_answer_that_is_lost_is_told_as_a_broken_line_and_as_nothing_else,
);

async fn what_is_written_is_read_back(rig: Rig) {
    let place = rig.place.as_ref();
    for size in [0, 1, 32_768, 262_144, 262_145, 3_000_000, 20_000_000] {
        let content: Vec<u8> = (0..size).map(|n: usize| (n * 7 % 251) as u8).collect();
        let entry = write(place, ".wetbank-1", &path("whole"), &content).await.unwrap();
        assert_eq!(entry.fingerprint.size, size as u64);
        let now = place.rename(&path(".wetbank-1"), &path("whole"), Collision::Replace).await.unwrap();
        assert!(read(place, "whole").await.unwrap() == content, "{size}");
        assert_eq!(now.is_none(), place.capabilities().rename_keeps_state);
        let after = place.stat(&path("whole")).await.unwrap();
        assert_eq!(after.fingerprint, now.unwrap_or(entry.fingerprint), "the state is as it was told");
        // Who owns it, some servers tell in a listing only.
        let state = |entry: Entry| (entry.path, entry.kind, entry.fingerprint);
        let listed: Vec<_> =
            place.list(&RelPath::root(), Depth::One).map(|entry| state(entry.unwrap())).collect().await;
        assert_eq!(listed, [state(after)], "nothing is left beside it, and a listing tells the same state");
    }
}

async fn the_time_of_a_file_is_set_before_it_has_its_name_and_stays(rig: Rig) {
    let place = rig.place.as_ref();
    if !place.capabilities().sets_times {
        return;
    }
    let at = 1_600_000_000_500_000_000;
    let before = write(place, ".wetbank-1", &path("old"), b"old").await.unwrap();
    let set = place.set_modified(&path(".wetbank-1"), at).await.unwrap();
    // Few FTP servers can be told.
    let may_keep_its_own = place.capabilities().names == Names::OneLine && set.fingerprint == before.fingerprint;
    assert!(set.fingerprint.modified / 1_000_000_000 == at / 1_000_000_000 || may_keep_its_own, "{set:?}");
    place.rename(&path(".wetbank-1"), &path("old"), Collision::Refuse).await.unwrap();
    assert_eq!(place.stat(&path("old")).await.unwrap().fingerprint, set.fingerprint);
    // Beyond what some can say: it is told how it is.
    for odd in [-1, i64::MAX] {
        let told = place.set_modified(&path("old"), odd).await.unwrap();
        assert_eq!(place.stat(&path("old")).await.unwrap().fingerprint, told.fingerprint, "{odd}");
    }
    assert_eq!(place.set_modified(&path("none"), at).await.unwrap_err().kind, PlaceErrorKind::NotFound);
}

async fn nothing_is_visible_before_the_rename(rig: Rig) {
    for size in [4, 9_000_000] {
        write(rig.place.as_ref(), ".wetbank-1", &path("whole"), &vec![7; size]).await.unwrap();
        assert_eq!(rig.place.stat(&path("whole")).await.unwrap_err().kind, PlaceErrorKind::NotFound);
        rig.place.rename(&path(".wetbank-1"), &path("whole"), Collision::Refuse).await.unwrap();
        assert_eq!(rig.place.stat(&path(".wetbank-1")).await.unwrap_err().kind, PlaceErrorKind::NotFound);
        rig.place.delete(&path("whole")).await.unwrap();
    }
}

async fn what_is_staged_can_be_given_up(rig: Rig) {
    for size in [4, 9_000_000] {
        write(rig.place.as_ref(), ".wetbank-1", &path("whole"), &vec![7; size]).await.unwrap();
        rig.place.delete(&path(".wetbank-1")).await.unwrap();
        assert_eq!(rig.place.delete(&path(".wetbank-1")).await.unwrap_err().kind, PlaceErrorKind::NotFound);
        assert_eq!(rig.place.list(&RelPath::root(), Depth::One).count().await, 0);
    }
}

async fn rename_replaces_its_target_when_told(rig: Rig) {
    rig.outside.put("old", "old").await;
    rig.outside.put("new", "new").await;
    rig.place.rename(&path("new"), &path("old"), Collision::Replace).await.unwrap();
    assert_eq!(rig.outside.get("old").await.unwrap(), b"new");
    assert_eq!(rig.outside.get("new").await, None);
}

async fn rename_refuses_a_taken_name_when_told(rig: Rig) {
    rig.outside.put("old", "old").await;
    rig.outside.put("new", "new").await;
    let error = rig.place.rename(&path("new"), &path("old"), Collision::Refuse).await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Exists, "{error}");
    assert_eq!(rig.outside.get("old").await.unwrap(), b"old");
    assert_eq!(rig.outside.get("new").await.unwrap(), b"new");
    for size in [4, 9_000_000] {
        write(rig.place.as_ref(), ".wetbank-1", &path("old"), &vec![7; size]).await.unwrap();
        let error = rig.place.rename(&path(".wetbank-1"), &path("old"), Collision::Refuse).await.unwrap_err();
        assert_eq!(error.kind, PlaceErrorKind::Exists, "{error}");
        assert_eq!(rig.outside.get("old").await.unwrap(), b"old");
        rig.place.delete(&path(".wetbank-1")).await.unwrap();
    }
}

async fn a_missing_file_is_not_found(rig: Rig) {
    let place = &rig.place;
    for error in [
        place.stat(&path("no")).await.unwrap_err(),
        place.read(&path("no"), 0).await.err().unwrap(),
        place.delete(&path("no")).await.unwrap_err(),
        place.rename(&path("no"), &path("yes"), Collision::Refuse).await.unwrap_err(),
    ] {
        assert_eq!(error.kind, PlaceErrorKind::NotFound, "{error}");
        assert!(error.to_string().contains(place.name().as_str()), "{error}");
    }
}

async fn a_missing_folder_is_not_found(rig: Rig) {
    if !rig.place.capabilities().folders_are_made {
        assert!(rig.place.list(&path("no"), Depth::One).next().await.is_none());
        return put(rig.place.as_ref(), "no/part", &path("no/whole"), b"x").await.unwrap();
    }
    let listed = rig.place.list(&path("no"), Depth::One).next().await.unwrap();
    assert_eq!(listed.unwrap_err().kind, PlaceErrorKind::NotFound);
    let staged = rig.place.stage(&path("no/part"), &path("no/whole"), None).await.err().unwrap();
    assert_eq!(staged.kind, PlaceErrorKind::NotFound, "{staged}");
}

async fn a_large_file_is_read_from_any_offset(rig: Rig) {
    let content: Vec<u8> = (0..5_000_000u32).map(|n| (n % 253) as u8).collect();
    rig.outside.put("large", &content).await;
    for offset in [0, 1, 261_119, 261_120, 4_999_999, 5_000_000] {
        let part = read_from(rig.place.as_ref(), &path("large"), offset).await.unwrap();
        assert!(part == content[offset as usize..], "from {offset}");
    }
}

async fn a_broken_write_is_resumed_behind_what_is_there(rig: Rig) {
    if !rig.place.capabilities().resumes {
        let refused =
            rig.place.stage(&path("part"), &path("whole"), Some(10)).await.err().expect("it says that it cannot");
        assert_eq!(refused.kind, PlaceErrorKind::Unsupported);
        return;
    }
    let behind = if rig.place.capabilities().cuts_when_resuming { " and too much" } else { "ab" };
    rig.outside.put("part", format!("0123456789{behind}")).await;
    let mut staged = rig.place.stage(&path("part"), &path("whole"), Some(10)).await.unwrap();
    staged.write("abc".into()).await.unwrap();
    assert_eq!(staged.finish().await.unwrap().fingerprint.size, 13);
    assert_eq!(rig.outside.get("part").await.unwrap(), b"0123456789abc");
}

async fn a_new_write_replaces_a_leftover(rig: Rig) {
    for size in [3, 9_000_000] {
        let leftover = write(rig.place.as_ref(), ".wetbank-1", &path("whole"), &vec![1; size * 2]).await;
        leftover.expect("it is written and never named");
        put(rig.place.as_ref(), ".wetbank-1", &path("whole"), &vec![2; size]).await.unwrap();
        assert!(rig.outside.get("whole").await.unwrap() == vec![2; size]);
        rig.place.delete(&path("whole")).await.unwrap();
    }
}

async fn thousands_of_entries_are_listed_each_once(rig: Rig) {
    // A server that needs 10 ms for each is asked for three pages.
    let count = if matches!(rig.outside, Outside::Open(_)) { 2100 } else { 5000 };
    let put = async |number| rig.outside.put(format!("gauge-{number:04}.csv"), "x").await;
    futures_util::stream::iter(0..count).for_each_concurrent(8, put).await;
    let mut names: Vec<String> =
        rig.place.list(&RelPath::root(), Depth::One).map(|e| e.unwrap().path.to_string()).collect().await;
    names.sort();
    names.dedup();
    assert_eq!(names.len(), count);
}

async fn a_deep_listing_shows_what_lies_below(rig: Rig) {
    rig.outside.put("a/b/c.csv", "x").await;
    let list = async |depth| {
        let mut paths: Vec<_> =
            rig.place.list(&RelPath::root(), depth).map(|e| e.unwrap().path.to_string()).collect().await;
        paths.sort();
        paths
    };
    assert_eq!(list(Depth::One).await, ["a"]);
    assert_eq!(list(Depth::All).await, ["a", "a/b", "a/b/c.csv"]);
}

async fn awkward_names_survive(rig: Rig) {
    for name in [
        &b"with space"[..],
        b"line\nbreak",
        b"caf\xe9-latin1",
        "gr\u{fc}\u{df}e-\u{1f6a2}".as_bytes(),
        b"-rf",
        b"*?[",
        b"back\\slash",
        b"quote'\"",
    ] {
        let whole = RelPath::root().join_name(name).unwrap();
        if !rig.place.capabilities().names.take(name) {
            let error = rig.place.stat(&whole).await.unwrap_err();
            assert_eq!(error.kind, PlaceErrorKind::BadName, "{error}");
            continue;
        }
        match put(rig.place.as_ref(), "part", &whole, name).await {
            // Pure-FTPd takes no backslash, lighttpd no line break and nothing but UTF-8, and both say so.
            Err(error) if rig.is_choosy && error.kind == PlaceErrorKind::BadName => {
                let _ = rig.place.delete(&path("part")).await;
                assert_eq!(rig.place.list(&RelPath::root(), Depth::One).count().await, 0);
                continue;
            }
            result => result.unwrap(),
        }
        assert_eq!(read_from(rig.place.as_ref(), &whole, 0).await.unwrap(), name);
        assert_eq!(rig.outside.get(name).await.as_deref(), Some(name), "{whole}");
        let listed: Vec<_> = rig.place.list(&RelPath::root(), Depth::One).map(|e| e.unwrap().path).collect().await;
        assert_eq!(listed, std::slice::from_ref(&whole));
        rig.place.delete(&whole).await.unwrap();
    }
}

async fn an_awkward_folder_is_listed_as_it_is_called(rig: Rig) {
    for name in ["bracket[1]{2}", "star * and ?", " blank"] {
        if !rig.place.capabilities().names.take(name.as_bytes()) {
            continue;
        }
        let folder = path(name);
        let file = folder.join_name(b" leading blank.csv").unwrap();
        match rig.place.make_folder(&folder).await {
            // ProFTPD makes no folder with a star in its name.
            Err(error) if name.contains('*') && error.kind == PlaceErrorKind::BadName => continue,
            made => made.unwrap(),
        }
        put(rig.place.as_ref(), "part", &file, b"x").await.unwrap();
        let listed: Vec<_> = rig.place.list(&folder, Depth::One).map(|entry| entry.unwrap().path).collect().await;
        assert_eq!(listed, std::slice::from_ref(&file));
        rig.place.delete(&file).await.unwrap();
        rig.place.remove_folder(&folder).await.unwrap();
    }
}

async fn a_name_as_long_as_can_be_is_fine_and_a_longer_one_is_not(rig: Rig) {
    let longest = rig.place.capabilities().names.longest();
    let error = put(rig.place.as_ref(), "part", &path(&"n".repeat(longest + 1)), b"x").await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::BadName, "{error}");
    put(rig.place.as_ref(), "part", &path(&"n".repeat(longest)), b"x").await.unwrap();
}

async fn links_and_pipes_are_told_and_never_read(rig: Rig) {
    let Some(root) = rig.outside.folder() else { return };
    fs::write(root.join("file"), "x").unwrap();
    std::os::unix::fs::symlink("file", root.join("link")).unwrap();
    let pipe = root.join("pipe");
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    if rig.tells_links() {
        assert_eq!(rig.place.stat(&path("link")).await.unwrap().kind, EntryKind::Link);
        assert_eq!(rig.place.stat(&path("pipe")).await.unwrap().kind, EntryKind::Other);
    }
    for name in ["link", "pipe"] {
        // A server may wait for a writer of the pipe; we wait for the server as long as it may be silent.
        let patience = std::time::Duration::from_secs(40);
        let read = tokio::time::timeout(patience, rig.place.read(&path(name), 0)).await;
        let read = read.expect("it does not hang");
        // A server that does not tell them follows links within what it serves, and may tell a
        // pipe as a file without content.
        assert!(read.is_err() || !rig.tells_links(), "{name}");
    }
}

async fn no_link_leads_out_of_the_root(rig: Rig) {
    let Some(root) = rig.outside.folder() else { return };
    let outside = TempDir::new().unwrap();
    fs::write(outside.path().join("secret"), "x").unwrap();
    std::os::unix::fs::symlink(outside.path().join("secret"), root.join("leaf")).unwrap();
    if rig.tells_links() {
        assert!(rig.place.read(&path("leaf"), 0).await.is_err());
    }
    // A server resolves its own links below a folder; on this machine none leads out.
    if rig.place.as_folder().is_some() {
        std::os::unix::fs::symlink(outside.path(), root.join("way-out")).unwrap();
        assert_eq!(rig.place.read(&path("way-out/secret"), 0).await.err().unwrap().kind, PlaceErrorKind::Denied);
        assert_eq!(
            rig.place.stage(&path("way-out/new"), &path("way-out/whole"), None).await.err().unwrap().kind,
            PlaceErrorKind::Denied
        );
        assert_eq!(rig.place.delete(&path("way-out/secret")).await.unwrap_err().kind, PlaceErrorKind::Denied);
    }
    assert!(outside.path().join("secret").exists());
}

async fn folders_are_made_with_those_above_and_once_more_without_harm(rig: Rig) {
    rig.place.make_folder(&path("2026/03/14")).await.unwrap();
    rig.place.make_folder(&path("2026/03/14")).await.unwrap();
    assert!(rig.outside.has_folder("2026/03/14").await);
    rig.outside.put("file", "x").await;
    assert!(rig.place.make_folder(&path("file/below")).await.is_err());
}

async fn delete_removes_a_file_and_no_folder(rig: Rig) {
    rig.outside.make_folder("folder").await;
    rig.outside.put("file", "x").await;
    rig.place.delete(&path("file")).await.unwrap();
    assert_eq!(rig.outside.get("file").await, None);
    assert!(rig.place.delete(&path("folder")).await.is_err());
    assert!(rig.outside.has_folder("folder").await);
}

async fn only_an_empty_folder_is_removed(rig: Rig) {
    rig.place.make_folder(&path("2026/03")).await.unwrap();
    rig.outside.put("2026/assay.csv", "x").await;
    assert!(rig.place.remove_folder(&path("2026")).await.is_err());
    assert_eq!(rig.outside.get("2026/assay.csv").await.unwrap(), b"x");
    rig.place.remove_folder(&path("2026/03")).await.unwrap();
    assert!(!rig.outside.has_folder("2026/03").await);
    assert!(rig.place.remove_folder(&path("2026/assay.csv")).await.is_err());
    assert_eq!(rig.outside.get("2026/assay.csv").await.unwrap(), b"x");
}

async fn a_root_that_is_gone_is_no_empty_folder(rig: Rig) {
    rig.place.reach().await.unwrap();
    rig.outside.remove().await;
    assert!(rig.place.reach().await.is_err());
    let listed = rig.place.list(&RelPath::root(), Depth::One).next().await;
    assert!(listed.expect("an error, not an end").is_err());
}

async fn many_writers_at_once_do_not_mix(rig: Rig) {
    let mut writers = tokio::task::JoinSet::new();
    for number in 0..64u8 {
        let place = rig.place.clone();
        writers.spawn(async move {
            let content = vec![number; 70_000 + usize::from(number)];
            let part = format!(".wetbank-{number}");
            put(place.as_ref(), &part, &path(&format!("file-{number}")), &content).await.unwrap();
        });
    }
    while let Some(done) = writers.join_next().await {
        done.unwrap();
    }
    for number in 0..64u8 {
        let content = rig.outside.get(format!("file-{number}")).await.unwrap();
        assert!(content == vec![number; 70_000 + usize::from(number)], "file {number}");
    }
    assert_eq!(rig.place.list(&RelPath::root(), Depth::One).count().await, 64);
}

async fn an_unreadable_file_is_denied_or_read_by_root(rig: Rig) {
    use std::os::unix::fs::PermissionsExt;
    let Some(root) = rig.outside.folder() else { return };
    fs::write(root.join("shut"), "x").unwrap();
    fs::set_permissions(root.join("shut"), fs::Permissions::from_mode(0o000)).unwrap();
    let readable = fs::read(root.join("shut")).is_ok();
    match read(rig.place.as_ref(), "shut").await {
        Ok(content) => assert!(readable && content == b"x"),
        // A server may run as somebody else than this test.
        Err(error) => assert_eq!(error.kind, PlaceErrorKind::Denied, "{error}"),
    }
}
