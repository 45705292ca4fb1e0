//! A plan on its way: its lines lie in a file of ours, because a first meeting of two large folders has millions.

use std::{
    path::{Path, PathBuf},
    sync::atomic::{AtomicU64, Ordering::Relaxed},
};

use tokio::{
    fs::File,
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader, BufWriter, Lines},
};
use wetbank_core::{Name, twin::Line};

use crate::EngineError;

/// A plan that is written.
#[derive(Debug)]
pub(crate) struct Spool {
    path: PathBuf,
    file: BufWriter<File>,
    pub lines: usize,
}

fn failed(path: &Path) -> impl FnOnce(std::io::Error) -> EngineError {
    let path = path.to_owned();
    move |cause| EngineError::Data { path, cause }
}

impl Spool {
    /// A new plan of a twin, in a file of its own in this folder.
    pub async fn new(folder: &Path, twin: &Name) -> Result<Self, EngineError> {
        static PLANS: AtomicU64 = AtomicU64::new(0);
        let path = folder.join(format!("twin-{twin}-{}.plan", PLANS.fetch_add(1, Relaxed)));
        let file = File::create(&path).await.map_err(failed(&path))?;
        Ok(Self { path, file: BufWriter::new(file), lines: 0 })
    }

    /// Adds a line.
    pub async fn add(&mut self, line: &Line) -> Result<(), EngineError> {
        let mut text = serde_json::to_vec(line).expect("plain values serialise");
        text.push(b'\n');
        self.file.write_all(&text).await.map_err(failed(&self.path))?;
        self.lines += 1;
        Ok(())
    }

    /// Everything is written: it can be read as often as one likes.
    pub async fn finish(mut self) -> Result<Plan, EngineError> {
        self.file.flush().await.map_err(failed(&self.path))?;
        Ok(Plan { path: self.path })
    }
}

/// A plan that can be read. Its file goes with it.
#[derive(Debug)]
pub(crate) struct Plan {
    path: PathBuf,
}

impl Plan {
    /// Reads it from its beginning.
    pub async fn read(&self) -> Result<Reader, EngineError> {
        let file = File::open(&self.path).await.map_err(failed(&self.path))?;
        Ok(Reader { path: self.path.clone(), lines: BufReader::new(file).lines() })
    }
}

impl Drop for Plan {
    fn drop(&mut self) {
        // One that stays is removed at the next start.
        let _ = std::fs::remove_file(&self.path);
    }
}

/// Lines of a plan, one after the other.
#[derive(Debug)]
pub(crate) struct Reader {
    path: PathBuf,
    lines: Lines<BufReader<File>>,
}

impl Reader {
    /// The next line.
    pub async fn next(&mut self) -> Result<Option<Line>, EngineError> {
        let Some(text) = self.lines.next_line().await.map_err(failed(&self.path))? else { return Ok(None) };
        let line = serde_json::from_str(&text);
        line.map(Some).map_err(|error| EngineError::Broken(format!("a plan cannot be read: {error}")))
    }
}
