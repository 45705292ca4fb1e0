//! Certificates: which of them a client trusts, and which a server shows and how that changes while it serves.

mod client;
mod facts;
mod own;
mod served;

use std::sync::{Arc, LazyLock};

use rustls::crypto::{CryptoProvider, aws_lc_rs::default_provider};

pub use client::{Checker, Refusal};
pub use facts::{digits, ends, fingerprint, names};
pub use own::own;
pub use served::{Served, Shown, Unfit};

/// What does the sums.
pub static PROVIDER: LazyLock<Arc<CryptoProvider>> = LazyLock::new(|| Arc::new(default_provider()));
