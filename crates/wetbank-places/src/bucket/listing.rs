//! Listing a bucket page by page.

use std::collections::VecDeque;

use futures_util::{StreamExt, stream};
use rusty_s3::actions::ListObjectsV2Response;
use wetbank_core::{Fingerprint, RelPath};

use super::{
    Bucket,
    calls::{tag, whole_seconds},
};
use crate::{
    Depth, Entry, EntryKind, EntryStream, PlaceErrorKind, fingerprint_of,
    place::{Result, misnamed, owner_shown},
};

/// Keys of one page, the most that the protocol gives.
const PAGE: usize = 1000;

/// A folder as an entry: it has neither size nor time.
pub(super) fn folder(path: RelPath) -> Entry {
    Entry { path, kind: EntryKind::Folder, fingerprint: fingerprint_of(0, 0, None), owner: None }
}

struct Walk {
    bucket: Bucket,
    folder: RelPath,
    prefix: String,
    depth: Depth,
    ready: VecDeque<Entry>,
    /// Where the next page begins; nothing once all are read.
    next: Option<Option<String>>,
    /// The folders that the last key lay in: keys come in order, so those of one folder come
    /// together.
    above: Vec<String>,
}

pub(super) fn list(bucket: Bucket, folder: RelPath, depth: Depth) -> EntryStream {
    let start = async move {
        let prefix = bucket.prefix("list", &folder)?;
        Ok(Walk { bucket, folder, prefix, depth, ready: VecDeque::new(), next: Some(None), above: Vec::new() })
    };
    stream::once(start)
        .map(|walk| match walk {
            Ok(walk) => stream::try_unfold(walk, |mut walk| async move {
                loop {
                    if let Some(entry) = walk.ready.pop_front() {
                        return Ok(Some((entry, walk)));
                    }
                    if !walk.turn_page().await? {
                        return Ok(None);
                    }
                }
            })
            .boxed(),
            Err(error) => stream::iter([Err(error)]).boxed(),
        })
        .flatten()
        .boxed()
}

impl Walk {
    /// Reads the next page, if there is one.
    async fn turn_page(&mut self) -> Result<bool> {
        let Some(from) = self.next.take() else { return Ok(false) };
        let delimiter = (self.depth == Depth::One).then_some("/");
        let page = self.bucket.page("list", &self.folder, "", delimiter, from.as_deref(), PAGE).await?;
        if from.is_some() && page.next_continuation_token == from {
            let detail = "its listing turns in a circle: a page names itself as the next";
            return Err(self.bucket.error(PlaceErrorKind::Other, "list", &self.folder, detail));
        }
        self.next = page.next_continuation_token.clone().map(Some);
        self.read(page);
        Ok(true)
    }

    /// Takes in what can be a path below the folder. Anything else the store may hold, but no
    /// folder tree does.
    fn read(&mut self, page: ListObjectsV2Response) {
        for found in page.common_prefixes {
            let name = found.prefix.strip_prefix(&self.prefix).and_then(|rest| rest.strip_suffix('/'));
            let Some(name) = name else { continue };
            match self.folder.join_name(name.as_bytes()) {
                Ok(path) => self.ready.push_back(folder(path)),
                Err(_) => self.ready.extend(misnamed(&self.folder, format!("{name}/").as_bytes())),
            }
        }
        for object in page.contents {
            let Some(below) = object.key.strip_prefix(&self.prefix) else { continue };
            let mut parts: Vec<&str> = below.split('/').collect();
            let name = parts.pop().unwrap_or_default();
            if self.depth == Depth::One && !parts.is_empty() {
                continue;
            }
            // A key that ends in a slash stands for a folder.
            if name.is_empty() {
                self.folders(&parts);
                continue;
            }
            let path = self.folders(&parts).and_then(|above| above.join_name(name.as_bytes()).ok());
            let Some(path) = path else {
                self.ready.extend(misnamed(&self.folder, below.as_bytes()));
                continue;
            };
            let modified = object.last_modified.as_deref().and_then(|text| text.parse().ok());
            let fingerprint = Fingerprint {
                size: object.size.unwrap_or(0),
                modified: whole_seconds(modified),
                inode: None,
                tag: object.etag.as_deref().map(tag),
            };
            let owner = object.owner.and_then(|owner| owner_shown(owner.display_name?.as_bytes()));
            self.ready.push_back(Entry { path, kind: EntryKind::File, fingerprint, owner });
        }
    }

    /// The folder that these parts lead to, if they are one; those that the last key did not lie in are told.
    fn folders(&mut self, parts: &[&str]) -> Option<RelPath> {
        let mut at = self.folder.clone();
        let mut is_new = false;
        let mut told = Vec::new();
        for (depth, part) in parts.iter().enumerate() {
            at = at.join_name(part.as_bytes()).ok()?;
            is_new |= self.above.get(depth).is_none_or(|known| known != part);
            if is_new {
                told.push(folder(at.clone()));
            }
        }
        self.ready.extend(told);
        self.above = parts.iter().map(|&part| part.to_owned()).collect();
        Some(at)
    }
}
