//! Steps that reach beyond files: web calls, programs, tables.

use std::{
    ffi::OsString,
    fs,
    io::Write,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering::Relaxed},
    },
};

use futures_util::StreamExt;
use tokio::runtime::Handle;
use wetbank_core::{Call, CallBody, Extract, Load, Program, RelPath, Template};
use wetbank_errands::{Calling, Content, ErrandError, Extracting, Loading, Programs, Running};

use super::{
    making::{Making, create_private},
    outcome::{Attempt, Effect, FailureKind, StepDone, at},
    reading::Reading,
    step::AtStep,
};

impl From<ErrandError> for FailureKind {
    fn from(error: ErrandError) -> Self {
        let why = error.to_string();
        let lasting = |code: &str, remedy: &str| Self::Lasting {
            code: code.to_owned(),
            why: why.clone(),
            remedy: remedy.to_owned(),
        };
        match error {
            ErrandError::Stopped => Self::Stopping,
            ErrandError::Io(_) => Self::Passing {
                code: "work-folder".to_owned(),
                why: format!("cannot write the work folder: {why}"),
                remedy: "Free space on the disk that holds Wetbank's data folder.".to_owned(),
            },
            ErrandError::Away(_) => Self::Passing {
                code: "away".to_owned(),
                why: why.clone(),
                remedy: "It is tried again; check address and network if it goes on.".to_owned(),
            },
            ErrandError::SignIn(_) => {
                lasting("sign-in-refused", "Set the secret that the step names again, then release.")
            }
            ErrandError::TooMuch(_) => lasting("too-much", "Allow more in the step if that is meant, then release."),
            ErrandError::Wrong(_) => lasting("unfit", "Correct the file or the step, then release; or dismiss it."),
            _ => lasting("refused", "Correct the step, or what it reaches; then release."),
        }
    }
}

impl AtStep<'_> {
    /// What tells this step of this item from every other, the same at every attempt.
    fn key(&self) -> String {
        format!("wetbank-{}-{}-{}-{}", self.effects.work.instance, self.work.item, self.branch, at(self.position))
    }

    pub(super) async fn call(&self, call: &Call, attempt: &mut Attempt) -> Effect<StepDone> {
        let render = |template: &Template| self.with_facts(|facts| template.render(facts));
        let fields = |fields: &[(String, Template)]| {
            fields.iter().map(|(key, value)| Ok((key.clone(), render(value)?))).collect::<Effect<Vec<_>>>()
        };
        let url = self.with_facts(|facts| call.url.render_address(facts))?;
        let headers = fields(&call.headers)?;
        let token = match &call.token {
            Some(secret) => Some(self.effects.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let source = matches!(call.body, CallBody::File).then(|| self.source()).transpose()?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let content = match (&call.body, source) {
            (CallBody::Empty, _) | (CallBody::File, None) => Content::Empty,
            (CallBody::Text(text), _) => Content::Text("text/plain; charset=utf-8", render(text)?),
            (CallBody::Json(pairs), _) => {
                let object: serde_json::Map<String, serde_json::Value> =
                    fields(pairs)?.into_iter().map(|(key, text)| (key, text.into())).collect();
                Content::Text("application/json", serde_json::Value::from(object).to_string())
            }
            (CallBody::File, Some(source)) => {
                let size = source.place.stat(&source.path).await?.fingerprint.size;
                let done = self.moving(size);
                let chunks = source.place.read(&source.path, 0).await?.map(move |chunk| {
                    if let Ok(chunk) = &chunk {
                        done.fetch_add(chunk.len() as u64, Relaxed);
                    }
                    chunk.map_err(std::io::Error::other)
                });
                Content::File(size, chunks.boxed())
            }
        };
        let (method, limit) = (call.method.clone(), call.limit);
        let calling = Calling { url, method, headers, token, key: self.key(), content, limit };
        let answer = tokio::select! {
            answer = wetbank_errands::call(calling) => answer?,
            () = self.stop.cancelled() => return Err(FailureKind::Stopping),
        };
        let said: String = answer.said.chars().take(300).collect();
        let said = if said.is_empty() { String::new() } else { format!(": {said}") };
        let note = format!("it answered {}{said}", answer.status);
        Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(self.hand, &note) })
    }

    pub(super) async fn program(&self, program: &Program, attempt: &mut Attempt) -> Effect<StepDone> {
        let programs = Programs::read(&self.effects.programs)?;
        let Some(allowed) = programs.get(program.run.as_str()).cloned() else {
            let known: Vec<&str> = programs.names().collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            return Err(FailureKind::Lasting {
                code: "not-allowed".to_owned(),
                why: format!("the program \"{}\" is not in the list of those that may be run ({known})", program.run),
                remedy: format!(
                    "The machine's owner adds [program.{}] with path = \"…\" to {}; then release.",
                    program.run,
                    self.effects.programs.display()
                ),
            });
        };
        let name = match &program.name {
            Some(name) => Some(self.with_facts(|facts| name.render_name(&RelPath::root(), facts))?),
            None => None,
        };
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let _slot = self.effects.slots.program.acquire().await.expect("the semaphore is never closed");
        let folder = self.in_work(".run").map_err(ErrandError::from)?;
        let local = self.local_file().await?;
        let mut about = (*self.facts().about).clone();
        if let Some(path) = &local {
            about.insert("local".to_owned(), path.display().to_string());
        }
        let facts = self.facts().with(Arc::new(about));
        let render = |template: &Template| self.with_file(facts.clone(), |facts| template.render(facts));
        let args = program.args.iter().map(|arg| Ok(OsString::from(render(arg)?))).collect::<Effect<Vec<_>>>()?;
        let mut environment: Vec<(&'static str, OsString)> = vec![
            ("WETBANK_RULE", self.rule.name.as_str().into()),
            ("WETBANK_RUN", self.work.run.to_string().into()),
            ("WETBANK_NAME", self.hand.name.name_text().into()),
        ];
        environment.extend(local.map(|path| ("WETBANK_FILE", path.into_os_string())));
        let stop = Arc::new(AtomicBool::new(false));
        let (cancelled, flag) = (self.stop.clone(), stop.clone());
        let watching = tokio::spawn(async move {
            cancelled.cancelled().await;
            flag.store(true, Relaxed);
        });
        let running =
            Running { args, environment, folder: folder.clone(), limit: program.limit, most: program.most.0, stop };
        let keeps = name.is_some();
        let lent = self.hand.place.is_some().then(|| self.in_work(".in").map_err(ErrandError::from)).transpose()?;
        let done = self
            .made_in_work(name, (id, attempt), move |output| {
                let _ = fs::remove_dir_all(&folder);
                fs::create_dir(&folder).map_err(ErrandError::from)?;
                let printed = wetbank_errands::run(&allowed, &running, output);
                let _ = fs::remove_dir_all(&folder);
                if let Some(lent) = lent {
                    let _ = fs::remove_dir_all(lent);
                }
                let printed = printed?;
                let said = if keeps || printed.said.trim().is_empty() { printed.complained } else { printed.said };
                let said = said.trim();
                Ok(if said.is_empty() { format!("it printed {} bytes", printed.size) } else { said.to_owned() })
            })
            .await;
        watching.abort();
        done
    }

    /// The path on this machine of a file that is the one in hand whatever is put in its place meanwhile, under the name
    /// that it has.
    async fn local_file(&self) -> Effect<Option<PathBuf>> {
        use std::os::unix::ffi::OsStrExt;
        if !self.hand.has_file() {
            return Ok(None);
        }
        let source = self.source()?;
        if self.hand.place.is_none() {
            let below = std::ffi::OsStr::from_bytes(source.path.as_bytes());
            return Ok(Some(self.effects.work.folder.root().join(below)));
        }
        let folder = self.in_work(".in").map_err(ErrandError::from)?;
        let path = folder.join(std::ffi::OsStr::from_bytes(self.hand.name.name()));
        // A name of an earlier attempt may be left.
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir(&folder).map_err(ErrandError::from)?;
        if let Some(place) = source.place.as_folder()
            && place.lend(&source.path, &path).await?
        {
            return Ok(Some(path));
        }
        let mut reading = Reading::open(&source, self.moving(self.hand.fingerprint.size)).await?;
        let broken = reading.broken();
        let into = path.clone();
        let copied =
            tokio::task::spawn_blocking(move || std::io::copy(&mut reading, &mut create_private(&into)?)).await;
        broken.check()?;
        copied.map_err(FailureKind::fault)?.map_err(ErrandError::from)?;
        Ok(Some(path))
    }

    pub(super) async fn load(&self, load: &Load, attempt: &mut Attempt) -> Effect<StepDone> {
        let database = self.effects.database(&load.into).await?;
        let source = self.source()?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let reading = Reading::open(&source, self.moving(self.hand.fingerprint.size)).await?;
        let broken = reading.broken();
        let loading = Loading {
            table: load.table.clone(),
            columns: load.columns.clone(),
            separator: load.separator,
            numbers: load.numbers,
            twice: load.twice,
            missing_stay_empty: load.missing_stay_empty,
            encoding: load.encoding.clone(),
            leave_out: load.bad_rows == wetbank_core::BadRows::LeaveOut,
            replace: load.replace,
            key: self.key(),
        };
        let loaded = wetbank_errands::load(&database, loading, reading).await;
        broken.check()?;
        let loaded = loaded?;
        let mut note = match (loaded.before, loaded.rows) {
            (true, _) => "it was loaded before the service was stopped".to_owned(),
            (false, 1) => format!("1 row into {}", load.table),
            (false, rows) => format!("{rows} rows into {}", load.table),
        };
        if loaded.left_out > 0 {
            note.push_str(&format!("; {} left out: {}", loaded.left_out, loaded.named.join("; ")));
        }
        Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(self.hand, &note) })
    }

    pub(super) async fn extract(&self, extract: &Extract, attempt: &mut Attempt) -> Effect<StepDone> {
        let database = self.effects.database(&extract.from).await?;
        let values = extract.values.iter().map(|(key, value)| Ok((key.clone(), self.with_facts(|f| value.render(f))?)));
        let values = values.collect::<Effect<Vec<_>>>()?;
        let name = self.with_facts(|facts| extract.name.render_name(&RelPath::root(), facts))?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let extracting = Extracting { asked: extract.asked.clone(), values, separator: extract.separator };
        let handle = Handle::current();
        self.made_in_work(Some(name), (id, attempt), move |output| {
            let rows = handle.block_on(wetbank_errands::extract(&database, extracting, output))?;
            Ok(if rows == 1 { "1 row".to_owned() } else { format!("{rows} rows") })
        })
        .await
    }

    /// Has a file made in the work folder, where what is not whole is worth nothing. Without a name
    /// nothing of it is kept but what is said about it.
    async fn made_in_work(
        &self,
        name: Option<RelPath>,
        (id, attempt): (i64, &mut Attempt),
        make: impl FnOnce(&mut (dyn Write + Send)) -> Effect<String> + Send + 'static,
    ) -> Effect<StepDone> {
        let part = self.in_work(".part").map_err(ErrandError::from)?;
        let last = self.in_work("").map_err(ErrandError::from)?;
        let keeps = name.is_some();
        let made = tokio::task::spawn_blocking(move || {
            if !keeps {
                return make(&mut std::io::sink()).map(|note| (note, None));
            }
            let mut making = Making::begin(part, last, false).map_err(ErrandError::from)?;
            let note = make(&mut making)?;
            Ok::<_, FailureKind>((note, Some(making.finish().map_err(ErrandError::from)?)))
        });
        let (note, made) = made.await.map_err(FailureKind::fault)??;
        let (Some(name), Some(made)) = (name, made) else {
            return Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(self.hand, &note) });
        };
        self.made((id, attempt), name, made, Some(note)).await
    }
}
