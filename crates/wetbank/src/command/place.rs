use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{Client, Listing, Place, TestPlace, TestedPlace, segment};

use super::WrongRequest;
use crate::{
    End,
    output::{Output, line, size, table, when, when_ever},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Every place and how it is doing
    List,
    /// One place
    Show {
        /// Its name
        place: String,
    },
    /// Test a place step by step, as the service would use it
    Test {
        /// Its name
        place: String,
        /// Write, rename, read back and delete a probe file too
        #[arg(long)]
        write: bool,
        /// Confirm the host key or certificate that the server shows: give its fingerprint as the
        /// partner told it
        #[arg(long, value_name = "SHA256:…")]
        confirm: Option<String>,
    },
    /// What lies in a folder
    Browse {
        /// PLACE:/FOLDER
        folder: String,
    },
    /// Remove a place that no rule uses
    Remove {
        /// Its name
        place: String,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let places: Vec<Place> = client.get("/places", &[]).await?;
            output.show(&places, |places| {
                let rows = places.iter().map(|p| {
                    vec![
                        p.name.clone(),
                        p.state.clone(),
                        p.kind.clone(),
                        p.address.clone(),
                        when_ever(p.at.as_ref()),
                        p.rules.join(", "),
                    ]
                });
                table(&["place", "state", "kind", "address", "last contact", "rules"], rows.collect());
            })?;
        }
        Verb::Show { place } => {
            let places: Vec<Place> = client.get("/places", &[]).await?;
            let place = places
                .into_iter()
                .find(|p| p.name == place)
                .ok_or_else(|| WrongRequest(format!("there is no place \"{place}\"")))?;
            output.show(&place, |place| {
                line(format!("{} is {} ({})", place.name, place.state, place.address));
                if let (Some(error), Some(remedy)) = (&place.error, &place.remedy) {
                    line(error);
                    line(remedy);
                }
                line("");
                line(place.text.trim_end());
            })?;
        }
        Verb::Test { place, write, confirm } => {
            let tested: TestedPlace =
                client.post(&format!("/places/{}/test", segment(&place)), &TestPlace { write, confirm }).await?;
            output.show(&tested, |tested| {
                for step in &tested.steps {
                    let sign = if step.fine { "✓" } else { "✗" };
                    line(format!("{sign} {} ({:.0} ms): {}", step.what, step.took_ms, step.said));
                    if let Some(remedy) = &step.remedy {
                        line(format!("  {remedy}"));
                    }
                }
                if let Some(shown) = &tested.identity {
                    line(format!("  The server shows the {} {}.", shown.what, shown.fingerprint));
                    line("  If the partner names the same, confirm it with:");
                    line(format!("  wetbank place test {place} --confirm {}", shown.fingerprint));
                }
            })?;
            if !tested.fine {
                return Ok(End::Failed);
            }
        }
        Verb::Browse { folder } => {
            let (place, folder) = folder.split_once(':').unwrap_or((&folder, ""));
            let listing: Listing =
                client.get(&format!("/places/{}/browse", segment(place)), &[("folder", folder.to_owned())]).await?;
            output.show(&listing, |listing| {
                let rows = listing.entries.iter().map(|e| {
                    let size = if e.kind == "file" { size(e.size) } else { e.kind.clone() };
                    vec![e.name.clone(), size, when(&e.modified)]
                });
                table(&["name", "size", "modified"], rows.collect());
                if listing.more {
                    eprintln!("there is more; only the first entries are shown");
                }
            })?;
        }
        Verb::Remove { place } => {
            client.delete(&format!("/book/place/{}", segment(&place))).await?;
            output.said(&format!("place {place} removed"))?;
        }
    }
    Ok(End::Done)
}
