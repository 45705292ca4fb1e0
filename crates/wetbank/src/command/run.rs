use std::{collections::HashMap, time::Duration};

use anyhow::Result;
use clap::Subcommand;
use futures_util::StreamExt;
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use wetbank_client::{Affected, Client, Item, Retry, Run, RunPage, RunState, Status, StoppedRun};

use crate::{
    End,
    output::{Output, line, size, table, when, when_ever},
};

/// How often progress is looked at while a run is followed.
const LOOK_EVERY: Duration = Duration::from_millis(200);

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Runs, newest first
    List {
        /// Only runs of this rule
        #[arg(long)]
        rule: Option<String>,
        /// Only runs in this state: running, done, skipped or held
        #[arg(long)]
        state: Option<RunState>,
        /// Only runs older than this one
        #[arg(long, value_name = "RUN")]
        before: Option<i64>,
        /// At most so many
        #[arg(long, default_value_t = 20)]
        limit: u32,
    },
    /// One run: its files, their steps, every attempt
    Show {
        /// Its number
        run: i64,
    },
    /// Stop a run; files that are not at their end are held
    Stop {
        /// Its number
        run: i64,
    },
    /// Go on with what is held in a run, and try again at once what waits
    Retry {
        /// Its number
        run: i64,
        /// Only this file of it
        #[arg(long)]
        item: Option<i64>,
    },
    /// Watch a run until its end; without a number, watch everything
    Follow {
        /// Its number
        run: Option<i64>,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List { rule, state, before, limit } => {
            let mut query = vec![("limit", limit.to_string())];
            query.extend(rule.map(|rule| ("rule", rule)));
            query.extend(state.map(|state| ("state", state.to_string())));
            query.extend(before.map(|before| ("before", before.to_string())));
            let page: RunPage = client.get("/runs", &query).await?;
            output.show(&page, |page| {
                let rows = page.runs.iter().map(|r| {
                    vec![
                        r.id.to_string(),
                        r.state.to_string(),
                        when(&r.started),
                        r.title.clone(),
                        r.file.clone(),
                        size(r.size),
                        r.why.clone().unwrap_or_default(),
                    ]
                });
                table(&["run", "state", "started", "rule", "file", "size", "why"], rows.collect());
                if let Some(next) = page.next {
                    eprintln!("older ones: --before {next}");
                }
            })?;
        }
        Verb::Show { run } => {
            let run: Run = client.get(&format!("/runs/{run}"), &[]).await?;
            output.show(&run, show)?;
        }
        Verb::Stop { run } => {
            let stopped: StoppedRun = client.post(&format!("/runs/{run}/stop"), &()).await?;
            output.show(&stopped, |stopped| {
                line(format!("run {run} stopped: {} held; see wetbank hold list", files(stopped.held)));
                if stopped.ended > 0 {
                    line(format!("{} came to the end before that", files(stopped.ended)));
                }
                if stopped.stopping > 0 {
                    let (still, run) = (files(stopped.stopping), format!("see wetbank run show {run}"));
                    line(format!("{still} still at work: held at the next safe point, unless done before; {run}"));
                }
            })?;
        }
        Verb::Retry { run, item } => {
            let going: Affected = client.post(&format!("/runs/{run}/retry"), &Retry { item }).await?;
            output.show(&going, |going| line(format!("run {run}: {} going on", files(going.items))))?;
        }
        Verb::Follow { run: Some(run) } => return follow(client, run, output).await,
        Verb::Follow { run: None } => follow_all(client, output).await?,
    }
    Ok(End::Done)
}

fn files(count: usize) -> String {
    if count == 1 { "1 file".to_owned() } else { format!("{count} files") }
}

fn show(run: &Run) {
    line(format!("run {} of {} ({}): {}", run.id, run.title, run.rule, run.state));
    line(format!("started by {} at {}, ended {}", run.cause, when(&run.started), when_ever(run.ended.as_ref())));
    if let Some(why) = &run.why {
        line(why);
    }
    for (word, text) in &run.about {
        line(format!("  {word}: {text}"));
    }
    for item in &run.items {
        line("");
        show_item(item);
    }
}

pub(crate) fn show_item(item: &Item) {
    line(format!(
        "{} ({}): {}{}",
        item.file,
        size(item.size),
        item.state,
        item.why.as_ref().map(|w| format!(" — {w}")).unwrap_or_default()
    ));
    if let Some(title) = &item.branch_title {
        let steps: Vec<_> = item.steps.iter().map(|step| format!("{} ({})", step.kind, step.state)).collect();
        line(format!("branch \"{title}\": {}", steps.join(" → ")));
    }
    let rows = item.attempts.iter().map(|a| {
        vec![
            a.kind.clone(),
            a.number.to_string(),
            when(&a.began),
            a.outcome.to_string(),
            a.size.map(size).unwrap_or_default(),
            a.target.clone().unwrap_or_default(),
            a.sha256.clone().unwrap_or_default(),
            a.message.clone().unwrap_or_default(),
        ]
    });
    table(&["step", "attempt", "at", "outcome", "size", "target", "sha-256", "said"], rows.collect());
    if let Some(hold) = &item.hold {
        line(&hold.remedy);
        line(format!("release it with: wetbank hold release {}", item.id));
    }
}

/// Shows a run's progress until it comes to rest.
pub(crate) async fn follow(client: &Client, id: i64, output: Output) -> Result<End> {
    let bars = MultiProgress::new();
    let mut shown: HashMap<i64, ProgressBar> = HashMap::new();
    let style = ProgressStyle::with_template("{msg} {bar:30} {bytes}/{total_bytes} {bytes_per_sec}")?;
    loop {
        let run: Run = client.get(&format!("/runs/{id}"), &[]).await?;
        if run.state != RunState::Running {
            bars.clear()?;
            let held = run.state == RunState::Held;
            output.show(&run, show)?;
            return Ok(if held { End::Failed } else { End::Done });
        }
        if !output.json {
            let status: Status = client.get("/status", &[]).await?;
            for moving in status.moving.iter().filter(|m| m.run == id) {
                let bar = shown
                    .entry(moving.item)
                    .or_insert_with(|| bars.add(ProgressBar::new(moving.total).with_style(style.clone())));
                let kind = moving.step_kind();
                bar.set_message(format!("{} › {kind}", moving.file));
                bar.set_length(moving.total);
                bar.set_position(moving.done);
            }
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

/// Prints every change of an item, until interrupted.
async fn follow_all(client: &Client, output: Output) -> Result<()> {
    let mut events = client.events().await?;
    while let Some(event) = events.next().await {
        if output.json {
            line(event);
        } else if event["what"] == "item" {
            let text = |key: &str| event[key].as_str().unwrap_or_default().to_owned();
            line(format!("run {} {}: {}, step {}", event["run"], text("rule"), text("state"), event["step"]));
        }
    }
    Ok(())
}
