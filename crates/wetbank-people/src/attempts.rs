//! How often somebody may try, by name and by address, before anything costly is done.

use std::{
    collections::HashMap,
    hash::Hash,
    net::IpAddr,
    time::{Duration, Instant},
};

use parking_lot::Mutex;

use crate::PeopleError;

/// So many tries at once, and one more each so often.
#[derive(Debug, Clone, Copy)]
struct Allowance {
    most: f64,
    every: Duration,
}

/// Of one name, from wherever: 10 at once, then 120 an hour.
const OF_NAME: Allowance = Allowance { most: 10.0, every: Duration::from_secs(30) };
/// Of one address, for whatever names.
const OF_ADDRESS: Allowance = Allowance { most: 20.0, every: Duration::from_secs(3) };
/// Of one name from an address from where it came before: who tries the name from elsewhere does not lock it out here.
const OF_KNOWN: Allowance = Allowance { most: 10.0, every: Duration::from_secs(30) };
/// So many are remembered at once; those that tried longest ago are forgotten first.
const REMEMBERED: usize = 20_000;

#[derive(Debug, Clone, Copy)]
struct Left {
    tries: f64,
    at: Instant,
}

#[derive(Debug)]
struct Tries<K> {
    allowance: Allowance,
    left: HashMap<K, Left>,
}

impl<K: Hash + Eq + Clone> Tries<K> {
    fn new(allowance: Allowance) -> Self {
        Self { allowance, left: HashMap::new() }
    }

    fn now(&self, key: &K, now: Instant) -> f64 {
        let Some(left) = self.left.get(key) else { return self.allowance.most };
        let more = now.duration_since(left.at).as_secs_f64() / self.allowance.every.as_secs_f64();
        (left.tries + more).min(self.allowance.most)
    }

    /// How long to wait for a try; nothing if there is one.
    fn wait(&self, key: &K, now: Instant) -> Option<Duration> {
        let missing = 1.0 - self.now(key, now);
        (missing > 0.0).then(|| self.allowance.every.mul_f64(missing))
    }

    fn take(&mut self, key: &K, tries: f64, now: Instant) {
        let left = Left { tries: (self.now(key, now) - tries).min(self.allowance.most), at: now };
        if self.left.len() >= REMEMBERED && !self.left.contains_key(key) {
            self.forget(now);
        }
        self.left.insert(key.clone(), left);
    }

    fn forget(&mut self, now: Instant) {
        let whole = self.allowance.every.mul_f64(self.allowance.most);
        self.left.retain(|_, left| now.duration_since(left.at) < whole);
        if self.left.len() >= REMEMBERED {
            let mut times: Vec<Instant> = self.left.values().map(|left| left.at).collect();
            let half = times.len() / 2;
            let (_, median, _) = times.select_nth_unstable(half);
            let median = *median;
            self.left.retain(|_, left| left.at > median);
        }
    }
}

#[derive(Debug)]
struct All {
    names: Tries<String>,
    addresses: Tries<IpAddr>,
    known: Tries<(String, IpAddr)>,
}

/// Counts attempts to sign in.
#[derive(Debug)]
pub struct Attempts(Mutex<All>);

/// An attempt that is counted as a failure until it is said that it was none.
#[derive(Debug)]
#[must_use = "an attempt counts as failed until it is said that it was not"]
pub struct Attempt<'a> {
    all: &'a Attempts,
    name: String,
    address: IpAddr,
    is_known: bool,
    at: Instant,
}

impl Default for Attempts {
    fn default() -> Self {
        Self(Mutex::new(All {
            names: Tries::new(OF_NAME),
            addresses: Tries::new(OF_ADDRESS),
            known: Tries::new(OF_KNOWN),
        }))
    }
}

/// Who has one address of version 6 has its whole network.
fn of(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(six) => {
            let [a, b, c, d, ..] = six.segments();
            IpAddr::V6([a, b, c, d, 0, 0, 0, 0].into())
        }
        four => four,
    }
}

impl Attempts {
    /// Takes a try of a name from an address; `is_known` tells that it signed in from there before.
    ///
    /// # Errors
    ///
    /// How long to wait if there were too many.
    pub fn take(&self, name: &str, address: IpAddr, is_known: bool, now: Instant) -> Result<Attempt<'_>, PeopleError> {
        // A name is as long as it may be; what is longer is nobody's.
        let (name, address) = (name.chars().take(64).collect::<String>(), of(address));
        let mut all = self.0.lock();
        let pair = (name.clone(), address);
        let wait = match is_known {
            true => all.known.wait(&pair, now),
            false => all.names.wait(&name, now).max(all.addresses.wait(&address, now)),
        };
        if let Some(wait) = wait {
            return Err(PeopleError::Wait(wait));
        }
        all.count(&name, address, is_known, 1.0, now);
        Ok(Attempt { all: self, name, address, is_known, at: now })
    }
}

impl All {
    fn count(&mut self, name: &str, address: IpAddr, is_known: bool, tries: f64, now: Instant) {
        if is_known {
            self.known.take(&(name.to_owned(), address), tries, now);
        } else {
            self.names.take(&name.to_owned(), tries, now);
            self.addresses.take(&address, tries, now);
        }
    }
}

impl Attempt<'_> {
    /// It was no failure: it does not count.
    pub fn was_right(self) {
        self.all.0.lock().count(&self.name, self.address, self.is_known, -1.0, self.at);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HERE: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(198, 51, 100, 7));

    fn elsewhere(last: u8) -> IpAddr {
        [203, 0, 113, last].into()
    }

    #[test]
    fn a_name_is_tried_ten_times_from_wherever_then_slowly() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        for one in 0..10 {
            let _failed = attempts.take("ina", elsewhere(one), false, now).unwrap();
        }
        let Err(PeopleError::Wait(wait)) = attempts.take("ina", HERE, false, now) else { panic!("let in") };
        assert!(wait > Duration::from_secs(29), "{wait:?}");
        assert!(attempts.take("tove", HERE, false, now).is_ok(), "another name is not touched");
        assert!(attempts.take("ina", HERE, true, now).is_ok(), "nor she herself where she was before");
        assert!(attempts.take("ina", HERE, false, now + wait).is_ok(), "later she may try from anywhere");
    }

    #[test]
    fn an_address_tries_names_only_so_often_and_its_network_counts_as_one() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        for one in 0..20_u16 {
            let address = IpAddr::V6([0x2001, 0xdb8, 1, 2, 9, 9, 9, one].into());
            let _failed = attempts.take(&format!("name-{one}"), address, false, now).unwrap();
        }
        let same = IpAddr::V6([0x2001, 0xdb8, 1, 2, 0, 0, 0, 1].into());
        let other = IpAddr::V6([0x2001, 0xdb8, 1, 3, 0, 0, 0, 1].into());
        assert!(attempts.take("ina", same, false, now).is_err());
        assert!(attempts.take("ina", other, false, now).is_ok());
    }

    #[test]
    fn who_is_right_may_come_as_often_as_she_likes() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        for _ in 0..1000 {
            attempts.take("ina", HERE, false, now).unwrap().was_right();
        }
    }

    #[test]
    fn what_is_remembered_does_not_grow_without_end() {
        let (attempts, mut now) = (Attempts::default(), Instant::now());
        for one in 0..50_000_u32 {
            now += Duration::from_micros(10);
            let _tried = attempts.take(&format!("{one}"), IpAddr::V4((one << 3).into()), false, now);
        }
        let all = attempts.0.lock();
        assert!(all.names.left.len() <= REMEMBERED && all.addresses.left.len() <= REMEMBERED);
    }
}
