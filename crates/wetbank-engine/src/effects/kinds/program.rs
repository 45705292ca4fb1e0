//! Running a program of the machine owner's list.

use std::{
    ffi::OsString,
    fs,
    io::{self, Write},
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering::Relaxed},
    },
};

use wetbank_core::{Template, step};
use wetbank_errands::{Programs, Running};

use super::{AtStep, Attempt, Does, Effect, FailureKind, StepDone};
use crate::effects::{making::create_private, reading::Reading};

impl Does for step::Program {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let programs = Programs::read(&at.effects.programs)?;
        let Some(allowed) = programs.get(self.run.as_str()).cloned() else {
            let known: Vec<&str> = programs.names().collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            return Err(FailureKind::Lasting {
                code: "not-allowed".to_owned(),
                why: format!("the program \"{}\" is not in the list of those that may be run ({known})", self.run),
                remedy: format!(
                    "The machine's owner adds [program.{}] with path = \"…\" to {}; then release.",
                    self.run,
                    at.effects.programs.display()
                ),
            });
        };
        let name = self.name.as_ref().map(|name| at.result_name(name)).transpose()?;
        let id = at.effects.record.journal.next_attempt();
        at.start(at.began(id, None, None), attempt).await?;
        let _slot = at.effects.slots.program.acquire().await.expect("the semaphore is never closed");
        let folder = at.in_work(".run")?;
        let local = local_file(at).await?;
        let mut about = (*at.facts().about).clone();
        if let Some(path) = &local {
            about.insert("local".to_owned(), path.display().to_string());
        }
        let facts = at.facts().with(Arc::new(about));
        let render = |template: &Template| at.with_file(facts.clone(), |facts| template.render(facts));
        let args = self.args.iter().map(|arg| Ok(OsString::from(render(arg)?))).collect::<Effect<Vec<_>>>()?;
        let mut environment: Vec<(&'static str, OsString)> = vec![
            ("WETBANK_RULE", at.rule.name.as_str().into()),
            ("WETBANK_RUN", at.work.run.to_string().into()),
            ("WETBANK_NAME", at.hand.name.name_text().into()),
        ];
        environment.extend(local.map(|path| ("WETBANK_FILE", path.into_os_string())));
        let stop = Arc::new(AtomicBool::new(false));
        let (cancelled, flag) = (at.stop.clone(), stop.clone());
        let watching = tokio::spawn(async move {
            cancelled.cancelled().await;
            flag.store(true, Relaxed);
        });
        let running = Running { args, environment, folder: folder.clone(), limit: self.limit, most: self.most.0, stop };
        let keeps = name.is_some();
        let lent = at.hand.place.is_some().then(|| at.in_work(".in")).transpose()?;
        let run = move |output: &mut (dyn Write + Send)| {
            let _ = fs::remove_dir_all(&folder);
            fs::create_dir(&folder)?;
            let printed = wetbank_errands::run(&allowed, &running, output);
            let _ = fs::remove_dir_all(&folder);
            if let Some(lent) = lent {
                let _ = fs::remove_dir_all(lent);
            }
            let printed = printed?;
            let said = if keeps || printed.said.trim().is_empty() { printed.complained } else { printed.said };
            let said = said.trim();
            Ok::<_, FailureKind>(if said.is_empty() {
                format!("it printed {} bytes", printed.size)
            } else {
                said.to_owned()
            })
        };
        let done = match name {
            Some(name) => match at.make(false, move |making| run(making).map(Some)).await {
                Ok(made) => at.made((id, attempt), name, made).await,
                Err(kind) => Err(kind),
            },
            // Nothing of it is kept but what is said about it.
            None => match tokio::task::spawn_blocking(move || run(&mut io::sink())).await {
                Ok(note) => {
                    note.map(|note| StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(at.hand, &note) })
                }
                Err(error) => Err(FailureKind::fault(error)),
            },
        };
        watching.abort();
        done
    }
}

/// The path on this machine of a file that is the one in hand whatever is put in its place meanwhile, under the name
/// that it has.
async fn local_file(at: &AtStep<'_>) -> Effect<Option<PathBuf>> {
    use std::os::unix::ffi::OsStrExt;
    if !at.hand.has_file() {
        return Ok(None);
    }
    let source = at.source()?;
    if at.hand.place.is_none() {
        let below = std::ffi::OsStr::from_bytes(source.path.as_bytes());
        return Ok(Some(at.effects.work.folder.root().join(below)));
    }
    let folder = at.in_work(".in")?;
    let path = folder.join(std::ffi::OsStr::from_bytes(at.hand.name.name()));
    // A name of an earlier attempt may be left.
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir(&folder)?;
    if let Some(place) = source.place.as_folder()
        && place.lend(&source.path, &path).await?
    {
        return Ok(Some(path));
    }
    let mut reading = Reading::open(&source, at.moving(at.hand.fingerprint.size)).await?;
    let broken = reading.broken();
    let into = path.clone();
    let copied = tokio::task::spawn_blocking(move || std::io::copy(&mut reading, &mut create_private(&into)?)).await;
    broken.check()?;
    copied.map_err(FailureKind::fault)??;
    Ok(Some(path))
}
