use std::path::PathBuf;

use anyhow::{Context, Result};
use wetbank_client::{
    AskRehearsal, Client, Foreseen, ForeseenStep, ProposedDraft, Rehearsal, RehearsedFile, RehearsedOnly, RehearsedOver,
};

use super::{WrongRequest, rule::verdict};
use crate::output::{Output, line, size, table, when};

/// Days over which a rule is rehearsed if nothing else is said.
const USUAL_DAYS: u32 = 30;

#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The rule's name; with --draft the name in that file counts
    #[arg(required_unless_present = "draft")]
    rule: Option<String>,
    /// Over this one file, PLACE:/PATH
    #[arg(long, group = "over")]
    file: Option<String>,
    /// Over what lies where the rule looks
    #[arg(long, group = "over")]
    here: bool,
    /// Over what came in this time, as in 7d; 30d if nothing is said
    #[arg(long, group = "over", value_name = "TIME")]
    since: Option<String>,
    /// Rehearse the rule in this file, compared with the one in force
    #[arg(long, value_name = "FILE")]
    draft: Option<PathBuf>,
    /// Rehearse this earlier version of the rule, compared with the one in force
    #[arg(long, conflicts_with = "draft", value_name = "VERSION")]
    earlier: Option<i64>,
    /// Compare with this version, not with the one in force
    #[arg(long, value_name = "VERSION")]
    against: Option<i64>,
    /// List all files, also those that go as before
    #[arg(long)]
    all: bool,
    /// List so many files at most
    #[arg(long, default_value_t = 50, value_name = "FILES")]
    limit: usize,
}

/// Whole days that hold this time.
fn days(text: &str) -> Result<u32> {
    const DAY: u64 = 24 * 3600;
    let time = wetbank_core::parse_duration(text)
        .map_err(|_| WrongRequest(format!("--since {text:?} is no time; write it as in --since 30d")))?;
    Ok(u32::try_from(time.as_secs().div_ceil(DAY).max(1)).unwrap_or(u32::MAX))
}

pub(crate) async fn run(args: Args, client: &Client, output: Output) -> Result<()> {
    let draft = args
        .draft
        .as_ref()
        .map(|file| std::fs::read_to_string(file).with_context(|| format!("{} cannot be read", file.display())));
    let draft = draft.transpose()?.map(|text| ProposedDraft { text: Some(text), ..ProposedDraft::default() });
    let is_compared = draft.is_some() || args.earlier.is_some() || args.against.is_some();
    let over = match (args.file, args.here, args.since) {
        (Some(file), ..) => RehearsedOver::File(file),
        (None, true, _) => RehearsedOver::Here,
        (None, false, since) => RehearsedOver::Days(since.as_deref().map_or(Ok(USUAL_DAYS), days)?),
    };
    let is_one = matches!(over, RehearsedOver::File(_));
    let asked = AskRehearsal {
        rule: args.rule.filter(|_| draft.is_none()),
        version: args.earlier,
        draft,
        compare: is_compared,
        against: args.against,
        over,
        only: if is_compared && !args.all && !is_one { RehearsedOnly::Differing } else { RehearsedOnly::All },
        most: Some(args.limit),
        ..AskRehearsal::default()
    };
    let rehearsal: Rehearsal = client.post("/rehearsals", &asked).await?;
    output.show(&rehearsal, |rehearsal| show(rehearsal, is_one))
}

fn show(rehearsal: &Rehearsal, is_one: bool) {
    line(format!("{} ({}): {}", rehearsal.title, rehearsal.rule, rehearsal.headline));
    if let (true, [file]) = (is_one, rehearsal.shown.as_slice()) {
        return one(file);
    }
    for kind in &rehearsal.differing {
        line(format!("  {}", kind.words));
    }
    if rehearsal.same_names > 0 {
        line(format!("  {}", same_names(rehearsal.same_names)));
    }
    line("");
    if rehearsal.against.is_some() && !rehearsal.shown.is_empty() {
        let rows = rehearsal.shown.iter().map(|file| {
            let before = file.before.as_ref().map(way).unwrap_or_default();
            vec![file.file.clone(), when(&file.came), before, way(&file.after), file.why.clone().unwrap_or_default()]
        });
        table(&["file", "came", "in force", "would", "why"], rows.collect());
    } else if !rehearsal.shown.is_empty() {
        let rows = rehearsal.shown.iter().map(|file| {
            vec![file.file.clone(), size(file.size), when(&file.came), way(&file.after), file.after.end.clone()]
        });
        table(&["file", "size", "came", "goes", "and then"], rows.collect());
    }
    let more = rehearsal.asked_for.saturating_sub(rehearsal.shown.len());
    if more > 0 {
        line(format!("… and {more} more (--limit)"));
    }
    for left in &rehearsal.left {
        line(format!("! {left}"));
    }
    let back = rehearsal.on_record_since.as_ref().map(|since| format!("; the record goes back to {}", when(since)));
    line(format!("{} ms; nothing was touched, written or sent{}", rehearsal.took, back.unwrap_or_default()));
}

fn same_names(files: usize) -> String {
    let (files, wait) =
        if files == 1 { ("1 file gets".to_owned(), "it waits") } else { (format!("{files} files get"), "they wait") };
    format!("{files} the name of a file before: {wait} for a person if that one still lies there")
}

/// Where a file goes, in short.
fn way(foreseen: &Foreseen) -> String {
    let Some(branch) = &foreseen.branch else { return "not taken".to_owned() };
    let done = foreseen.steps.iter().filter(|step| step.left_out.is_none());
    let targets: Vec<&str> = done.filter_map(|step| step.comes_to.as_deref()).collect();
    match (foreseen.held, targets.is_empty()) {
        (true, _) => format!("{branch}: waits for a person"),
        (false, true) => branch.clone(),
        (false, false) => format!("{branch}: {}", targets.join(", ")),
    }
}

fn one(file: &RehearsedFile) {
    line(format!("{} ({})", file.file, size(file.size)));
    for test in &file.after.explained.trigger {
        verdict(test, 1);
    }
    for (at, branch) in file.after.explained.branches.iter().enumerate() {
        line(format!("  branch {} \"{}\"", at + 1, branch.title));
        verdict(&branch.verdict, 2);
    }
    if let Some(before) = file.before.as_ref().filter(|_| file.kind.is_some()) {
        line(format!("  in force now: {}; {}", way(before), before.end));
        line(format!("  otherwise because: {}", file.why.clone().unwrap_or_default()));
    }
    for (at, step) in file.after.steps.iter().enumerate() {
        line(format!("  {}. {}", at + 1, told(step)));
        for more in [&step.found, &step.open].into_iter().flatten() {
            line(format!("     {more}"));
        }
    }
    line(format!("  {}", file.after.end));
    line("nothing was touched, written or sent");
}

fn told(step: &ForeseenStep) -> String {
    if let Some(why) = &step.left_out {
        return format!("{} — left out: {why}", step.words);
    }
    match (&step.comes_to, &step.makes) {
        (Some(to), _) => format!("{} → {to}", step.words),
        (None, Some(name)) => format!("{} → {name}", step.words),
        (None, None) => step.words.clone(),
    }
}
