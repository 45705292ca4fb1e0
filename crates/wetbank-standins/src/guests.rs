//! Taking connections until a stand-in is stopped.

use axum::Router;
use tokio::net::{TcpListener, TcpStream};
use tokio_util::{sync::CancellationToken, task::TaskTracker};

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
