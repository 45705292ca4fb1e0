//! The one crossing from async code to blocking file calls.

use std::sync::LazyLock;

use tokio::sync::Semaphore;

/// Blocking calls at once: enough to keep a disk's queue busy (eight was best in our trials),
/// few enough to bound threads and memory. No call waits for a network while it counts here.
const AT_ONCE: usize = 8;

static SLOTS: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(AT_ONCE));

/// Runs a blocking call on a thread of its own.
pub(crate) async fn run<T: Send + 'static>(call: impl FnOnce() -> T + Send + 'static) -> T {
    let _slot = SLOTS.acquire().await.expect("the semaphore is never closed");
    match tokio::task::spawn_blocking(call).await {
        Ok(value) => value,
        Err(error) => std::panic::resume_unwind(error.into_panic()),
    }
}
