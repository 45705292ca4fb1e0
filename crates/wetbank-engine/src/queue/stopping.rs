//! Runs that are being stopped, and why.

use std::collections::HashMap;

use parking_lot::{Mutex, MutexGuard};

/// Why a run was stopped.
#[derive(Debug, Clone)]
pub(crate) struct Stopped {
    /// For programs.
    pub code: &'static str,
    /// For people.
    pub why: String,
}

impl Default for Stopped {
    fn default() -> Self {
        Self { code: "stopped", why: "its run was stopped by a person".to_owned() }
    }
}

#[derive(Debug, Default)]
pub(crate) struct Stopping(Mutex<HashMap<i64, Stopped>>);

impl Stopping {
    /// A run is being stopped.
    pub fn begin(&self, run: i64, why: Stopped) {
        self.lock().insert(run, why);
    }

    /// Nothing of it went on.
    pub fn forget(&self, run: i64) {
        self.lock().remove(&run);
    }

    /// Why a run is being stopped.
    pub fn why(&self, run: i64) -> Stopped {
        self.lock().get(&run).cloned().unwrap_or_default()
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<i64, Stopped>> {
        self.0.lock()
    }
}
