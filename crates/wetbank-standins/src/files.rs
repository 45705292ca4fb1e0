//! A folder of this machine, served over SFTP.

use std::{
    fs::{self, File, Metadata, OpenOptions},
    io,
    os::unix::{
        ffi::{OsStrExt, OsStringExt},
        fs::{FileExt, MetadataExt},
    },
    path::{Component, Path, PathBuf},
    sync::Arc,
};

use bytes::Bytes;
use tokio::task::spawn_blocking;
use wetbank_sftp::{Attributes, Files, Listed, Name, OpenFile, Opening, Status};

use crate::guests::passes_link;

/// A folder, of which clients see the inside only.
#[derive(Debug, Clone)]
pub(crate) struct FolderFiles {
    root: PathBuf,
}

pub(crate) struct ServedFile(Arc<File>);

async fn blocking<T: Send + 'static>(call: impl FnOnce() -> io::Result<T> + Send + 'static) -> Result<T, Status> {
    match spawn_blocking(call).await {
        Ok(result) => result.map_err(Status::from),
        Err(error) => Err(io::Error::other(error.to_string()).into()),
    }
}

fn attributes(metadata: &Metadata) -> Attributes {
    let seconds = |time: i64| u32::try_from(time).unwrap_or(0);
    Attributes {
        size: Some(metadata.len()),
        permissions: Some(metadata.mode()),
        times: Some((seconds(metadata.atime()), seconds(metadata.mtime()))),
    }
}

impl FolderFiles {
    pub fn new(root: PathBuf) -> Self {
        Self { root }
    }

    /// A client's path as one of ours. What climbs is cut off at the root.
    fn real(&self, path: &[u8]) -> PathBuf {
        let mut real = self.root.clone();
        let mut depth = 0;
        for part in Path::new(std::ffi::OsStr::from_bytes(path)).components() {
            match part {
                Component::Normal(name) => {
                    real.push(name);
                    depth += 1;
                }
                Component::ParentDir if depth > 0 => {
                    real.pop();
                    depth -= 1;
                }
                _ => {}
            }
        }
        real
    }

    /// Does something at a path that passes no link.
    async fn at<T: Send + 'static>(
        &self,
        path: &[u8],
        call: impl FnOnce(PathBuf) -> io::Result<T> + Send + 'static,
    ) -> Result<T, Status> {
        let (root, path) = (self.root.clone(), self.real(path));
        blocking(move || match passes_link(&root, &path) {
            true => Err(io::ErrorKind::PermissionDenied.into()),
            false => call(path),
        })
        .await
    }
}

impl OpenFile for ServedFile {
    async fn read(&self, offset: u64, length: u32) -> Result<Bytes, Status> {
        let file = self.0.clone();
        blocking(move || {
            let mut buffer = vec![0; length as usize];
            let read = file.read_at(&mut buffer, offset)?;
            buffer.truncate(read);
            Ok(buffer.into())
        })
        .await
    }

    async fn write(&self, offset: u64, data: Bytes) -> Result<(), Status> {
        let file = self.0.clone();
        blocking(move || file.write_all_at(&data, offset)).await
    }

    async fn attributes(&self) -> Result<Attributes, Status> {
        let file = self.0.clone();
        blocking(move || Ok(attributes(&file.metadata()?))).await
    }

    async fn set_attributes(&self, wanted: Attributes) -> Result<(), Status> {
        let file = self.0.clone();
        blocking(move || wanted.size.map_or(Ok(()), |length| file.set_len(length))).await
    }

    async fn sync(&self) -> Result<(), Status> {
        let file = self.0.clone();
        blocking(move || file.sync_all()).await
    }
}

impl Files for FolderFiles {
    type File = ServedFile;
    type Folder = Listed;

    async fn open(&self, path: &[u8], how: Opening) -> Result<ServedFile, Status> {
        let Opening { write, create, truncate, exclusive, .. } = how;
        self.at(path, move |path| {
            let mut options = OpenOptions::new();
            options.read(!write).write(write).truncate(truncate && write);
            options.create(create && write && !exclusive).create_new(create && write && exclusive);
            Ok(ServedFile(Arc::new(options.open(path)?)))
        })
        .await
    }

    async fn folder(&self, path: &[u8]) -> Result<Listed, Status> {
        let names = self.at(path, |path| {
            let named = |entry: io::Result<fs::DirEntry>| {
                let entry = entry?;
                let attributes = attributes(&entry.metadata()?);
                Ok(Name { name: entry.file_name().into_vec().into(), long_form: Bytes::new(), attributes })
            };
            fs::read_dir(path)?.map(named).collect::<io::Result<Vec<Name>>>()
        });
        Ok(names.await?.into())
    }

    async fn attributes(&self, path: &[u8], follow: bool) -> Result<Attributes, Status> {
        if follow {
            return self.at(path, |path| fs::metadata(path).map(|told| attributes(&told))).await;
        }
        // A link is told as a link.
        let (root, path) = (self.root.clone(), self.real(path));
        blocking(move || match path.parent().is_some_and(|parent| passes_link(&root, parent)) {
            true => Err(io::ErrorKind::PermissionDenied.into()),
            false => fs::symlink_metadata(path).map(|told| attributes(&told)),
        })
        .await
    }

    async fn remove(&self, path: &[u8]) -> Result<(), Status> {
        self.at(path, fs::remove_file).await
    }

    async fn make_directory(&self, path: &[u8]) -> Result<(), Status> {
        self.at(path, fs::create_dir).await
    }

    async fn remove_directory(&self, path: &[u8]) -> Result<(), Status> {
        self.at(path, fs::remove_dir).await
    }

    async fn rename(&self, from: &[u8], to: &[u8], replace: bool) -> Result<(), Status> {
        let (root, to) = (self.root.clone(), self.real(to));
        self.at(from, move |from| {
            if passes_link(&root, &to) {
                return Err(io::ErrorKind::PermissionDenied.into());
            }
            if replace {
                return fs::rename(from, to);
            }
            // A hard link refuses a taken name in one step, as a rename does not.
            fs::hard_link(&from, to)?;
            fs::remove_file(from)
        })
        .await
    }

    async fn real_path(&self, path: &[u8]) -> Result<Bytes, Status> {
        let real = self.real(path);
        let inside = real.strip_prefix(&self.root).unwrap_or(Path::new(""));
        Ok(Path::new("/").join(inside).into_os_string().into_vec().into())
    }
}
