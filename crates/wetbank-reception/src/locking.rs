//! For how long no password counts after many wrong ones.

use std::time::Duration;

use jiff::{SignedDuration, Timestamp};

/// So many wrong ones in a row are forgiven.
const FORGIVEN: u32 = 10;
/// Then none counts for so long; twice as long after each further one.
const FIRST: Duration = Duration::from_secs(60);
/// But not longer than this.
const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// Until when none counts after so many wrong ones in a row; nothing if the next one does.
pub(crate) fn locked(wrong: u32, now: Timestamp) -> Option<Timestamp> {
    let further = wrong.checked_sub(FORGIVEN)?;
    let time = FIRST.saturating_mul(2_u32.saturating_pow(further.min(20))).min(LONGEST);
    Some(now + SignedDuration::try_from(time).unwrap_or(SignedDuration::ZERO))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_grows_with_every_wrong_one_and_not_without_end() {
        let now = Timestamp::UNIX_EPOCH;
        let seconds = |wrong| locked(wrong, now).map(|until| until.as_second());
        assert_eq!([9, 10, 11, 12].map(seconds), [None, Some(60), Some(120), Some(240)]);
        assert_eq!([40, u32::MAX].map(seconds), [Some(86_400), Some(86_400)]);
    }
}
