//! Web servers that lie, break off or send us elsewhere: never followed, never believed.

use crate::support::{path, read, write};
use futures_util::StreamExt;
use wetbank_core::{Name, RelPath, SILENCE, WebSignIn, WebdavSpec};
use wetbank_places::{Depth, Entry, EntryKind, Place, PlaceError, PlaceErrorKind, Webdav};

/// A server that gives every request the same answer and then hangs up.
async fn always(answer: String) -> Webdav {
    let url = format!("{}/dav", crate::support::always(answer).await);
    let spec = WebdavSpec { url, sign_in: WebSignIn::Open, certificate: None, connections: 2, silence: SILENCE };
    Webdav::new(Name::new("server").unwrap(), spec, None)
}

fn multistatus(body: &str) -> String {
    let body = format!("<D:multistatus xmlns:D=\"DAV:\">{body}</D:multistatus>");
    format!("HTTP/1.1 207 Multi-Status\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len())
}

fn told(href: &str, is_folder: bool) -> String {
    let kind = if is_folder { "<D:collection/>" } else { "" };
    format!(
        "<D:response><D:href>{href}</D:href><D:propstat><D:prop><D:resourcetype>{kind}</D:resourcetype>\
         <D:getcontentlength>7</D:getcontentlength></D:prop></D:propstat></D:response>"
    )
}

async fn list(place: &Webdav) -> Vec<Result<Entry, PlaceError>> {
    place.list(&RelPath::root(), Depth::All).take(50).collect().await
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_lead_out_of_the_folder_are_left_out() {
    let long = "n".repeat(10_000);
    let hrefs = [
        "/dav/..",
        "/dav/../etc/passwd",
        "/dav/%2e%2e",
        "/dav/%2e%2e%2fetc",
        "/dav/a%2fb",
        "/dav/nul%00.csv",
        "/etc/passwd",
        "/dav/deep/below.csv",
        "/davenport/x.csv",
        "",
    ];
    let mut body = told("/dav/", true);
    hrefs.iter().for_each(|href| body += &told(href, false));
    body += &told("http://elsewhere.example/dav/named-with-its-host.csv", false);
    body += &told(&format!("/dav/{long}"), false);
    body += &told("/dav/good%20one.csv", false);
    let found: Vec<_> = list(&always(multistatus(&body)).await).await.into_iter().map(|e| e.unwrap()).collect();
    let names: Vec<_> = found.iter().map(|entry| entry.path.to_string()).collect();
    // Where an address has a host, only its path counts: it is asked of the server we know.
    assert_eq!(
        names.iter().filter(|name| name.len() < 1000).collect::<Vec<_>>(),
        ["named-with-its-host.csv", "good one.csv"]
    );
    assert!(names.iter().all(|name| !name.contains("..") && !name.contains('/')), "{names:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listing_that_breaks_off_ends_with_an_error_and_not_with_fewer_files() {
    let whole = multistatus(&(told("/dav/", true) + &told("/dav/a.csv", false) + &told("/dav/b.csv", false)));
    let found = list(&always(whole[..whole.len() - 60].to_owned()).await).await;
    assert!(found.len() <= 3 && found[0].is_ok(), "{found:?}");
    let error = found.last().unwrap().as_ref().unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Interrupted, "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_that_is_no_listing_is_told_as_such() {
    for answer in
        ["HTTP/1.1 200 OK\r\nContent-Length: 5\r\nConnection: close\r\n\r\nhello".to_owned(), multistatus("<broken")]
    {
        let error = always(answer).await.reach().await.unwrap_err();
        assert!(!error.to_string().is_empty() && error.kind != PlaceErrorKind::NotFound, "{error}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_redirect_is_named_and_not_followed() {
    let answer =
        "HTTP/1.1 302 Found\r\nLocation: https://elsewhere.example/\r\nContent-Length: 0\r\nConnection: close\r\n\r\n";
    let error = always(answer.to_owned()).await.reach().await.unwrap_err();
    assert!(error.detail.contains("https://elsewhere.example/"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn refusals_are_told_by_their_kind() {
    for (status, kind) in [
        ("401 Unauthorized", PlaceErrorKind::Refused),
        ("403 Forbidden", PlaceErrorKind::Denied),
        ("404 Not Found", PlaceErrorKind::NotFound),
        ("423 Locked", PlaceErrorKind::Busy),
        ("429 Too Many Requests", PlaceErrorKind::Busy),
        ("500 Internal Server Error", PlaceErrorKind::Other),
        ("502 Bad Gateway", PlaceErrorKind::Unreachable),
        ("507 Insufficient Storage", PlaceErrorKind::NoSpace),
    ] {
        let answer = format!("HTTP/1.1 {status}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n");
        let place = always(answer).await;
        assert_eq!(place.stat(&path("a.csv")).await.unwrap_err().kind, kind, "{status}");
        assert_eq!(write(&place, ".wetbank-1", &path("whole"), b"x").await.unwrap_err().kind, kind, "{status}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_a_folder_is_not_read() {
    let place = always(multistatus(&told("/dav/a", true))).await;
    assert_eq!(place.stat(&path("a")).await.unwrap().kind, EntryKind::Folder);
    assert_eq!(read(&place, "a").await.unwrap_err().kind, PlaceErrorKind::Unsupported);
    assert_eq!(place.delete(&path("a")).await.unwrap_err().kind, PlaceErrorKind::Unsupported);
}
