use anyhow::Result;
use wetbank_client::{Client, HoldPage, Status};

use crate::{
    End,
    output::{Output, line, size, table, when},
};

pub(crate) async fn run(client: &Client, output: Output) -> Result<End> {
    let status: Status = client.get("/status", &[]).await?;
    let holds: HoldPage = client.get("/holds", &[("limit", "5".to_owned())]).await?;
    output.show(&status, |status| {
        line(headline(status));
        line(format!(
            "{} files crossed today ({}), {} in work, {} queued, {} waiting for another attempt; {} rules on, {} off",
            status.today.done,
            size(status.today.bytes.unsigned_abs()),
            status.working,
            status.queued,
            status.waiting,
            status.rules_on,
            status.rules_off
        ));
        if !status.places_away.is_empty() {
            line(format!("Not reachable: {}", status.places_away.join(", ")));
        }
        if let Some(shown) = &status.certificate {
            let names = shown.names.join(", ");
            line(format!("Reached in private as {names}; its certificate is {}", shown.fingerprint));
        }
        for warning in &status.warnings {
            line(format!("! {}", warning.words()));
            line(format!("  {}", warning.remedy));
        }
        if !status.next.is_empty() {
            line("");
            let rows =
                status.next.iter().map(|firing| vec![when(&firing.at), firing.title.clone(), firing.rule.clone()]);
            table(&["next", "rule", ""], rows.collect());
        }
        if !holds.holds.is_empty() {
            line("");
            let rows = holds.holds.iter().map(|h| {
                vec![
                    h.item.to_string(),
                    when(&h.since),
                    h.file.clone(),
                    format!("{} › {}", h.title, h.step),
                    h.why.clone(),
                ]
            });
            table(&["item", "held since", "file", "rule › step", "why"], rows.collect());
        }
        if !status.moving.is_empty() {
            line("");
            let rows = status.moving.iter().map(|m| {
                let kind = m.step_kind().to_owned();
                vec![m.file.clone(), m.title.clone(), kind, format!("{} of {}", size(m.done), size(m.total))]
            });
            table(&["moving", "rule", "step", "done"], rows.collect());
        }
    })?;
    Ok(End::Done)
}

fn headline(status: &Status) -> String {
    let held = match status.held {
        0 => "Nothing waits for you".to_owned(),
        1 => "One file waits for you".to_owned(),
        n => format!("{n} files wait for you"),
    };
    match status.places_away.len() {
        0 => format!("{held}."),
        1 => format!("{held}; one place is not reachable."),
        n => format!("{held}; {n} places are not reachable."),
    }
}
