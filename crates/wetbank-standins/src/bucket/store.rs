//! Objects, and uploads that are not yet one.

use std::{
    collections::{BTreeMap, HashMap},
    ops::Bound,
    sync::Arc,
};

use axum::http::StatusCode;
use bytes::Bytes;
use jiff::Timestamp;
use parking_lot::{Mutex, MutexGuard};

use super::answers::Refusal;

/// All but the last part of an upload have at least so many bytes, as the protocol says.
const LEAST_PART: usize = 5 << 20;

#[derive(Debug, Clone)]
pub(super) struct Object {
    pub content: Vec<Bytes>,
    pub tag: String,
    pub modified: Timestamp,
    pub headers: BTreeMap<String, String>,
}

impl Object {
    pub fn new(content: Vec<Bytes>, headers: BTreeMap<String, String>) -> Self {
        let tag = tag_of(&content);
        Self { content, tag, modified: Timestamp::now(), headers }
    }

    pub fn size(&self) -> u64 {
        self.content.iter().map(|part| part.len() as u64).sum()
    }

    /// So many bytes behind an offset; nothing is copied.
    pub fn part(&self, offset: u64, length: u64) -> Vec<Bytes> {
        let bounded = |number| usize::try_from(number).unwrap_or(usize::MAX);
        let (mut skip, mut left) = (bounded(offset), bounded(length));
        let mut part = Vec::with_capacity(self.content.len());
        for piece in &self.content {
            let from = skip.min(piece.len());
            let to = from.saturating_add(left).min(piece.len());
            part.push(piece.slice(from..to));
            skip -= from;
            left -= to - from;
        }
        part
    }
}

fn tag_of(content: &[Bytes]) -> String {
    let mut hasher = blake3::Hasher::new();
    for part in content {
        hasher.update(part);
    }
    hasher.finalize().to_hex()[..32].to_owned()
}

/// One page of a listing.
#[derive(Debug, Default)]
pub(super) struct Page {
    pub objects: Vec<(String, Arc<Object>)>,
    pub folders: Vec<String>,
    pub next: Option<String>,
}

#[derive(Debug)]
struct Upload {
    key: String,
    begun: Timestamp,
    headers: BTreeMap<String, String>,
    parts: BTreeMap<u16, Bytes>,
}

#[derive(Debug, Default)]
struct Held {
    objects: BTreeMap<String, Arc<Object>>,
    uploads: HashMap<String, Upload>,
    begun: u64,
}

#[derive(Debug, Default)]
pub(super) struct Store(Mutex<Held>);

fn no_upload() -> Refusal {
    Refusal::new(StatusCode::NOT_FOUND, "NoSuchUpload")
}

impl Store {
    fn held(&self) -> MutexGuard<'_, Held> {
        self.0.lock()
    }

    pub fn get(&self, key: &str) -> Option<Object> {
        self.held().objects.get(key).map(|object| (**object).clone())
    }

    pub fn put(&self, key: &str, object: Object) -> String {
        let tag = object.tag.clone();
        self.held().objects.insert(key.to_owned(), Arc::new(object));
        tag
    }

    /// Removes an object, there or not; with a tag, only if that is its tag.
    pub fn delete(&self, key: &str, tag: Option<&str>) -> Result<(), Refusal> {
        let mut held = self.held();
        let other = |object: &Arc<Object>| tag.is_some_and(|tag| tag.trim_matches('"') != object.tag);
        if held.objects.get(key).is_some_and(other) {
            return Err(Refusal::new(StatusCode::PRECONDITION_FAILED, "PreconditionFailed"));
        }
        held.objects.remove(key);
        Ok(())
    }

    pub fn keys(&self) -> Vec<String> {
        self.held().objects.keys().cloned().collect()
    }

    pub fn open_uploads(&self) -> usize {
        self.held().uploads.len()
    }

    /// Id, key and begin of every open upload whose key begins with a prefix.
    pub fn uploads(&self, prefix: &str) -> Vec<(String, String, Timestamp)> {
        let held = self.held();
        let found = held.uploads.iter().filter(|(_, upload)| upload.key.starts_with(prefix));
        found.map(|(id, upload)| (id.clone(), upload.key.clone(), upload.begun)).collect()
    }

    /// The keys that begin with a prefix, those with a delimiter behind it as one, after the key
    /// that the token names.
    pub fn page(&self, prefix: &str, delimiter: Option<&str>, token: Option<&str>, most: usize) -> Page {
        let held = self.held();
        let mut page = Page::default();
        let mut from = match token {
            Some(token) => Bound::Excluded(token.to_owned()),
            None => Bound::Included(prefix.to_owned()),
        };
        loop {
            let next = held.objects.range((from.clone(), Bound::Unbounded)).next();
            let Some((key, object)) = next.filter(|(key, _)| key.starts_with(prefix)) else { return page };
            if page.objects.len() + page.folders.len() == most {
                // The token is the last key told, or all that the last folder could hold.
                page.next = match from {
                    Bound::Excluded(key) | Bound::Included(key) => Some(key),
                    Bound::Unbounded => None,
                };
                return page;
            }
            let folder = delimiter.and_then(|end| {
                let rest = &key[prefix.len()..];
                rest.find(end).map(|at| key[..prefix.len() + at + end.len()].to_owned())
            });
            match folder {
                Some(folder) => {
                    from = Bound::Excluded(format!("{folder}\u{10ffff}"));
                    page.folders.push(folder);
                }
                None => {
                    from = Bound::Excluded(key.clone());
                    page.objects.push((key.clone(), object.clone()));
                }
            }
        }
    }

    pub fn begin(&self, key: &str, headers: BTreeMap<String, String>) -> String {
        let mut held = self.held();
        held.begun += 1;
        let id = format!("upload-{}", held.begun);
        held.uploads.insert(
            id.clone(),
            Upload { key: key.to_owned(), begun: Timestamp::now(), headers, parts: BTreeMap::new() },
        );
        id
    }

    pub fn part(&self, upload: &str, number: u16, content: Bytes) -> Result<String, Refusal> {
        let tag = tag_of(std::slice::from_ref(&content));
        let mut held = self.held();
        held.uploads.get_mut(upload).ok_or_else(no_upload)?.parts.insert(number, content);
        Ok(tag)
    }

    pub fn abort(&self, upload: &str) -> Result<(), Refusal> {
        self.held().uploads.remove(upload).map(drop).ok_or_else(no_upload)
    }

    /// Joins the parts that the text names, in their order.
    pub fn join(&self, key: &str, upload: &str, text: &str) -> Result<String, Refusal> {
        let refuse = |code| Refusal::new(StatusCode::BAD_REQUEST, code);
        let mut held = self.held();
        let known = held.uploads.get(upload).filter(|known| known.key == key).ok_or_else(no_upload)?;
        let mut content = Vec::new();
        for named in text.split("<Part>").skip(1) {
            let number = named.split_once("<PartNumber>").and_then(|(_, rest)| rest.split('<').next()?.parse().ok());
            let part = number.and_then(|number: u16| known.parts.get(&number)).ok_or_else(|| refuse("InvalidPart"))?;
            if !named.contains(&tag_of(std::slice::from_ref(part))) {
                return Err(refuse("InvalidPart"));
            }
            content.push(part.clone());
        }
        if content.is_empty() || content.iter().rev().skip(1).any(|part| part.len() < LEAST_PART) {
            return Err(refuse("EntityTooSmall"));
        }
        let object = Object::new(content, known.headers.clone());
        let tag = object.tag.clone();
        held.uploads.remove(upload);
        held.objects.insert(key.to_owned(), Arc::new(object));
        Ok(tag)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn store(keys: &[&str]) -> Store {
        let store = Store::default();
        for key in keys {
            store.put(key, Object::new(vec![Bytes::from_static(b"x")], BTreeMap::new()));
        }
        store
    }

    #[test]
    fn pages_tell_every_key_and_every_folder_once() {
        let store = store(&["a", "b/1", "b/2", "b/c/3", "c", "d/4"]);
        let (mut told, mut token) = (Vec::new(), None);
        loop {
            let page = store.page("", Some("/"), token.as_deref(), 2);
            told.extend(page.objects.into_iter().map(|(key, _)| key));
            told.extend(page.folders);
            token = page.next;
            if token.is_none() {
                break;
            }
        }
        told.sort();
        assert_eq!(told, ["a", "b/", "c", "d/"]);
        assert_eq!(store.page("b/", None, None, 10).objects.len(), 3);
    }

    #[test]
    fn only_whole_parts_that_are_there_are_joined() {
        let store = store(&[]);
        let upload = store.begin("key", BTreeMap::new());
        let first = store.part(&upload, 1, vec![7; LEAST_PART].into()).unwrap();
        let second = store.part(&upload, 2, Bytes::from_static(b"end")).unwrap();
        let part = |number: u16, tag: &str| format!("<Part><PartNumber>{number}</PartNumber><ETag>{tag}</ETag></Part>");
        assert!(store.join("key", &upload, &(part(2, &second) + &part(1, &first))).is_err(), "a short part first");
        assert!(store.join("key", &upload, &part(1, &second)).is_err(), "another part's tag");
        assert!(store.join("other", &upload, &part(1, &first)).is_err(), "another key");
        store.join("key", &upload, &(part(1, &first) + &part(2, &second))).unwrap();
        assert_eq!((store.get("key").unwrap().size(), store.open_uploads()), (LEAST_PART as u64 + 3, 0));
    }
}
