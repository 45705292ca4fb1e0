use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use clap::Subcommand;
use wetbank_client::{BookDiff, BookFile, Client, LineChange, ProposedBook, TestedSection};

use super::{WrongRequest, place::show_steps};
use crate::{
    End,
    output::{Output, line},
};

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Check a book; nothing is changed
    Check(Proposal),
    /// How a book differs from what is in force; nothing is changed
    Diff(Proposal),
    /// Put a book in force
    Apply {
        #[command(flatten)]
        proposal: Proposal,
        /// Test the places that it adds or changes first; if one fails, nothing is put in force
        #[arg(long)]
        test: bool,
    },
    /// Print the book in force, or write it to a file
    Export {
        /// The file; standard output if left out or -
        path: Option<PathBuf>,
    },
}

#[derive(Debug, clap::Args)]
pub(crate) struct Proposal {
    /// A .toml file, or a folder of them
    path: PathBuf,
    /// Only add and change; without it, what the book does not have is removed
    #[arg(long)]
    part: bool,
}

pub(crate) async fn run(verb: Verb, client: &Client, output: Output) -> Result<End> {
    match verb {
        Verb::Check(proposal) => {
            client.post_nothing("/book/check", &read(proposal)?).await?;
            output.said("the book is fine")?;
        }
        Verb::Diff(proposal) => {
            let diff: BookDiff = client.post("/book/diff", &read(proposal)?).await?;
            output.show(&diff, show)?;
        }
        Verb::Apply { proposal, test } => {
            let proposed = read(proposal)?;
            if test {
                let tested: Vec<TestedSection> = client.post("/book/test", &proposed).await?;
                if let Some(failed) = tested.iter().find(|place| !place.fine) {
                    output.show(&tested, |tested| tested.iter().for_each(show_tested))?;
                    eprintln!("wetbank: place {} failed its test; nothing was put in force", failed.place);
                    return Ok(End::Failed);
                }
            }
            let diff: BookDiff = client.post("/book/apply", &proposed).await?;
            output.show(&diff, summary)?;
        }
        Verb::Export { path } => {
            let text = client.get_text("/book", &[]).await?;
            match path {
                Some(path) if path.as_os_str() != "-" => {
                    std::fs::write(&path, text).with_context(|| format!("{} cannot be written", path.display()))?;
                    output.said(&format!("written to {}", path.display()))?;
                }
                _ => line(text.trim_end()),
            }
        }
    }
    Ok(End::Done)
}

fn read(proposal: Proposal) -> Result<ProposedBook> {
    let path = &proposal.path;
    let mut paths = Vec::new();
    if path.is_dir() {
        for entry in std::fs::read_dir(path)? {
            let path = entry?.path();
            if path.extension().is_some_and(|end| end == "toml") {
                paths.push(path);
            }
        }
        paths.sort();
        if paths.is_empty() {
            return Err(WrongRequest(format!("the folder {} holds no .toml file", path.display())).into());
        }
    } else {
        paths.push(path.clone());
    }
    let files = paths.iter().map(|path| file(path)).collect::<Result<_>>()?;
    Ok(ProposedBook { files, whole: !proposal.part })
}

fn file(path: &Path) -> Result<BookFile> {
    let text = std::fs::read_to_string(path)
        .map_err(|e| WrongRequest(format!("the book {} cannot be read: {e}", path.display())))?;
    Ok(BookFile { name: path.display().to_string(), text })
}

fn show_tested(tested: &TestedSection) {
    line(format!("place {}", tested.place));
    show_steps(&tested.steps);
}

pub(super) fn summary(diff: &BookDiff) {
    if diff.changes.is_empty() && !diff.reordered {
        line("nothing differs");
    }
    for change in &diff.changes {
        line(format!("{} {} {}", change.change, change.kind, change.name));
    }
    if diff.reordered {
        line("rules are asked in another order");
    }
}

fn show(diff: &BookDiff) {
    summary(diff);
    for change in &diff.changes {
        line("");
        line(format!("[{}.{}]", change.kind, change.name));
        for changed in &change.lines {
            match changed.change {
                LineChange::Removed => line(format!("- {}", changed.text)),
                LineChange::Added => line(format!("+ {}", changed.text)),
                LineChange::Same => {}
            }
        }
    }
}
