//! From the book's shape to partners.

use toml::Spanned;

use super::raw;
use crate::{
    Delivery, Expiry, IfExists, Name, Partner, Person, PlaceName,
    shape::{At, Checked, Mistake, Text, folder_template, holds, place_name, quiet_hours},
};

pub(super) fn resolve_partner(name: &str, spanned: &Spanned<raw::Partner>, known: &[&PlaceName]) -> Checked<Partner> {
    let raw = spanned.as_ref();
    let mistake = |words: &str| Mistake::missing(spanned.span(), words.to_owned());
    let delivery = raw.delivery.as_ref().map(|delivery| -> Checked<Delivery> {
        let keys = || raw.keys.iter().map(key).collect();
        if delivery.encrypt && raw.keys.is_empty() {
            return Err(mistake("encrypt = true needs the names of the partner's keys: keys = [\"…\"]"));
        }
        if !delivery.encrypt && (delivery.sign.is_some() || delivery.armour) {
            return Err(mistake("sign and armour belong to encrypt = true"));
        }
        Ok(Delivery {
            to: place_name(&delivery.to, known)?,
            folder: folder_template(delivery.folder.as_ref(), "")?,
            name: folder_template(delivery.name.as_ref(), "{{ file.name }}")?,
            exists: delivery.exists.unwrap_or(IfExists::Refuse),
            encrypt_to: if delivery.encrypt { keys() } else { Vec::new() },
            sign: delivery.sign.as_ref().map(key),
            armour: delivery.armour,
            quiet: quiet_hours(delivery.quiet.as_ref())?,
        })
    });
    Ok(Partner {
        name: Name::new(name).map_err(|e| Mistake::new(spanned.span(), e.to_string()))?,
        title: raw.title.clone().unwrap_or_else(|| name.to_owned()),
        note: raw.note.clone(),
        people: raw.people.iter().map(person).collect(),
        places: raw.places.iter().map(|text| place_name(text, known)).collect::<Checked<_>>()?,
        keys: raw.keys.iter().map(key).collect(),
        delivery: delivery.transpose()?,
        expiries: raw.expires.iter().map(expiry).collect::<Checked<_>>()?,
    })
}

fn key(text: &Text<holds::KeyName>) -> String {
    text.str().to_owned()
}

fn person(raw: &raw::Person) -> Person {
    Person { name: raw.name.clone(), role: raw.role.clone(), mail: raw.mail.clone(), phone: raw.phone.clone() }
}

fn expiry(raw: &raw::Expires) -> Checked<Expiry> {
    let until = raw.until.str().parse();
    let until = until.map_err(|_| format!("\"{}\" is no day; write it as in \"2027-03-14\"", raw.until.str()));
    Ok(Expiry { what: raw.what.clone(), until: until.at(&raw.until)? })
}
