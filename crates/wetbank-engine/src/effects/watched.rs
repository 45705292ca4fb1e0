//! The output of work that may take long, or bring more than anybody wants.

use std::io::{self, Write};

use tokio_util::sync::CancellationToken;
use wetbank_archive::{ArchiveError, Meter};

/// What work writes through: it breaks off when it is to stop, or when it is too much.
pub(super) struct Watched<'a> {
    inner: &'a mut dyn Write,
    stop: CancellationToken,
    meter: Option<Meter>,
    /// Why it was too much.
    pub over: Option<ArchiveError>,
}

impl<'a> Watched<'a> {
    pub fn new(inner: &'a mut dyn Write, stop: CancellationToken, meter: Option<Meter>) -> Self {
        Self { inner, stop, meter, over: None }
    }
}

impl Write for Watched<'_> {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        if self.stop.is_cancelled() {
            return Err(io::Error::other("it is to stop"));
        }
        let written = self.inner.write(buffer)?;
        if let Some(error) = self.meter.as_mut().and_then(|meter| meter.bytes(written).err()) {
            self.over = Some(error);
            return Err(io::Error::other("it is too much"));
        }
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}
