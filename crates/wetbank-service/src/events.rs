//! Live events, as server-sent events.

use std::{convert::Infallible, time::Duration};

use axum::{
    extract::State,
    response::sse::{Event as Sent, KeepAlive, Sse},
};
use futures_util::{Stream, StreamExt, stream};
use jiff::Timestamp;
use tokio_stream::wrappers::{BroadcastStream, errors::BroadcastStreamRecvError};
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_people::Caller;

use crate::{auth::Viewer, state::Shared};

/// A silent connection is kept open with a comment this often.
const KEEP_ALIVE: Duration = Duration::from_secs(15);

/// Its route.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(events))
}

/// Live events: `item`, `book`, `place`, `twin`, and `behind` when some were missed.
#[utoipa::path(get, path = "/events", tag = "live", responses((status = 200, description = "a stream of events", content_type = "text/event-stream")))]
pub(crate) async fn events(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
) -> Sse<impl Stream<Item = Result<Sent, Infallible>>> {
    let stopping = state.stopping.clone();
    let hello = stream::iter([Ok(Sent::default().data("{\"what\":\"hello\"}"))]);
    let live = BroadcastStream::new(state.engine.events()).map(|event| {
        Ok(match event {
            Ok(event) => Sent::default().json_data(&event).unwrap_or_default(),
            // The listener was too slow: it must look anew.
            Err(BroadcastStreamRecvError::Lagged(_)) => Sent::default().data("{\"what\":\"behind\"}"),
        })
    });
    let until_stop = hello.chain(live).take_until(async move {
        tokio::select! {
            () = stopping.cancelled() => {}
            () = over(&caller) => {}
        }
    });
    Sse::new(until_stop).keep_alive(KeepAlive::new().interval(KEEP_ALIVE))
}

/// Ends when what the caller proved himself with counts no more.
async fn over(caller: &Caller) {
    let late = async {
        match caller.ends {
            Some(ends) => {
                let left = ends.duration_since(Timestamp::now());
                tokio::time::sleep(Duration::try_from(left).unwrap_or_default()).await;
            }
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        () = caller.ended.cancelled() => {}
        () = late => {}
    }
}
