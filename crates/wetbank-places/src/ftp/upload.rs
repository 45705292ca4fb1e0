//! A file on its way to an FTP server.

use async_trait::async_trait;
use bytes::Bytes;
use suppaftp::FtpError;
use wetbank_core::RelPath;

use super::{Ftp, Transfer, answered, connection::Lease, write_chunk};
use crate::{Entry, EntryKind, Place, PlaceErrorKind, Staged, place::Result};

pub(super) struct Upload {
    place: Ftp,
    path: RelPath,
    transfer: Transfer,
    lease: Lease,
    at: u64,
}

impl Upload {
    pub async fn start(place: &Ftp, path: &RelPath, resume: Option<u64>) -> Result<Self> {
        let parent = path.parent();
        if !parent.is_root() && place.look("write", &parent).await?.kind != EntryKind::Folder {
            return Err(place.fail(PlaceErrorKind::NotFound, "write", path, "its folder is no folder"));
        }
        let full = place.full("write", path)?;
        let at = resume.unwrap_or(0);
        if at == 0 {
            // Not every server lets a file be overwritten, and a link must not be followed.
            match place.delete(path).await {
                Err(error) if error.kind != PlaceErrorKind::NotFound => return Err(error),
                _ => {}
            }
        }
        let mut lease = place.pool.lease().await?;
        let failed = |e: FtpError| place.pool.error("write", path, &e);
        let silence = place.pool.spec().silence;
        let stream = &mut lease.get().stream;
        answered(silence, stream.resume_transfer(usize::try_from(at).unwrap_or(usize::MAX))).await.map_err(failed)?;
        let transfer = answered(silence, stream.put_with_stream(&full)).await.map_err(failed)?;
        Ok(Self { place: place.clone(), path: path.clone(), transfer, lease, at })
    }
}

#[async_trait]
impl Staged for Upload {
    async fn write(&mut self, chunk: Bytes) -> Result<()> {
        write_chunk(self.place.pool.spec().silence, &mut self.transfer, &chunk)
            .await
            .map_err(|e| self.place.pool.error("write", &self.path, &FtpError::ConnectionError(e)))?;
        self.at += chunk.len() as u64;
        Ok(())
    }

    async fn finish(self: Box<Self>) -> Result<Entry> {
        let Self { place, path, transfer, lease, at } = *self;
        // Only the server's last word tells whether all of it is stored.
        answered(place.pool.spec().silence, transfer.finish())
            .await
            .map_err(|e| place.pool.error("write", &path, &e))?;
        lease.give_back();
        let entry = place.stat(&path).await?;
        if entry.fingerprint.size != at {
            let detail = format!("{} of {at} bytes are there", entry.fingerprint.size);
            return Err(place.fail(PlaceErrorKind::Interrupted, "write", &path, detail));
        }
        Ok(entry)
    }
}
