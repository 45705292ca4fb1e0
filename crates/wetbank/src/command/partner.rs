use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, Partner, segment};

use super::WrongRequest;
use crate::{
    End,
    output::{Output, line, table},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Every partner: places, keys, what expires soon
    List,
    /// One partner: people, delivery form, text in the book
    Show {
        /// Its name
        partner: String,
    },
    /// Remove a partner that no rule delivers to
    Remove {
        /// Its name
        partner: String,
    },
}

fn warnings(partner: &Partner) -> String {
    partner.warnings.iter().map(|warning| warning.words()).collect::<Vec<_>>().join("; ")
}

fn show(partner: &Partner) {
    line(format!("{} ({})", partner.title, partner.name));
    if !partner.note.is_empty() {
        line(&partner.note);
    }
    for person in &partner.people {
        let parts =
            [&person.name, &person.role, &person.mail, &person.phone].into_iter().filter(|part| !part.is_empty());
        line(format!("  {}", parts.cloned().collect::<Vec<_>>().join(", ")));
    }
    for warning in &partner.warnings {
        line(format!("! {}", warning.words()));
        line(format!("  {}", warning.remedy));
    }
    if let Some(delivery) = &partner.delivery {
        line(format!("Delivery: {delivery}"));
    }
    let places: Vec<_> = partner.places.iter().map(|place| format!("{} ({})", place.name, place.state)).collect();
    line(format!("Places: {}", if places.is_empty() { "none".to_owned() } else { places.join(", ") }));
    let rules = if partner.rules.is_empty() { "none".to_owned() } else { partner.rules.join(", ") };
    line(format!("Rules: {rules}"));
    line("");
    line(partner.text.trim_end());
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let partners: Vec<Partner> = client.get("/partners", &[]).await?;
            output.show(&partners, |partners| {
                let rows = partners.iter().map(|p| {
                    let places: Vec<_> = p.places.iter().map(|place| place.name.clone()).collect();
                    let keys: Vec<_> = p.keys.iter().map(|key| key.name.clone()).collect();
                    vec![p.name.clone(), p.title.clone(), places.join(", "), keys.join(", "), warnings(p)]
                });
                table(&["partner", "title", "places", "keys", "expires soon"], rows.collect());
            })?;
        }
        Verb::Show { partner } => {
            let partners: Vec<Partner> = client.get("/partners", &[]).await?;
            let found = partners.into_iter().find(|p| p.name == partner);
            let found = found.ok_or_else(|| WrongRequest(format!("there is no partner \"{partner}\"")))?;
            output.show(&found, show)?;
        }
        Verb::Remove { partner } => {
            client.delete(&format!("/book/partner/{}", segment(&partner))).await?;
            output.said(&format!("partner {partner} removed"))?;
        }
    }
    Ok(End::Done)
}
