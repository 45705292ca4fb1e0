//! How long, and how much of, what came stays on record.

use std::time::Duration;

use serde::{Deserialize, Serialize};
use wetbank_journal::Journal;

use crate::EngineError;

/// The name under which it is kept.
const SETTING: &str = "arrivals";

/// Bounds of the record of what came.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keeping {
    /// Days for which an arrival stays on record.
    pub days: u32,
    /// Arrivals that stay on record at most.
    pub most: u32,
}

impl Default for Keeping {
    fn default() -> Self {
        Self { days: 60, most: 200_000 }
    }
}

impl Keeping {
    /// Days at most.
    pub const MOST_DAYS: u32 = 3_650;
    /// Arrivals at most.
    pub const MOST: u32 = 5_000_000;

    /// The age from which on an arrival is forgotten.
    pub fn age(&self) -> Duration {
        Duration::from_secs(u64::from(self.days) * 24 * 3600)
    }

    /// As it is set.
    pub(crate) async fn of(journal: &Journal) -> Result<Self, EngineError> {
        let set = journal.setting(SETTING).await?;
        Ok(set.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default())
    }

    /// Sets it.
    pub(crate) async fn set(self, journal: &Journal) -> Result<(), EngineError> {
        let text = serde_json::to_string(&self).expect("plain values serialise");
        Ok(journal.set_setting(SETTING, &text).await?)
    }
}
