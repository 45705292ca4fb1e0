//! Partners, and what must be looked after before it expires.

use jiff::{SignedDuration, Timestamp, tz::TimeZone};
use wetbank_core::{ByteSize, FilePath, Name, Partner, Rule, warned};

use super::Engine;
use crate::{EngineError, KeyStatus, outbox};

/// A disk with less room is full: the next large file does not fit.
const NEARLY_FULL: u64 = 16 << 20;
/// What expires is looked up anew after this time.
const KEPT: SignedDuration = SignedDuration::from_mins(1);

/// What expires, and when that was looked up.
pub(crate) type KeptWarnings = parking_lot::Mutex<Option<(Timestamp, Vec<Warning>)>>;

/// Something that expires soon, or did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Warning {
    /// What it is.
    pub what: String,
    /// When it ends; nothing if it cannot be used for another reason.
    pub until: Option<Timestamp>,
    /// Which of the warnings before the end this is: 30, 7 or 1 days; 0 once it is over.
    pub days: i64,
    /// Whose it is, if it is a partner's.
    pub partner: Option<Name>,
    /// What to do.
    pub remedy: String,
}

impl Warning {
    /// Something that is wrong now.
    fn now(what: String, remedy: String) -> Self {
        Self { what, until: None, days: 0, partner: None, remedy }
    }
}

fn shown(time: Timestamp) -> String {
    time.to_zoned(TimeZone::system()).strftime("%F %H:%M:%S").to_string()
}

/// A partner with what belongs to it.
#[derive(Debug, Clone)]
pub struct PartnerStatus {
    /// As the book has it.
    pub partner: Partner,
    /// Its text in the book.
    pub text: String,
    /// Its keys that are there; the names of those that are missing.
    pub keys: Vec<Result<KeyStatus, String>>,
    /// Rules that deliver to it, or use one of its places.
    pub rules: Vec<Name>,
    /// What expires soon.
    pub warnings: Vec<Warning>,
}

fn of_key(key: &KeyStatus, partner: Option<&Partner>, now: Timestamp) -> Option<Warning> {
    let (until, days, what) = match &key.encrypts {
        Ok(until) => ((*until)?, warned((*until)?, now)?, format!("key \"{}\"", key.name)),
        // A key for signing alone need not encrypt.
        Err(_) if key.signs.is_ok() => return None,
        Err(why) => {
            return Some(Warning {
                what: format!("key \"{}\" cannot be used: {why}", key.name),
                until: None,
                days: 0,
                partner: partner.map(|partner| partner.name.clone()),
                remedy: remedy(key, partner),
            });
        }
    };
    let partner_name = partner.map(|partner| partner.name.clone());
    Some(Warning { what, until: Some(until), days, partner: partner_name, remedy: remedy(key, partner) })
}

fn remedy(key: &KeyStatus, partner: Option<&Partner>) -> String {
    match partner {
        Some(partner) => format!(
            "Ask {} for its new key and import it under the same name: wetbank key import {} FILE",
            partner.title, key.name
        ),
        None => format!("Bring a new key, or prolong this one, and import it: wetbank key import {} FILE", key.name),
    }
}

fn of_partner(partner: &Partner, now: Timestamp) -> impl Iterator<Item = Warning> {
    partner.expiries.iter().filter_map(move |expiry| {
        // Good to the end of its last day.
        let end = expiry.until.to_zoned(TimeZone::system()).and_then(|day| day.end_of_day()).ok()?.timestamp();
        Some(Warning {
            what: expiry.what.clone(),
            until: Some(end),
            days: warned(end, now)?,
            partner: Some(partner.name.clone()),
            remedy: format!(
                "Ask {} for the new one; then change its day in the book under [partner.{}].",
                partner.title, partner.name
            ),
        })
    })
}

fn of_certificate(place: &Name, until: Timestamp, partner: Option<&Partner>, now: Timestamp) -> Option<Warning> {
    let whom = partner.map_or("its operator", |partner| partner.title.as_str());
    Some(Warning {
        what: format!("certificate of the server of \"{place}\""),
        until: Some(until),
        days: warned(until, now)?,
        partner: partner.map(|partner| partner.name.clone()),
        remedy: format!(
            "Ask {whom} when the new one comes; if it was confirmed by its fingerprint, confirm the new one with: \
             wetbank place test {place} --confirm SHA256:…"
        ),
    })
}

fn touches(rule: &Rule, partner: &Partner) -> bool {
    rule.partners().any(|name| *name == partner.name)
        || rule.places().iter().any(|place| partner.places.contains(place))
}

impl Engine {
    /// What expires within thirty days or did, the most urgent first.
    ///
    /// Every console asks this again and again, and reading keys is work: what was found is kept
    /// for a minute, or until a key or the book changes.
    pub async fn warnings(&self, now: Timestamp) -> Result<Vec<Warning>, EngineError> {
        let kept = self.core.warnings.lock().clone();
        if let Some((found, warnings)) = kept
            && now.duration_since(found) < KEPT
        {
            return Ok(warnings);
        }
        let mut warnings = self.late_mails(now).await?;
        warnings.extend(self.find_warnings(&self.keys().await?, now));
        *self.core.warnings.lock() = Some((now, warnings.clone()));
        Ok(warnings)
    }

    /// What is wrong now and no single file's fault, read at this moment.
    pub fn troubles(&self) -> Vec<Warning> {
        let mut all = Vec::new();
        if let Some(trouble) = self.core.journal.trouble() {
            all.push(Warning::now(
                format!("the journal cannot be written since {}: {}", shown(trouble.since), trouble.why),
                "Free space on the disk of the data folder, or end whatever holds journal.db; nothing is lost, and \
                 everything goes on by itself then."
                    .to_owned(),
            ));
        }
        let data = self.core.effects.work.folder.root();
        if let Ok(disk) = rustix::fs::statvfs(data)
            && disk.f_bavail.saturating_mul(disk.f_frsize) < NEARLY_FULL
        {
            let left = ByteSize(disk.f_bavail.saturating_mul(disk.f_frsize));
            all.push(Warning::now(
                format!("the disk of the data folder is full: {left} are left"),
                "Free space there; what waits goes on by itself then.".to_owned(),
            ));
        }
        all.extend(
            self.core.moorings.troubles().into_iter().map(|trouble| {
                Warning::now(format!("{} (since {})", trouble.why, shown(trouble.since)), trouble.remedy)
            }),
        );
        all
    }

    /// What keeps a rule from seeing its files now.
    pub fn troubles_of(&self, rule: &Rule) -> Vec<Warning> {
        let Some(arrival) = &rule.starts.arrival else { return Vec::new() };
        let folder = FilePath { place: arrival.files.place.clone(), path: arrival.folder.clone() };
        let mut all = Vec::new();
        if let Some((_, error)) = self.core.moorings.paused(&folder.place) {
            all.push(Warning::now(format!("{folder} cannot be looked through: {error}"), error.remedy()));
        }
        for trouble in self.core.moorings.troubles_of(&folder) {
            all.push(Warning::now(format!("{} (since {})", trouble.why, shown(trouble.since)), trouble.remedy));
        }
        all
    }

    /// Mails that wait, or were not taken.
    async fn late_mails(&self, now: Timestamp) -> Result<Vec<Warning>, EngineError> {
        let late = self.core.journal.late_mails(outbox::since_for_warnings(now)).await?;
        let warning = |late: wetbank_journal::LateMails| Warning {
            what: format!(
                "{} not sent by \"{}\": {}",
                if late.count == 1 { "1 mail".to_owned() } else { format!("{} mails", late.count) },
                late.place,
                late.why.unwrap_or_else(|| "it was not tried yet".to_owned())
            ),
            until: None,
            days: 0,
            partner: None,
            remedy: format!(
                "Test the mailbox with: wetbank place test {}; see the mails with: wetbank notice list",
                late.place
            ),
        };
        Ok(late.into_iter().map(warning).collect())
    }

    fn find_warnings(&self, keys: &[KeyStatus], now: Timestamp) -> Vec<Warning> {
        let arrangement = self.core.arranged.now();
        let owner = |key: &KeyStatus| arrangement.partners.iter().find(|p| p.keys.contains(&key.name));
        let mut warnings: Vec<Warning> = keys.iter().filter_map(|key| of_key(key, owner(key), now)).collect();
        warnings.extend(arrangement.partners.iter().flat_map(|partner| of_partner(partner, now)));
        let known = arrangement.places.values().filter_map(|place| place.as_ref().ok());
        warnings.extend(known.filter_map(|place| {
            let owner = arrangement.partners.iter().find(|partner| partner.places.contains(place.name()));
            of_certificate(place.name(), place.certificate_ends()?, owner, now)
        }));
        warnings.sort_by_key(|warning| (warning.days, warning.until));
        warnings
    }

    /// Every partner with what belongs to it.
    pub async fn partners(&self, now: Timestamp) -> Result<Vec<PartnerStatus>, EngineError> {
        let arrangement = self.core.arranged.now();
        let sections = self.core.journal.sections().await?;
        let keys = self.keys().await?;
        let warnings = self.find_warnings(&keys, now);
        let status = |partner: &Partner| {
            let text = sections.iter().find(|s| s.kind == "partner" && s.name == partner.name.as_str());
            let key = |name: &String| keys.iter().find(|key| key.name == *name).cloned().ok_or_else(|| name.clone());
            let rules = arrangement.rules.iter().filter(|live| touches(&live.rule, partner));
            PartnerStatus {
                text: text.map(|section| section.text.clone()).unwrap_or_default(),
                keys: partner.keys.iter().map(key).collect(),
                rules: rules.map(|live| live.rule.name.clone()).collect(),
                warnings: warnings.iter().filter(|w| w.partner.as_ref() == Some(&partner.name)).cloned().collect(),
                partner: partner.clone(),
            }
        };
        Ok(arrangement.partners.iter().map(status).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_warned_of_a_month_before_it_ends() {
        let (place, now) = (Name::new("cloud").expect("a name"), Timestamp::UNIX_EPOCH);
        let ends = |days: i64| of_certificate(&place, now + SignedDuration::from_hours(24 * days), None, now);
        assert_eq!(ends(31), None);
        let warning = ends(5).expect("it ends soon");
        assert_eq!((warning.what.as_str(), warning.days), ("certificate of the server of \"cloud\"", 7));
        assert!(warning.remedy.contains("wetbank place test cloud --confirm"), "{}", warning.remedy);
    }
}
