//! Names of this machine's users.

use std::{collections::HashMap, sync::OnceLock};

/// What `/etc/passwd` told when it was first asked: enough for a column that people read.
static USERS: OnceLock<HashMap<u32, String>> = OnceLock::new();

/// The name behind a number, if it is a user of this machine.
pub(super) fn name(user: u32) -> Option<String> {
    USERS.get_or_init(|| users(&std::fs::read_to_string("/etc/passwd").unwrap_or_default())).get(&user).cloned()
}

fn users(text: &str) -> HashMap<u32, String> {
    let user = |line: &str| {
        let mut fields = line.split(':');
        Some((fields.next()?.to_owned(), fields.nth(1)?.parse().ok()?))
    };
    // The first line of a number counts.
    text.lines().rev().filter_map(user).map(|(name, number)| (number, name)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_name_of_a_number_counts_and_rubbish_is_left_out() {
        let users = users("root:x:0:0::/root:/bin/sh\ntoor:x:0:0\n\n# no user\ntove:x:1001:1001:Tove,,,:/home/tove\n");
        assert_eq!(users.len(), 2);
        assert_eq!((users[&0].as_str(), users[&1001].as_str()), ("root", "tove"));
    }
}
