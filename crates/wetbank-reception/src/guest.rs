use std::net::IpAddr;

use jiff::Timestamp;
use tokio_util::sync::CancellationToken;
use wetbank_core::Name;

use crate::desk::{Desk, Way};

/// Somebody who came with an account. Dropping it ends the visit.
#[derive(Debug)]
pub struct Guest {
    /// The visit's number.
    pub visit: i64,
    /// The account.
    pub account: Name,
    /// From where.
    pub address: IpAddr,
    /// By what.
    pub way: Way,
    /// Since when.
    pub began: Timestamp,
    pub(crate) ended: CancellationToken,
    pub(crate) desk: Desk,
}

impl Guest {
    /// Ends when somebody sends the guest away, or the account does not open any more.
    pub fn ended(&self) -> CancellationToken {
        self.ended.clone()
    }
}

impl Drop for Guest {
    fn drop(&mut self) {
        self.ended.cancel();
        self.desk.left(self.visit);
    }
}
