//! The one crossing from async code to blocking file calls.

use std::sync::LazyLock;

use tokio::sync::Semaphore;

/// Blocking calls at once. Most of them wait for a sync, and a file system serves many syncs
/// with one write: 32 threads created and synced two to three times as many small files a
/// second as 8 did. No call waits for a network while it counts here.
const AT_ONCE: usize = 32;

static SLOTS: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(AT_ONCE));

/// Runs a blocking call on a thread of its own.
pub(crate) async fn run<T: Send + 'static>(call: impl FnOnce() -> T + Send + 'static) -> T {
    let _slot = SLOTS.acquire().await.expect("the semaphore is never closed");
    match tokio::task::spawn_blocking(call).await {
        Ok(value) => value,
        Err(error) if error.is_panic() => std::panic::resume_unwind(error.into_panic()),
        // The runtime ends, and with it whoever waits here.
        Err(_) => std::future::pending().await,
    }
}
