//! What changed since a token (RFC 6578).

use std::{collections::VecDeque, io};

use futures_util::{StreamExt, TryStreamExt, stream};
use reqwest::{Method, StatusCode, header};
use tokio_util::io::StreamReader;
use wetbank_core::RelPath;

use super::{
    Webdav,
    propfind::{Responses, changes_asked},
};
use crate::{Change, ChangeStream, Depth, PlaceErrorKind, bounded::Markup, place::Result};

/// Pages that may follow each other without bringing anything: a server that turns in a circle.
const EMPTY_PAGES: usize = 3;

struct Walk {
    place: Webdav,
    folder: RelPath,
    deep: bool,
    since: Option<String>,
    ready: VecDeque<Change>,
    empty_pages: usize,
    is_done: bool,
}

pub(super) fn told(place: Webdav, folder: RelPath, depth: Depth, since: Option<String>) -> ChangeStream {
    let deep = depth == Depth::All;
    let walk = Walk { place, folder, deep, since, ready: VecDeque::new(), empty_pages: 0, is_done: false };
    stream::try_unfold(walk, |mut walk| async move {
        loop {
            if let Some(change) = walk.ready.pop_front() {
                return Ok(Some((change, walk)));
            }
            if walk.is_done {
                return Ok(None);
            }
            walk.turn_page().await?;
        }
    })
    .boxed()
}

impl Walk {
    /// Reads a page whole: servers cut them to a length, and its token stands at its end.
    async fn turn_page(&mut self) -> Result<()> {
        let (place, folder) = (&self.place, &self.folder);
        let method = Method::from_bytes(b"REPORT").expect("a plain word");
        let _slot = place.slot().await;
        let asked = changes_asked(self.since.as_deref(), self.deep);
        let request =
            place.request(method, place.folder_url(folder)).await?.header(header::CONTENT_TYPE, "application/xml");
        // The depth of a report is that of its level (section 3.2).
        let answer =
            place.inner.server.send("list changes of", folder, request.header("depth", "0").body(asked)).await?;
        let status = answer.status();
        // Whoever does not know the question says so in many ways, some by sending us elsewhere. A sign-in, a
        // folder that is gone or a server that is busy are matters of their own.
        let is_own_matter = matches!(
            status,
            StatusCode::UNAUTHORIZED
                | StatusCode::PROXY_AUTHENTICATION_REQUIRED
                | StatusCode::NOT_FOUND
                | StatusCode::REQUEST_TIMEOUT
                | StatusCode::GONE
                | StatusCode::LOCKED
                | StatusCode::TOO_MANY_REQUESTS
        );
        let is_refused = status.is_redirection() || status.is_client_error() || status == StatusCode::NOT_IMPLEMENTED;
        let is_unknown = is_refused && !is_own_matter;
        if is_unknown || (status.is_success() && status != StatusCode::MULTI_STATUS) {
            let detail = format!("the server answered {status} where changes were asked");
            return Err(place.error(PlaceErrorKind::Unsupported, "list changes of", folder, detail));
        }
        let answer = place.welcome("list changes of", folder, answer).await?;
        let body = Markup::of(StreamReader::new(Box::pin(answer.bytes_stream().map_err(io::Error::other))));
        let mut responses = Responses::new(body);
        let (mut is_cut, mut found) = (false, 0);
        while let Some(told) = responses.next().await.map_err(|e| place.unreadable("list changes of", folder, &e))? {
            let Some(path) = place.path_below(folder, &told.href, self.deep) else { continue };
            match told.status {
                // The folder itself did not fit: there is more (section 3.6).
                Some(507) if path == *folder => is_cut = true,
                _ if path == *folder => {}
                Some(404) => self.ready.push_back(Change::Gone(path)),
                Some(status) if status >= 300 => {
                    let detail = format!("the server answered {status} for \"{path}\" in it");
                    return Err(place.error(PlaceErrorKind::Other, "list changes of", folder, detail));
                }
                _ => self.ready.push_back(Change::There(told.at(path))),
            }
            found += 1;
        }
        let Some(token) = responses.token.take() else {
            let detail = "the server told changes without a token";
            return Err(place.error(PlaceErrorKind::Unsupported, "list changes of", folder, detail));
        };
        self.empty_pages = if found == 0 || self.since.as_ref() == Some(&token) { self.empty_pages + 1 } else { 0 };
        if is_cut && self.empty_pages >= EMPTY_PAGES {
            let detail = "its changes turn in a circle: a page leads to itself";
            return Err(place.error(PlaceErrorKind::Other, "list changes of", folder, detail));
        }
        if is_cut {
            self.since = Some(token);
        } else {
            self.is_done = true;
            self.ready.push_back(Change::Until(token));
        }
        Ok(())
    }
}
