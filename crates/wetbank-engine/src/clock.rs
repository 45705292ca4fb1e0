//! The one place where the engine reads the clock.

use std::time::Duration;

use jiff::Timestamp;

/// The time now.
pub(crate) fn now() -> Timestamp {
    Timestamp::now()
}

/// A time that much later.
pub(crate) fn after(from: Timestamp, pause: Duration) -> Timestamp {
    from.checked_add(pause).unwrap_or(Timestamp::MAX)
}

/// A time that much earlier.
pub(crate) fn before(from: Timestamp, age: Duration) -> Timestamp {
    from.checked_sub(age).unwrap_or(Timestamp::MIN)
}

/// How long until a time; zero if it is past.
pub(crate) fn until(time: Timestamp) -> Duration {
    Duration::try_from(time.duration_since(now())).unwrap_or_default()
}

/// How long ago a time was; zero if it is to come.
pub(crate) fn since(time: Timestamp) -> Duration {
    Duration::try_from(now().duration_since(time)).unwrap_or_default()
}
