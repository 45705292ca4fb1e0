//! Our own server for partners, as the API knows it.

use std::{net::SocketAddr, sync::Arc};

use parking_lot::RwLock;
use wetbank_reception::{Desk, HostKeys};

/// What handlers know of it.
#[derive(Debug, Clone)]
pub struct Reception {
    /// Who may come.
    pub desk: Desk,
    /// Set where it listens for SFTP.
    pub sftp: Option<Sftp>,
}

/// How it is reached over SSH.
#[derive(Debug, Clone)]
pub struct Sftp {
    /// Where it listens.
    pub address: SocketAddr,
    /// What it proves itself with.
    pub keys: Arc<RwLock<HostKeys>>,
    /// What everybody is told before signing in.
    pub banner: Option<String>,
}
