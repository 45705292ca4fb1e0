use anyhow::Result;
use clap::{Args, Subcommand};
use wetbank_client::{
    Begun, ByHand, Client, EntryKind, IfExists, Listing, Place, TestPlace, TestStep, TestedPlace, segment,
};

use super::{WrongRequest, place_keys::PlaceKeys, sign_in};
use crate::{
    End,
    output::{Output, line, size, table, when_ever},
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
    /// Add a place to the book, then test it
    Add(Box<Add>),
    /// Test a place step by step, as the service would use it
    Test {
        /// Its name
        place: String,
        /// Write, rename, read back and delete a probe file too, and make, list and remove a folder
        #[arg(long)]
        write: bool,
        /// Confirm the host key or certificate that the server shows: give its fingerprint as the
        /// partner told it
        #[arg(long, value_name = "SHA256:…")]
        confirm: Option<String>,
    },
    /// Sign in to a place that asks you to agree on its own page (OAuth 2.0): shows what the
    /// connection will be allowed to do, then a code to type there, and waits
    SignIn {
        /// Its name
        place: String,
        /// Begin without asking whether the rights are well
        #[arg(long)]
        yes: bool,
    },
    /// What lies in a folder
    Browse {
        /// PLACE:/FOLDER
        folder: String,
        /// Entries at most
        #[arg(long, default_value_t = 1000)]
        limit: usize,
    },
    /// Copy files, and folders with all that is in them, to another place; recorded as runs
    Copy(Hand),
    /// Move files, and folders with all that is in them, to another place; recorded as runs
    Move(Hand),
    /// Remove a place that no rule uses
    Remove {
        /// Its name
        place: String,
    },
}

#[derive(Debug, Args)]
pub(crate) struct Hand {
    /// PLACE:/PATH of a file or folder
    #[arg(required = true)]
    from: Vec<String>,
    /// PLACE:/FOLDER it goes to
    to: String,
    /// What to do when a name is taken: refuse (hold the file), replace, keep-both or skip-same
    #[arg(long, default_value = "refuse")]
    exists: IfExists,
}

async fn by_hand(hand: Hand, moves: bool, client: &Client, output: Output) -> Result<End> {
    for from in &hand.from {
        let (folder, name) = match from.rsplit_once('/') {
            Some((folder, name)) if !name.is_empty() => (folder, name),
            _ => return Err(WrongRequest(format!("\"{from}\" names no file or folder below a place's root")).into()),
        };
        let asked = ByHand {
            from: if folder.ends_with(':') { format!("{folder}/") } else { folder.to_owned() },
            names: vec![name.to_owned()],
            to: hand.to.clone(),
            r#move: moves,
            exists: Some(hand.exists),
        };
        let begun: Begun = client.post("/by-hand", &asked).await?;
        output.show(&begun, |begun| {
            let files = if begun.files == 1 { "one file".to_owned() } else { format!("{} files", begun.files) };
            let doing = if moves { "moving" } else { "copying" };
            line(format!("{doing} {files} of {from} to {}", hand.to));
            if let Some(run) = begun.first {
                line(format!("  wetbank run show {run}"));
            }
            if begun.more {
                line("  there are more files in it; do it again when these are done");
            }
        })?;
    }
    Ok(End::Done)
}

/// What a new place needs depends on its kind; what was typed is understood as people paste it.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// Its name: 1 to 64 of a-z, 0-9, - and _
    place: String,
    #[command(flatten)]
    keys: PlaceKeys,
}

async fn add(add: Add, client: &Client, output: Output) -> Result<End> {
    let name = add.place;
    let new = add.keys.into_place(&name)?;
    client.post_nothing("/places", &new).await?;
    if new.agreement.is_some() {
        output.said(&format!("place {name} added; sign in to it with: wetbank place sign-in {name}"))?;
        return Ok(End::Done);
    }
    test(&name, TestPlace::default(), client, output).await
}

/// One line a step of a test, and below a failed one what to do.
pub(super) fn show_steps(steps: &[TestStep]) {
    for step in steps {
        let sign = if step.fine { "✓" } else { "✗" };
        line(format!("{sign} {} ({:.0} ms): {}", step.what, step.took_ms, step.said));
        if let Some(remedy) = &step.remedy {
            line(format!("  {remedy}"));
        }
    }
}

pub(super) async fn test(place: &str, how: TestPlace, client: &Client, output: Output) -> Result<End> {
    let tested: TestedPlace = client.post(&format!("/places/{}/test", segment(place)), &how).await?;
    output.show(&tested, |tested| {
        show_steps(&tested.steps);
        if let Some(shown) = &tested.identity {
            line(format!("  The server shows the {} {}.", shown.what, shown.fingerprint));
            line("  If the partner names the same, confirm it with:");
            line(format!("  wetbank place test {place} --confirm {}", shown.fingerprint));
        }
    })?;
    Ok(if tested.fine { End::Done } else { End::Failed })
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let places: Vec<Place> = client.get("/places", &[]).await?;
            output.show(&places, |places| {
                let rows = places.iter().map(|p| {
                    vec![
                        p.name.clone(),
                        p.state.to_string(),
                        p.kind.clone(),
                        p.address.clone(),
                        when_ever(p.at.as_ref()),
                        p.rules.join(", "),
                        p.twins.join(", "),
                    ]
                });
                table(&["place", "state", "kind", "address", "last contact", "rules", "twins"], rows.collect());
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
        Verb::Add(new) => return add(*new, client, output).await,
        Verb::Test { place, write, confirm } => {
            return test(&place, TestPlace { write, confirm }, client, output).await;
        }
        Verb::SignIn { place, yes } => return sign_in::run(&place, yes, client, output).await,
        Verb::Browse { folder, limit } => {
            let (place, folder) = folder.split_once(':').unwrap_or((&folder, ""));
            let path = format!("/places/{}/browse", segment(place));
            let mut asked = vec![("folder", folder.to_owned()), ("limit", limit.to_string())];
            let mut listing: Listing = client.get(&path, &asked).await?;
            while let Some(next) = listing.next.filter(|_| listing.entries.len() < limit) {
                asked.truncate(1);
                asked.push(("limit", (limit - listing.entries.len()).to_string()));
                asked.push(("page", next.to_string()));
                let page: Listing = client.get(&path, &asked).await?;
                listing.entries.extend(page.entries);
                listing.next = page.next;
            }
            output.show(&listing, |listing| {
                let rows = listing.entries.iter().map(|e| {
                    let size = if e.kind == EntryKind::File { size(e.size) } else { e.kind.to_string() };
                    vec![e.name.clone(), size, when_ever(e.modified.as_ref()), e.who.clone().unwrap_or_default()]
                });
                table(&["name", "size", "modified", "who"], rows.collect());
                if listing.next.is_some() {
                    eprintln!("there is more; show it with --limit");
                }
            })?;
        }
        Verb::Copy(hand) => return by_hand(hand, false, client, output).await,
        Verb::Move(hand) => return by_hand(hand, true, client, output).await,
        Verb::Remove { place } => {
            client.delete(&format!("/book/place/{}", segment(&place))).await?;
            output.said(&format!("place {place} removed"))?;
        }
    }
    Ok(End::Done)
}
