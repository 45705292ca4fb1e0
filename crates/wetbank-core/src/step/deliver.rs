//! The step `deliver`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Encrypt, Group, IfExists, Kind, Step, Target, Telling, target::TargetShape};
use crate::{
    Amiss, ChainEvent, Delivery, Partner, Template,
    shape::{Checked, Here, Mistake, Text, folder_template, holds, unknown},
};

/// Hand it to a partner by the partner's standing form, or to one of its places. What the partner wants sealed is
/// sealed, unless the rule encrypts just before by itself.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Deliver")]
pub(crate) struct Shape {
    /// Whose standing form counts for what is not said here.
    #[schemars(title = "Partner")]
    partner: Option<Text<holds::PartnerName>>,
    /// In place of a partner: the place it goes to.
    #[schemars(title = "To")]
    to: Option<Text<holds::PlaceName>>,
    /// The folder there, made if it is not there yet.
    #[schemars(title = "Folder")]
    folder: Option<Text<holds::FolderTemplate>>,
    /// The name there; the one it has, unless the partner's form says otherwise.
    #[serde(rename = "as")]
    #[schemars(title = "Name")]
    name: Option<Text<holds::NameTemplate>>,
    /// What is done when the name is taken; `refuse`, unless the partner's form says otherwise.
    #[schemars(title = "When the name is taken")]
    exists: Option<IfExists>,
    /// A name that is not possible there is changed into one that is, instead of holding the file.
    #[serde(default)]
    #[schemars(title = "Make the name fit", extend("seldom" = true))]
    fit_name: bool,
    /// Its SHA-256 is recorded too.
    #[schemars(title = "Record its SHA-256", extend("seldom" = true, "default" = true))]
    sha256: Option<bool>,
}

/// Hand a copy to a partner's place.
#[derive(Debug, Clone)]
pub struct Deliver(pub Target);

impl Kind for Deliver {
    type Shape = Shape;

    const GROUP: Group = Group::Put;
    const EXAMPLE: &'static str = r#"deliver = { partner = "skerrow", folder = "{{ today }}" }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        let Shape { partner, to, folder, name, exists, fit_name, sha256 } = shape;
        match partner {
            Some(text) => to_partner(text, shape, here),
            None => {
                let (to, folder, name) = (to.clone(), folder.clone(), name.clone());
                TargetShape { to, folder, name, exists: *exists, fit_name: *fit_name, sha256: *sha256 }.resolve(here)
            }
        }
        .map(Self)
    }

    fn before(shape: &Shape, here: &Here<'_>, previous: Option<&Step>) -> Checked<Option<Step>> {
        match &shape.partner {
            Some(text) if !matches!(previous, Some(Step::Encrypt(_))) => {
                Ok(Some(Step::Encrypt(Box::new(Encrypt::for_partner(form(text, here)?.1)?))))
            }
            _ => Ok(None),
        }
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("deliver it", format!("to {}", self.0.words(telling)))
    }

    fn event(&self) -> Option<ChainEvent> {
        Some(ChainEvent::Delivered)
    }

    fn target(&self) -> Option<&Target> {
        Some(&self.0)
    }
}

/// A partner and its standing form.
fn form<'a>(text: &Text<holds::PartnerName>, here: &Here<'a>) -> Checked<(&'a Partner, &'a Delivery)> {
    let partners = here.ends.partners;
    let Some(partner) = partners.iter().find(|partner| partner.name.as_str() == text.str()) else {
        return Err(unknown("partner", text, partners.iter().map(|partner| partner.name.as_str())));
    };
    match &partner.delivery {
        Some(delivery) => Ok((partner, delivery)),
        None => {
            let words = format!("partner \"{}\" has no delivery = {{ to = \"…\" }} in the book", partner.name);
            let amiss = Amiss::Name { of: "partner".to_owned(), written: text.str().to_owned(), nearest: None };
            Err(Mistake { amiss, ..text.wrong(words) })
        }
    }
}

/// The partner's standing form, but for what the rule itself says.
fn to_partner(text: &Text<holds::PartnerName>, shape: &Shape, here: &Here<'_>) -> Checked<Target> {
    let (receiver, delivery) = form(text, here)?;
    if let Some(to) = &shape.to {
        return Err(to.wrong("a delivery goes to a partner or to a place; leave out \"to\" or \"partner\""));
    }
    fn or<H>(text: Option<&Text<H>>, form: &Template) -> Checked<Template> {
        text.map_or_else(|| Ok(form.clone()), |text| folder_template(Some(text), ""))
    }
    Ok(Target {
        place: delivery.to.clone(),
        folder: or(shape.folder.as_ref(), &delivery.folder)?,
        name: or(shape.name.as_ref(), &delivery.name)?,
        exists: shape.exists.unwrap_or(delivery.exists),
        quiet: delivery.quiet.clone(),
        partner: Some(receiver.name.clone()),
        fit: shape.fit_name,
        sha256: shape.sha256.unwrap_or(true),
    })
}
