//! A file on its way to an FTP server.

use std::{io, time::Duration};

use async_trait::async_trait;
use bytes::Bytes;
use suppaftp::FtpError;
use wetbank_core::RelPath;

use super::{
    Ftp, Transfer, answered,
    connection::{Command, Lease, unless_refused},
    write_chunk,
};
use crate::{Entry, EntryKind, Place, PlaceError, PlaceErrorKind, Staged, place::Result};

pub(super) struct Upload {
    place: Ftp,
    path: RelPath,
    /// Nothing once it broke.
    transfer: Option<Transfer>,
    lease: Lease,
    at: u64,
}

impl Upload {
    async fn must_be_folder(place: &Ftp, path: &RelPath, parent: &RelPath) -> Result<()> {
        if place.look("write", parent).await?.kind != EntryKind::Folder {
            return Err(place.fail(PlaceErrorKind::NotFound, "write", path, "its folder is no folder"));
        }
        place.folders.seen(parent);
        Ok(())
    }

    pub async fn start(place: &Ftp, path: &RelPath, resume: Option<u64>) -> Result<Self> {
        let parent = path.parent();
        let is_known = parent.is_root() || place.folders.has(&parent);
        if !is_known {
            Self::must_be_folder(place, path, &parent).await?;
        }
        let full = place.full("write", path)?;
        let at = resume.unwrap_or(0);
        let mut lease = place.pool.lease().await?;
        let connection = lease.get();
        if at == 0 {
            // Not every server lets a file be overwritten, and a link must not be followed.
            let gone = unless_refused(answered(connection.silence, connection.stream.rm(&full)).await);
            gone.map_err(|e| place.pool.error("write", path, &e))?;
        }
        let transfer = match connection.transfer(&Command::Write { path: full, from: at }).await {
            Ok(transfer) => transfer,
            Err(error) => {
                if matches!(error, FtpError::UnexpectedResponse(_)) && is_known && !parent.is_root() {
                    lease.give_back();
                    place.folders.forget(&parent);
                    Self::must_be_folder(place, path, &parent).await?;
                }
                return Err(place.pool.error("write", path, &error));
            }
        };
        Ok(Self { place: place.clone(), path: path.clone(), transfer: Some(transfer), lease, at })
    }
}

/// For so long a server that closed the data connection may take to say why.
const LAST_WORD: Duration = Duration::from_secs(5);

impl Upload {
    /// Why the data connection broke: by the server's own word if it has one to say (a full disk,
    /// an allowance that is used up), else what the connection told.
    async fn broken(&mut self, told: io::Error) -> PlaceError {
        let was_closed = matches!(told.kind(), io::ErrorKind::BrokenPipe | io::ErrorKind::ConnectionReset);
        let mut word = FtpError::ConnectionError(told);
        if let Some(transfer) = self.transfer.take_if(|_| was_closed) {
            let silence = self.place.pool.spec().silence.min(LAST_WORD);
            // Its word is already on the way; what it says to being interrupted comes after it.
            let answer = answered(silence, self.lease.get().stream.abort(transfer)).await;
            if let Err(FtpError::UnexpectedResponse(answer)) = answer
                && answer.status.code() >= 400
            {
                word = FtpError::UnexpectedResponse(answer);
            }
        }
        self.place.pool.error("write", &self.path, &word)
    }
}

#[async_trait]
impl Staged for Upload {
    async fn write(&mut self, chunk: Bytes) -> Result<()> {
        let silence = self.place.pool.spec().silence;
        let written = match &mut self.transfer {
            Some(transfer) => write_chunk(silence, transfer, &chunk).await,
            None => Err(io::ErrorKind::NotConnected.into()),
        };
        if let Err(error) = written {
            return Err(self.broken(error).await);
        }
        self.at += chunk.len() as u64;
        Ok(())
    }

    async fn finish(mut self: Box<Self>) -> Result<Entry> {
        let broken = self.transfer.as_ref().and_then(|transfer| transfer.get_ref().get_ref().take_error().transpose());
        if let Some(error) = broken {
            return Err(self.broken(error.unwrap_or_else(|error| error)).await);
        }
        let Self { place, path, transfer, lease, at } = *self;
        // Only the server's last word tells whether all of it is stored.
        match transfer {
            Some(transfer) => answered(place.pool.spec().silence, transfer.finish()).await,
            None => Err(FtpError::ConnectionError(io::ErrorKind::NotConnected.into())),
        }
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
