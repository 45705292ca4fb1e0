//! Taking connections until a stand-in is stopped, and what holds for all guests.

use std::path::Path;

use axum::Router;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC};
use tokio::net::{TcpListener, TcpStream};
use tokio_util::{sync::CancellationToken, task::TaskTracker};

/// What is encoded in a part of an address (RFC 3986, section 2.3).
pub(crate) const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Whether a path below a served folder passes a link. A stand-in makes none and follows none:
/// nobody is led out of the folder.
pub(crate) fn passes_link(root: &Path, path: &Path) -> bool {
    let below = path.ancestors().take_while(|at| *at != root);
    below.filter_map(|at| at.symlink_metadata().ok()).any(|told| told.is_symlink())
}

/// Answers web requests until `stop`.
pub(crate) fn serve_web(listener: TcpListener, router: Router, stop: CancellationToken) {
    tokio::spawn(async move {
        tokio::select! {
            ended = axum::serve(listener, router) => drop(ended),
            () = stop.cancelled() => {}
        }
    });
}

/// Serves every connection in a task of its own; all of them end with `stop`.
pub(crate) fn serve_all<Served>(
    listener: TcpListener,
    stop: CancellationToken,
    mut serve: impl FnMut(TcpStream) -> Served + Send + 'static,
) where
    Served: Future<Output = ()> + Send + 'static,
{
    tokio::spawn(async move {
        let connections = TaskTracker::new();
        loop {
            let accepted = tokio::select! {
                accepted = listener.accept() => accepted,
                () = stop.cancelled() => return,
            };
            let Ok((stream, _)) = accepted else { continue };
            // Answers are small and wanted at once.
            let _ = stream.set_nodelay(true);
            let (served, stopped) = (serve(stream), stop.clone());
            connections.spawn(async move {
                tokio::select! {
                    () = served => {}
                    () = stopped.cancelled() => {}
                }
            });
        }
    });
}
