use anyhow::Result;
use clap::{Subcommand, ValueEnum};
use wetbank_client::{
    Client, RestoreTwin, RunTwin, Started, Switch, Twin, TwinChoices, TwinComparison, TwinKeeps, TwinLine, TwinPassed,
    TwinState, segment,
};

use super::WrongRequest;
use crate::{
    End,
    output::{Output, line, size, table, when, when_ever},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Every twin: are its two sides alike?
    List,
    /// One twin: what it does, its last passes, its text in the book
    Show {
        /// Its name
        twin: String,
    },
    /// What a pass would do, and why; nothing is touched
    Compare {
        /// Its name
        twin: String,
        /// List so many lines at most
        #[arg(long, default_value_t = 100, value_name = "LINES")]
        limit: usize,
    },
    /// Make a pass now, and wait for its end
    Run {
        /// Its name
        twin: String,
        /// Leave this path of the near side out this time, with all below it
        #[arg(long, value_name = "PATH")]
        without: Vec<String>,
        /// It would be stopped, and what it would do is meant: as wetbank twin compare told, and no more than that
        #[arg(long)]
        meant: bool,
    },
    /// Say which file stays where another one lies on each side, and do just that
    Settle {
        /// Its name
        twin: String,
        /// Paths of the near side
        #[arg(required = true)]
        paths: Vec<String>,
        /// Which one stays
        #[arg(long)]
        keep: Keep,
    },
    /// Bring back what a side lost, or list what is kept
    Restore {
        /// Its name
        twin: String,
        /// Paths, of files or folders; all of the day if there are none
        paths: Vec<String>,
        /// List what is kept
        #[arg(long, conflicts_with_all = ["paths", "side", "day"])]
        list: bool,
        /// The side that lost it
        #[arg(long, required_unless_present = "list")]
        side: Option<SideWord>,
        /// The day on which it was lost, as in 2026-03-16
        #[arg(long, required_unless_present = "list")]
        day: Option<String>,
    },
    /// Have passes made by themselves again
    On {
        /// Its name
        twin: String,
    },
    /// Have passes made only when somebody or a rule asks for one
    Off {
        /// Its name
        twin: String,
    },
    /// Remove a twin; both folders stay as they are
    Remove {
        /// Its name
        twin: String,
    },
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Keep {
    /// That of the near side
    Near,
    /// That of the far side
    Far,
    /// Both; that of the far side gets a name with its side and time
    Both,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum SideWord {
    /// The near side
    Near,
    /// The far side
    Far,
}

fn state(twin: &Twin) -> String {
    let since = twin.since.as_ref().map(|since| format!(" since {}", when(since))).unwrap_or_default();
    let off = if twin.on { "" } else { " (off)" };
    match twin.state {
        TwinState::Alike => format!("alike{since}{off}"),
        TwinState::Going => format!("a pass goes on{since}{off}"),
        TwinState::Asks => format!("asks{since}: {}{off}", twin.words),
        TwinState::Waits => format!("waits{since}: {}{off}", twin.words),
        TwinState::Failed => format!("failed{since}: {}{off}", twin.words),
        TwinState::New => format!("new: {}{off}", twin.words),
    }
}

fn show(twin: &Twin) {
    line(format!("{} ({})", twin.title, twin.name));
    if !twin.why.is_empty() {
        line(&twin.why);
    }
    line(&twin.sentence);
    line(format!("near: {}", twin.near));
    line(format!("far:  {}", twin.far));
    line(format!("State: {}", state(twin)));
    if let Some(question) = &twin.question {
        line(format!("! item {}: {}", question.item, question.why));
        line(format!("  see it with: wetbank twin compare {}", twin.name));
    }
    line(format!("Next by the clock: {}", when_ever(twin.next.as_ref())));
    line("");
    let rows = twin.passes.iter().map(|pass| {
        vec![
            when(&pass.began),
            when_ever(pass.ended.as_ref()),
            pass.run.map(|run| run.to_string()).unwrap_or_default(),
            pass.words.clone(),
            pass.why.clone().unwrap_or_default(),
        ]
    });
    table(&["pass began", "ended", "run", "what", "why not"], rows.collect());
    line("");
    line(twin.text.trim_end());
}

fn compared(twin: &str, found: &TwinComparison) {
    line(format!("{twin}: {}; {} files here, {} there", found.words, found.near_files, found.far_files));
    if found.first {
        line("Both sides meet for the first time: nothing is deleted or replaced.");
    }
    if let Some(stop) = &found.stop {
        line(format!("! it would be stopped before its first action: {}", stop.words));
        line(format!("  if it is meant: wetbank twin run {twin} --meant"));
    }
    let side = |file: &Option<wetbank_client::TwinFile>| match file {
        Some(file) => {
            format!("{}, {}", size(file.size), file.modified.as_ref().map_or_else(|| "–".to_owned(), |at| when(at)))
        }
        None => "–".to_owned(),
    };
    let what =
        |line: &TwinLine| if line.if_differs { format!("{} if it differs", line.words) } else { line.words.clone() };
    let rows = found.lines.iter().map(|line| {
        let name = if line.folder { format!("{}/", line.near) } else { line.near.clone() };
        vec![name, what(line), line.why.clone(), side(&line.here), side(&line.there)]
    });
    if !found.lines.is_empty() {
        table(&["path", "what would happen", "why", "here", "there"], rows.collect());
    }
    let more = found.all - found.lines.len() as u64;
    if more > 0 {
        line(format!("… and {more} more (--limit)"));
    }
    let asked = found.lines.iter().find(|line| !line.answers.is_empty());
    if let Some(line_) = asked {
        line(format!(
            "Answer with, for example: wetbank twin settle {twin} \"{}\" --keep {}",
            line_.near, line_.answers[0]
        ));
    }
}

fn passed(passed: &TwinPassed) -> End {
    let run = passed.run.map(|run| format!("run {run}: ")).unwrap_or_default();
    line(format!("{run}{}", passed.words));
    if let Some(stop) = &passed.stop {
        line(format!("! stopped before its first action: {}", stop.words));
        return End::Failed;
    }
    if passed.left > 0 {
        line(format!("{} changed meanwhile; a further pass sees to them", passed.left));
    }
    if passed.held > 0 {
        line(format!("! {} are held: wetbank hold list", passed.held));
        return End::Failed;
    }
    End::Done
}

async fn run_with(client: &Client, output: Output, twin: &str, choices: TwinChoices) -> Result<End> {
    let asked = RunTwin { choices, at_once: false };
    let found: TwinPassed = client.post_long(&format!("/twins/{}/run", segment(twin)), &asked).await?;
    let mut end = End::Done;
    output.show(&found, |found| end = passed(found))?;
    Ok(if found.stop.is_some() || found.held > 0 { End::Failed } else { end })
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let twins: Vec<Twin> = client.get("/twins", &[]).await?;
            output.show(&twins, |twins| {
                if twins.is_empty() {
                    line("There is no twin. Add one on the console's page Twins, or as [twin.NAME] in a book.");
                    return;
                }
                let rows = twins.iter().map(|twin| {
                    vec![
                        twin.name.clone(),
                        twin.title.clone(),
                        twin.near.clone(),
                        twin.way.clone(),
                        twin.far.clone(),
                        state(twin),
                    ]
                });
                table(&["twin", "title", "near", "way", "far", "state"], rows.collect());
            })?;
        }
        Verb::Show { twin } => {
            let found: Twin = client.get(&format!("/twins/{}", segment(&twin)), &[]).await?;
            output.show(&found, show)?;
        }
        Verb::Compare { twin, limit } => {
            let path = format!("/twins/{}/compare?most={limit}", segment(&twin));
            let found: TwinComparison = client.post_long(&path, &TwinChoices::default()).await?;
            output.show(&found, |found| compared(&twin, found))?;
        }
        Verb::Run { twin, without, meant } => {
            let mut choices = TwinChoices { without, ..TwinChoices::default() };
            if meant {
                let path = format!("/twins/{}/compare?most=0", segment(&twin));
                let found: TwinComparison = client.post_long(&path, &choices).await?;
                choices.allow = found.stop;
            }
            return run_with(client, output, &twin, choices).await;
        }
        Verb::Settle { twin, paths, keep } => {
            let keep = keep.to_possible_value().map(|word| word.get_name().to_owned()).unwrap_or_default();
            let choices = TwinChoices { only_answered: true, ..TwinChoices::default() };
            let answers = paths.iter().map(|path| (path.clone(), keep.clone())).collect();
            let choices = TwinChoices { answers, ..choices };
            let path = format!("/twins/{}/compare?most={}", segment(&twin), paths.len());
            let found: TwinComparison = client.post_long(&path, &choices).await?;
            let settles = |path: &&String| {
                !found
                    .lines
                    .iter()
                    .any(|line| line.near.trim_matches('/') == path.trim_matches('/') && line.does != "ask")
            };
            if let Some(path) = paths.iter().find(settles) {
                let words = format!(
                    "\"{path}\" cannot be answered with --keep {keep}; what can is told by: wetbank twin compare {twin}"
                );
                return Err(WrongRequest(words).into());
            }
            return run_with(client, output, &twin, choices).await;
        }
        Verb::Restore { twin, list: true, .. } => {
            let keeps: TwinKeeps = client.get(&format!("/twins/{}/kept", segment(&twin)), &[]).await?;
            output.show(&keeps, |keeps| {
                if keeps.kept.is_empty() {
                    line("Neither side keeps anything.");
                    return;
                }
                let rows = keeps.kept.iter().map(|one| {
                    vec![
                        one.day.clone(),
                        one.side.clone(),
                        one.path.clone(),
                        size(one.size),
                        when_ever(one.modified.as_ref()),
                    ]
                });
                table(&["lost on", "side", "path", "size", "changed"], rows.collect());
                if keeps.more {
                    line("… and more");
                }
            })?;
        }
        Verb::Restore { twin, paths, side, day, .. } => {
            let side = side.and_then(|side| side.to_possible_value()).map(|word| word.get_name().to_owned());
            let asked = RestoreTwin { side: side.unwrap_or_default(), day: day.unwrap_or_default(), paths };
            let started: Started = client.post(&format!("/twins/{}/restore", segment(&twin)), &asked).await?;
            output.show(&started, |started| line(format!("run {} brings it back", started.run)))?;
        }
        Verb::On { twin } => {
            client.post_nothing(&format!("/twins/{}/switch", segment(&twin)), &Switch { on: true }).await?;
            output.said(&format!("twin {twin} is on"))?;
        }
        Verb::Off { twin } => {
            client.post_nothing(&format!("/twins/{}/switch", segment(&twin)), &Switch { on: false }).await?;
            output.said(&format!("twin {twin} is off; a pass is made when somebody or a rule asks for it"))?;
        }
        Verb::Remove { twin } => {
            client.delete(&format!("/book/twin/{}", segment(&twin))).await?;
            output.said(&format!("twin {twin} removed; both folders stay as they are"))?;
        }
    }
    Ok(End::Done)
}
