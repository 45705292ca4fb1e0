//! From the book's shape to accounts, and to what of them starts a rule.

use std::{net::IpAddr, time::Duration};

use ipnet::IpNet;
use jiff::tz::TimeZone;
use toml::Spanned;

use super::{raw, rules::globs};
use crate::{
    Account, AccountEvent, AccountKey, ByteSize, FilePath, Name, OfAccount, Opened, Partner, PlaceName, RelPath,
    shape::{At, Checked, Ends, Mistake, Text, duration, holds, place_name, size, time_zone, unknown},
};

/// A shorter time without files says nothing of a session.
const SHORTEST_QUIET: Duration = Duration::from_secs(5);

fn network(text: &Text<holds::Network>) -> Checked<IpNet> {
    let words = text.str();
    let one = || words.parse::<IpAddr>().ok().map(IpNet::from);
    let network = words.parse::<IpNet>().ok().or_else(one);
    let wrong = || text.wrong(format!("\"{words}\" is no address and no network; write it as in \"203.0.113.0/24\""));
    network.map(|network| network.trunc()).ok_or_else(wrong)
}

pub(super) fn partner_name(text: &Text<holds::PartnerName>, partners: &[&Partner]) -> Checked<Name> {
    match partners.iter().find(|partner| partner.name.as_str() == text.str()) {
        Some(partner) => Ok(partner.name.clone()),
        None => Err(unknown("partner", text, partners.iter().map(|partner| partner.name.as_str()))),
    }
}

fn folder(text: &Text<holds::Folder>) -> Checked<RelPath> {
    let path = RelPath::parse(text.str()).at(text)?;
    if path.is_temporary() {
        return Err(text.wrong("names that begin with .wetbank- are the service's own; choose another folder"));
    }
    Ok(path)
}

pub(super) fn resolve_account(
    name: &str,
    spanned: &Spanned<raw::Account>,
    (places, partners): (&[&PlaceName], &[&Partner]),
) -> Checked<Account> {
    let raw = spanned.as_ref();
    let name = Name::new(name).map_err(|error| Mistake::new(spanned.span(), error.to_string()))?;
    let partner = partner_name(&raw.partner, partners)?;
    let root = raw.folder.as_ref().map_or(Ok(RelPath::root()), folder)?;
    let root = FilePath { place: place_name(&raw.place, places)?, path: root };
    let mut opened = Vec::new();
    if let Some(may) = raw.may {
        opened.push(Opened { folder: RelPath::root(), may, deletes: raw.delete });
    } else if raw.folders.is_empty() {
        let words = "may do nothing; say may = \"hand-in\", \"collect\" or \"both\", or name folders = [ … ]";
        return Err(Mistake::missing(spanned.span(), words.to_owned()));
    } else if raw.delete {
        let words = "delete belongs to may; say it of the folders in which it holds";
        return Err(Mistake::new(spanned.span(), words.to_owned()));
    }
    for raw in &raw.folders {
        let folder = folder(&raw.folder)?;
        if opened.iter().any(|one| one.folder == folder) {
            return Err(raw.folder.wrong("this folder is named twice; leave one out"));
        }
        opened.push(Opened { folder, may: raw.may, deletes: raw.delete });
    }
    let keys = raw.keys.iter().map(|text| AccountKey::parse(text.str()).at(text)).collect::<Checked<Vec<_>>>()?;
    if let Some(at) =
        (1..keys.len()).find(|at| keys[..*at].iter().any(|one| one.fingerprint() == keys[*at].fingerprint()))
    {
        return Err(raw.keys[at].wrong("this key is there twice; leave one out"));
    }
    let zone = raw.zone.as_ref().map_or(Ok(TimeZone::UTC), time_zone)?;
    let until = raw.until.as_ref().map(|text| {
        let words = format!("\"{}\" is no day; write it as in \"2027-03-14\"", text.str());
        Ok((text.str().parse().map_err(|_| words).at(text)?, zone))
    });
    let bytes = |text: Option<&Text<holds::Size>>| text.map(|text| size(Some(text), ByteSize(0))).transpose();
    Ok(Account {
        title: raw.title.clone().unwrap_or_else(|| name.to_string()),
        name,
        note: raw.note.clone(),
        partner,
        root,
        opened,
        keys,
        has_password: raw.password,
        until: until.transpose()?,
        from: raw.from.iter().map(network).collect::<Checked<_>>()?,
        quota: bytes(raw.quota.as_ref())?,
        largest: bytes(raw.largest.as_ref())?,
    })
}

pub(super) fn resolve_of_account(raw: &raw::OfAccount, ends: &Ends<'_>) -> Checked<OfAccount> {
    let account = |text: &Text<holds::AccountName>| match ends.accounts.iter().find(|name| name.as_str() == text.str())
    {
        Some(name) => Ok(name.clone()),
        None => Err(unknown("account", text, ends.accounts.iter().map(Name::as_str))),
    };
    let together = match &raw.together {
        None => None,
        Some(text) => match duration(Some(text), Duration::ZERO)? {
            quiet if quiet < SHORTEST_QUIET => return Err(text.wrong("together is 5 s or longer")),
            quiet => Some(quiet),
        },
    };
    let on = raw.on.clone().unwrap_or_else(|| vec![AccountEvent::HandedIn]);
    if let (Some(text), false) = (&raw.together, on.iter().all(|event| event.is_of_file())) {
        return Err(text.wrong("together is about files: only handed-in and collected have any"));
    }
    Ok(OfAccount {
        on,
        accounts: raw.accounts.iter().map(account).collect::<Checked<_>>()?,
        partners: raw.partners.iter().map(|text| partner_name(text, ends.partners)).collect::<Checked<_>>()?,
        folder: raw.folder.as_ref().map_or(Ok(RelPath::root()), folder)?,
        names: globs(&raw.names, raw.case)?,
        except: globs(&raw.except, raw.case)?,
        from: raw.from.iter().map(network).collect::<Checked<_>>()?,
        together,
    })
}
