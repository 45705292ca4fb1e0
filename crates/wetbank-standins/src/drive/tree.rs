//! One tenant's files, with what changed when.

use std::collections::BTreeMap;

use bytes::Bytes;
use jiff::Timestamp;

/// A file or folder. Paths have no slash at either end; the root is the empty one.
#[derive(Debug, Clone)]
pub(super) struct Node {
    /// Stays when it is moved.
    pub id: u64,
    /// Nothing for a folder.
    pub content: Option<Bytes>,
    pub modified: Timestamp,
    pub tag: String,
    pub owner: String,
    /// The number of the change that made it what it is.
    changed: u64,
}

#[derive(Debug, Default)]
pub(super) struct Tree {
    nodes: BTreeMap<String, Node>,
    /// What is gone, with the number of that change.
    gone: Vec<(u64, String)>,
    changes: u64,
    ids: u64,
}

/// One change: what is there now, or nothing if it is gone.
pub(super) type Change = (u64, String, Option<Node>);

fn parent(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(above, _)| above)
}

impl Tree {
    fn next_change(&mut self) -> u64 {
        self.changes += 1;
        self.changes
    }

    /// The number of the last change.
    pub fn last_change(&self) -> u64 {
        self.changes
    }

    pub fn get(&self, path: &str) -> Option<&Node> {
        self.nodes.get(path)
    }

    pub fn has_folder(&self, path: &str) -> bool {
        path.is_empty() || self.get(path).is_some_and(|node| node.content.is_none())
    }

    /// What lies directly in a folder.
    pub fn children<'a>(&'a self, folder: &'a str) -> impl Iterator<Item = (&'a str, &'a Node)> {
        self.nodes.iter().filter(move |(path, _)| parent(path) == folder).map(|(path, node)| (path.as_str(), node))
    }

    pub fn files(&self) -> Vec<String> {
        self.nodes.iter().filter(|(_, node)| node.content.is_some()).map(|(path, _)| path.clone()).collect()
    }

    /// Puts a file, or makes a folder without content. Its folder must be there.
    pub fn put(&mut self, path: &str, content: Option<Bytes>, who: &str) {
        let changed = self.next_change();
        let known = self.nodes.get(path).map(|node| (node.id, node.owner.clone()));
        let (id, owner) = known.unwrap_or_else(|| {
            self.ids += 1;
            (self.ids, who.to_owned())
        });
        let tag = format!("\"{id:x}-{changed:x}\"");
        let node = Node { id, content, modified: Timestamp::now(), tag, owner, changed };
        self.nodes.insert(path.to_owned(), node);
    }

    pub fn make_folders(&mut self, path: &str) {
        let ends = path.char_indices().filter(|(_, c)| *c == '/').map(|(at, _)| at).chain([path.len()]);
        for end in ends {
            if !self.has_folder(&path[..end]) {
                self.put(&path[..end], None, "");
            }
        }
    }

    pub fn put_with_folders(&mut self, path: &str, content: Bytes, who: &str) {
        self.make_folders(parent(path));
        self.put(path, Some(content), who);
    }

    /// Removes a file, or a folder with all that is in it.
    pub fn remove(&mut self, path: &str) {
        let below = format!("{path}/");
        let all: Vec<String> =
            self.nodes.keys().filter(|known| *known == path || known.starts_with(&below)).cloned().collect();
        for path in all {
            self.nodes.remove(&path);
            let changed = self.next_change();
            self.gone.push((changed, path));
        }
    }

    /// Gives a file another path; its id, time and tag stay.
    pub fn rename(&mut self, from: &str, to: &str) {
        self.remove_quietly(to);
        if let Some(node) = self.nodes.remove(from) {
            let gone = self.next_change();
            self.gone.push((gone, from.to_owned()));
            let changed = self.next_change();
            self.nodes.insert(to.to_owned(), Node { changed, ..node });
        }
    }

    fn remove_quietly(&mut self, path: &str) {
        self.nodes.remove(path);
    }

    /// What changed below a folder after a change, in the order of the changes; all that is there
    /// after change 0.
    pub fn changes_since(&self, folder: &str, deep: bool, since: u64) -> Vec<Change> {
        let is_ours = |path: &str| match path.strip_prefix(folder) {
            _ if folder.is_empty() => deep || !path.contains('/'),
            Some(rest) => rest.strip_prefix('/').is_some_and(|name| deep || !name.contains('/')),
            None => false,
        };
        let here = self.nodes.iter().filter(|(path, node)| node.changed > since && is_ours(path));
        let mut all: Vec<Change> = here.map(|(path, node)| (node.changed, path.clone(), Some(node.clone()))).collect();
        if since > 0 {
            let gone = self
                .gone
                .iter()
                .filter(|(changed, path)| *changed > since && is_ours(path) && !self.nodes.contains_key(path));
            all.extend(gone.map(|(changed, path)| (*changed, path.clone(), None)));
        }
        all.sort_by_key(|(changed, ..)| *changed);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(changes: Vec<Change>) -> Vec<(String, bool)> {
        changes.into_iter().map(|(_, path, node)| (path, node.is_some())).collect()
    }

    #[test]
    fn changes_tell_what_is_there_now_and_what_is_gone() {
        let mut tree = Tree::default();
        tree.put_with_folders("in/a.csv", "1".into(), "Tove");
        tree.put_with_folders("in/deep/b.csv", "2".into(), "Tove");
        assert_eq!(told(tree.changes_since("in", false, 0)), [("in/a.csv".into(), true), ("in/deep".into(), true)]);
        let then = tree.last_change();
        tree.rename("in/a.csv", "in/c.csv");
        tree.put("in/c.csv", Some("3".into()), "Odd");
        assert_eq!(told(tree.changes_since("in", true, then)), [("in/a.csv".into(), false), ("in/c.csv".into(), true)]);
        assert_eq!(
            tree.get("in/c.csv").map(|node| (node.id, node.owner.as_str())),
            Some((2, "Tove")),
            "it stays itself"
        );
    }

    #[test]
    fn a_folder_goes_with_all_that_is_in_it() {
        let mut tree = Tree::default();
        tree.put_with_folders("in/a.csv", "1".into(), "");
        tree.put_with_folders("input.csv", "2".into(), "");
        tree.remove("in");
        assert_eq!(tree.files(), ["input.csv"]);
    }
}
