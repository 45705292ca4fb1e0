//! Servers that are unpacked beside the project, not installed: their packages exclude each other, and would start
//! services.

use std::path::{Path, PathBuf};

/// A file of a package that was unpacked, by its path on a system where it is installed.
pub(crate) fn unpacked(path: &str) -> PathBuf {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../.servers").join(path.trim_start_matches('/'));
    assert!(file.exists(), "{} is missing: cargo xtask test unpacks it", file.display());
    file
}
