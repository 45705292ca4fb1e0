//! Who owns the files of a share: each is asked for its owner's number, and the server for the
//! names of the numbers that are new.

use std::{collections::HashMap, time::Duration};

use futures_util::{StreamExt, stream};
use parking_lot::Mutex;
use wetbank_smb::AccountId;

use super::Share;
use crate::{Entry, Place};

/// Somebody waits to see the names of the files: the owners that are not told by then stay out.
const PATIENCE: Duration = Duration::from_millis(700);
/// The names of owners are asked for once; some servers start a program to tell the first.
const NAMES_PATIENCE: Duration = Duration::from_secs(2);
/// Files asked at once.
const AT_ONCE: usize = 16;
/// Names remembered at most; forgetting them costs a question.
const REMEMBERED: usize = 1024;

/// The names of accounts that were asked for.
#[derive(Debug, Default)]
pub(super) struct Owners(Mutex<HashMap<AccountId, Option<String>>>);

impl Owners {
    fn known(&self, account: &AccountId) -> Option<Option<String>> {
        self.0.lock().get(account).cloned()
    }

    fn learn(&self, accounts: Vec<AccountId>, names: Vec<Option<String>>) {
        let mut known = self.0.lock();
        if known.len() + accounts.len() > REMEMBERED {
            known.clear();
        }
        known.extend(accounts.into_iter().zip(names));
    }
}

/// Fills in the owners of entries.
pub(super) async fn tell(share: &Share, entries: &mut [Entry]) {
    let Ok(lease) = share.lease().await else { return };
    let asked: Vec<_> = entries
        .iter()
        .enumerate()
        .filter_map(|(at, entry)| Some((at, share.full("look at", &entry.path).ok()?)))
        .collect();
    let owners: Vec<(usize, AccountId)> = stream::iter(asked)
        .map(|(at, full)| {
            let lease = &lease;
            async move { Some((at, lease.owner(&full).await.ok().flatten()?)) }
        })
        .buffer_unordered(AT_ONCE)
        .take_until(tokio::time::sleep(PATIENCE))
        .filter_map(std::future::ready)
        .collect()
        .await;
    let known = &share.inner.owners;
    let mut new: Vec<AccountId> = Vec::new();
    for (_, owner) in &owners {
        if known.known(owner).is_none() && !new.contains(owner) {
            new.push(owner.clone());
        }
    }
    if !new.is_empty() {
        match tokio::time::timeout(NAMES_PATIENCE, lease.account_names(&new)).await {
            Ok(Ok(names)) => known.learn(new, names),
            Ok(Err(error)) => tracing::debug!(place = %share.name(), %error, "no names of owners"),
            Err(_) => tracing::debug!(place = %share.name(), "no names of owners in time"),
        }
    }
    for (at, owner) in owners {
        entries[at].owner = known.known(&owner).flatten();
    }
}
