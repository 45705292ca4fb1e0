use anyhow::Result;
use clap::Subcommand;
use wetbank_client::{
    BookDiff, Client, Explained, Rule, RuleOrder, RuleSummary, RunFile, Section, SectionVersion, Started, Step, Switch,
    UndoSection, Verdict, segment,
};

use super::{WrongRequest, rehearse, run::follow};
use crate::{
    End,
    output::{Output, line, size, table, when},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Every rule, in the order they are asked
    List,
    /// One rule: what it does, its branches, its text
    Show {
        /// Its name
        rule: String,
    },
    /// Switch rules on
    On {
        /// Their names
        #[arg(required = true)]
        rules: Vec<String>,
    },
    /// Switch rules off; what they have begun is finished
    Off {
        /// Their names
        #[arg(required = true)]
        rules: Vec<String>,
    },
    /// Run a rule now, on all files that it is about or on a chosen one
    Run {
        /// Its name
        rule: String,
        /// PLACE:/PATH of a chosen file, also if the rule took it before
        #[arg(long, conflicts_with = "all")]
        file: Option<String>,
        /// Also files that the rule took before
        #[arg(long)]
        all: bool,
        /// Do not wait for the end
        #[arg(long)]
        detach: bool,
    },
    /// Why rules take a file, or why not
    Explain {
        /// PLACE:/PATH
        file: String,
        /// Only this rule
        #[arg(long)]
        rule: Option<String>,
    },
    /// What a rule would do, over one file, what lies there now or what came; nothing is touched, written or sent
    Rehearse(rehearse::Args),
    /// How another system starts a rule: the exact call to make
    Signal {
        /// Its name
        rule: String,
    },
    /// What was changed in a rule, when, by whom and why
    Changes {
        /// Its name; of a rule that was removed, too
        rule: String,
        /// Show each text in full
        #[arg(long)]
        text: bool,
    },
    /// Put an earlier text of a rule in force again; a rule that was removed is there again
    Undo {
        /// Its name
        rule: String,
        /// The version whose text is to be in force; the one before if left out
        #[arg(long, value_name = "VERSION")]
        to: Option<i64>,
    },
    /// Have a rule asked earlier or later: of a file that several want, the first one takes it
    Move {
        /// Its name
        rule: String,
        /// The rule before which it is asked; if left out it is asked last
        #[arg(long, value_name = "RULE")]
        before: Option<String>,
    },
    /// Remove a rule
    Remove {
        /// Its name
        rule: String,
    },
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::List => {
            let rules: Vec<RuleSummary> = client.get("/rules", &[]).await?;
            output.show(&rules, |rules| {
                let rows = rules.iter().map(|r| {
                    let last = r
                        .last
                        .as_ref()
                        .map_or_else(|| "never ran".to_owned(), |l| format!("{} {}", l.state, when(&l.started)));
                    vec![
                        r.name.clone(),
                        if r.on { "on" } else { "off" }.to_owned(),
                        r.title.clone(),
                        last,
                        r.sentence.clone(),
                    ]
                });
                table(&["rule", "", "title", "last run", "what it does"], rows.collect());
            })?;
        }
        Verb::Show { rule } => {
            let rule: Rule = client.get(&format!("/rules/{}", segment(&rule)), &[]).await?;
            output.show(&rule, show)?;
        }
        Verb::On { rules } => switch(rules, true, client, output).await?,
        Verb::Off { rules } => switch(rules, false, client, output).await?,
        Verb::Run { rule, file, all, detach } => {
            let asked = RunFile { file, all };
            let started: Started = client.post(&format!("/rules/{}/run", segment(&rule)), &asked).await?;
            if detach {
                return output.show(&started, |s| line(format!("run {} started", s.run))).map(|()| End::Done);
            }
            return follow(client, started.run, output).await;
        }
        Verb::Explain { file, rule } => {
            let mut query = vec![("file", file)];
            query.extend(rule.map(|rule| ("rule", rule)));
            let explained: Explained = client.get("/explain", &query).await?;
            output.show(&explained, explain)?;
        }
        Verb::Rehearse(args) => rehearse::run(args, client, output).await?,
        Verb::Signal { rule } => {
            let found: Rule = client.get(&format!("/rules/{}", segment(&rule)), &[]).await?;
            let help = found.signal.ok_or_else(|| {
                let words = "no signal starts it; add starts = { signal = { secret = \"…\" } } to the rule";
                WrongRequest(format!("rule \"{rule}\": {words}"))
            })?;
            output.show(&help, |help| help.commands.lines().for_each(line))?;
        }
        Verb::Changes { rule, text } => {
            let rule: Section = client.get(&format!("/book/rule/{}", segment(&rule)), &[]).await?;
            output.show(&rule.versions, |versions| changes(versions, text))?;
        }
        Verb::Undo { rule, to } => {
            let asked = UndoSection { version: to };
            let diff: BookDiff = client.post(&format!("/book/rule/{}/undo", segment(&rule)), &asked).await?;
            output.show(&diff, super::book::summary)?;
        }
        Verb::Move { rule, before } => {
            let now: Vec<RuleSummary> = client.get("/rules", &[]).await?;
            let mut rules: Vec<String> = now.into_iter().map(|one| one.name).filter(|name| *name != rule).collect();
            let at = match &before {
                Some(other) => rules.iter().position(|name| name == other).ok_or_else(|| {
                    WrongRequest(format!("there is no rule \"{other}\" before which \"{rule}\" could be asked"))
                })?,
                None => rules.len(),
            };
            rules.insert(at, rule.clone());
            client.put_nothing("/rule-order", &RuleOrder { rules }).await?;
            output.said(&format!(
                "rule {rule} is asked {}",
                before.map_or("last".to_owned(), |other| format!("before {other}"))
            ))?;
        }
        Verb::Remove { rule } => {
            client.delete(&format!("/book/rule/{}", segment(&rule))).await?;
            output.said(&format!("rule {rule} removed"))?;
        }
    }
    Ok(End::Done)
}

/// What was changed, version by version.
fn changes(versions: &[SectionVersion], text: bool) {
    for (at, version) in versions.iter().enumerate() {
        let note = version.note.as_ref().map(|note| format!(": {note}")).unwrap_or_default();
        line(format!("version {}, {} by {}{note}", version.version, when(&version.at), version.who));
        match &version.text {
            None => line("  removed"),
            Some(full) if text => full.lines().for_each(|l| line(format!("  {l}"))),
            Some(_) if at + 1 == versions.len() => line("  added"),
            Some(_) if version.differences.is_empty() => line("  the same; only its comments or order differ"),
            Some(_) => {}
        }
        for one in version.differences.iter().filter(|_| !text) {
            line(format!("  {}{}", if one.unprotects { "! " } else { "" }, one.words));
        }
    }
}

async fn switch(rules: Vec<String>, on: bool, client: &Client, output: Output) -> Result<()> {
    for rule in &rules {
        client.post_nothing(&format!("/rules/{}/switch", segment(rule)), &Switch { on }).await?;
    }
    let word = if on { "on" } else { "off" };
    output.said(&format!("{}: {word}", rules.join(", ")))
}

fn show(rule: &Rule) {
    let summary = &rule.summary;
    line(format!("{} ({}, {})", summary.title, summary.name, if summary.on { "on" } else { "off" }));
    line(&summary.sentence);
    if !summary.why.is_empty() {
        line(format!("Why: {}", summary.why));
    }
    for trouble in &rule.troubles {
        line(format!("! {}", trouble.words()));
        line(format!("  {}", trouble.remedy));
    }
    line("");
    let rows = rule.branches.iter().enumerate().map(|(at, b)| {
        let steps: Vec<_> = b.steps.iter().map(step).collect();
        vec![
            (at + 1).to_string(),
            b.title.clone(),
            b.condition.clone().unwrap_or_else(|| "anything else".to_owned()),
            steps.join(" → "),
            b.original.clone(),
            format!("{} done, {} held, {} open", b.done, b.held, b.open),
        ]
    });
    table(&["", "branch", "if", "steps", "the original", "today"], rows.collect());
    if !rule.firings.is_empty() {
        line("");
        line(format!("Next: {}", rule.firings.iter().map(|at| when(at)).collect::<Vec<_>>().join(", ")));
    }
    line("");
    line(rule.text.trim_end());
}

/// A step with its condition and what is done when it fails.
fn step(step: &Step) -> String {
    let condition = step.condition.as_ref().map(|words| format!(" (if {words})")).unwrap_or_default();
    let failure = match step.on_failure.as_slice() {
        [] => String::new(),
        words => format!(" (if it fails: {})", words.join(", ")),
    };
    format!("{}{condition}{failure}", step.kind)
}

fn explain(explained: &Explained) {
    match explained.size {
        Some(bytes) => line(format!("{} ({})", explained.file, size(bytes))),
        None => match &explained.away {
            Some(away) => line(format!("{}: {away}; only names were compared", explained.file)),
            None => line(format!("{} is not there; only names were compared", explained.file)),
        },
    }
    if let Some(seen) = &explained.seen {
        line(format!("seen in this state first: {}", when(seen)));
    }
    for rule in &explained.rules {
        line("");
        line(format!("{} ({}): {}", rule.title, rule.rule, rule.outcome));
        for one in &rule.trigger {
            verdict(one, 1);
        }
        for (at, branch) in rule.branches.iter().enumerate() {
            line(format!("  branch {} \"{}\"", at + 1, branch.title));
            verdict(&branch.verdict, 2);
        }
        for note in &rule.notes {
            line(format!("  but {note}"));
        }
    }
}

pub(super) fn verdict(verdict: &Verdict, depth: usize) {
    let sign = if verdict.holds { "✓" } else { "✗" };
    let found =
        if verdict.found.is_empty() || verdict.holds { String::new() } else { format!(" — it is {}", verdict.found) };
    line(format!("{}{sign} {}{found}", "  ".repeat(depth), verdict.asked));
    for part in &verdict.parts {
        self::verdict(part, depth + 1);
    }
}
