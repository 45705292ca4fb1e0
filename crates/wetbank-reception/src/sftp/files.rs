//! What an account sees, over SFTP.

use bytes::Bytes;
use wetbank_core::RelPath;
use wetbank_sftp::{Answer, Attributes, Files, Name, OpenFile, OpenFolder, Opening, Room, Status, StatusCode};

use crate::{Collecting, Listing, Refusal, Seen, Uploading, View};

const FOLDER: u32 = 0o040_000;
const FILE: u32 = 0o100_000;

impl From<Refusal> for Status {
    fn from(refusal: Refusal) -> Self {
        // Version 3 has no other codes; the words tell the rest (draft-ietf-secsh-filexfer-02, section 7).
        let code = match refusal {
            Refusal::NotFound | Refusal::BadName => StatusCode::NoSuchFile,
            Refusal::Denied(_) => StatusCode::PermissionDenied,
            _ => StatusCode::Failure,
        };
        Self::new(code, refusal.to_string())
    }
}

/// A path as a client sends it. What climbs above the root is the root.
fn path(bytes: &[u8]) -> Answer<RelPath> {
    let mut parts: Vec<&[u8]> = Vec::new();
    for part in bytes.split(|byte| *byte == b'/') {
        match part {
            b"" | b"." => {}
            b".." => _ = parts.pop(),
            part => parts.push(part),
        }
    }
    let joined = parts.join(&b'/');
    RelPath::from_bytes(&joined).map_err(|_| Refusal::BadName.into())
}

fn attributes(seen: &Seen) -> Attributes {
    let (kind, reads) = if seen.is_folder { (FOLDER, 0o555) } else { (FILE, 0o444) };
    let writes = if seen.may_write { 0o200 } else { 0 };
    let seconds = u32::try_from(seen.modified.as_second()).unwrap_or(0);
    Attributes { size: Some(seen.size), permissions: Some(kind | reads | writes), times: Some((seconds, seconds)) }
}

/// What a guest sees, as SFTP asks for it.
#[derive(Debug)]
pub(super) struct SeenFiles(pub View);

/// A file that a guest has open.
#[derive(Debug)]
pub(super) enum SeenFile {
    /// It is read.
    Out(Box<Collecting>),
    /// It is handed in.
    In(Box<Uploading>),
}

fn regular(size: u64, modified: i64) -> Attributes {
    let seconds = u32::try_from(modified).unwrap_or(0);
    Attributes { size: Some(size), permissions: Some(FILE | 0o644), times: Some((seconds, seconds)) }
}

impl OpenFile for SeenFile {
    async fn read(&self, offset: u64, length: u32) -> Answer<Bytes> {
        Ok(match self {
            Self::Out(file) => file.read(offset, length as usize).await?,
            Self::In(file) => file.read(offset, length as usize).await?,
        })
    }

    async fn write(&self, offset: u64, data: Bytes) -> Answer<()> {
        match self {
            Self::In(file) => Ok(file.write(offset, data).await?),
            Self::Out(_) => Err(Refusal::Denied("this file is open to be read only").into()),
        }
    }

    async fn attributes(&self) -> Answer<Attributes> {
        Ok(match self {
            Self::Out(file) => regular(file.state().size, file.state().modified_at().as_second()),
            Self::In(file) => {
                let state = file.entry().await?.fingerprint;
                regular(state.size, state.modified_at().as_second())
            }
        })
    }

    async fn set_attributes(&self, wanted: Attributes) -> Answer<()> {
        // Modes and owners are ours to say.
        let Self::In(file) = self else { return Ok(()) };
        if let Some(length) = wanted.size {
            file.set_length(length).await?;
        }
        if let Some((_, modified)) = wanted.times {
            file.set_modified(modified.into()).await?;
        }
        Ok(())
    }

    async fn sync(&self) -> Answer<()> {
        // It is on disk before it is told that it arrived.
        Ok(())
    }

    async fn close(&self) -> Answer<()> {
        match self {
            Self::Out(file) => file.close().await?,
            Self::In(file) => drop(file.finish().await?),
        }
        Ok(())
    }
}

/// A folder that a guest has open.
#[derive(Debug)]
pub(super) struct SeenFolder {
    listing: Listing,
    /// `.` and `..`, until they are told.
    own: Vec<&'static [u8]>,
}

impl OpenFolder for SeenFolder {
    async fn next(&mut self, most: usize) -> Answer<Vec<Name>> {
        let own = self.own.drain(..).map(|name| Name {
            name: Bytes::from_static(name),
            long_form: Bytes::new(),
            attributes: Attributes { permissions: Some(FOLDER | 0o555), ..Attributes::default() },
        });
        let mut names: Vec<Name> = own.collect();
        let more = self.listing.next(most.saturating_sub(names.len())).await?;
        names.extend(more.into_iter().map(|seen| Name {
            name: Bytes::copy_from_slice(seen.path.name()),
            long_form: Bytes::new(),
            attributes: attributes(&seen),
        }));
        Ok(names)
    }
}

impl Files for SeenFiles {
    type File = SeenFile;
    type Folder = SeenFolder;

    async fn open(&self, name: &[u8], how: Opening) -> Answer<SeenFile> {
        let path = path(name)?;
        if !how.write {
            return Ok(SeenFile::Out(Box::new(self.0.collect(&path).await?)));
        }
        let keeps = !how.truncate;
        if !how.create && self.0.stat(&path).await?.is_folder {
            return Err(Refusal::Unfit("this is a folder").into());
        }
        let file = self.0.hand_in(&path, keeps, how.create && how.exclusive).await?;
        Ok(SeenFile::In(Box::new(file)))
    }

    async fn folder(&self, name: &[u8]) -> Answer<SeenFolder> {
        let listing = self.0.list(&path(name)?).await?;
        Ok(SeenFolder { listing, own: vec![b".", b".."] })
    }

    async fn attributes(&self, name: &[u8], _follow: bool) -> Answer<Attributes> {
        Ok(attributes(&self.0.stat(&path(name)?).await?))
    }

    async fn set_attributes(&self, name: &[u8], _wanted: Attributes) -> Answer<()> {
        // What lies there is not changed any more; clients ask for it after every file and folder.
        self.0.stat(&path(name)?).await?;
        Ok(())
    }

    async fn remove(&self, name: &[u8]) -> Answer<()> {
        Ok(self.0.remove(&path(name)?).await?)
    }

    async fn make_directory(&self, name: &[u8]) -> Answer<()> {
        Ok(self.0.make_folder(&path(name)?).await?)
    }

    async fn remove_directory(&self, name: &[u8]) -> Answer<()> {
        Ok(self.0.remove_folder(&path(name)?).await?)
    }

    async fn rename(&self, from: &[u8], to: &[u8], replace: bool) -> Answer<()> {
        Ok(self.0.rename(&path(from)?, &path(to)?, replace).await?)
    }

    async fn real_path(&self, name: &[u8]) -> Answer<Bytes> {
        let path = path(name)?;
        Ok([b"/", path.as_bytes()].concat().into())
    }

    async fn room(&self, _path: &[u8]) -> Answer<Room> {
        match self.0.room().await? {
            Some((bytes, free)) => Ok(Room { bytes, free }),
            None => Err(Status::new(StatusCode::Unsupported, "your room is not bounded")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_climbs_ends_at_the_root() {
        for (sent, is) in
            [("/", ""), ("", ""), ("a/../../../etc/passwd", "etc/passwd"), ("/in/./x//y", "in/x/y"), ("../..", "")]
        {
            assert_eq!(path(sent.as_bytes()).unwrap().as_bytes(), is.as_bytes(), "{sent}");
        }
        assert!(path(b"in/a\0b").is_err());
        assert!(path(&[b'x'; 5_000]).is_err(), "no name is so long");
    }
}
