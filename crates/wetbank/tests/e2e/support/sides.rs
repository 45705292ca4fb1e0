//! What lies on a side of a twin.

use std::{collections::BTreeMap, fs, path::Path};

/// Every file below a folder with its content, what is the service's own left out.
pub fn below(root: &Path) -> BTreeMap<String, Vec<u8>> {
    let (mut found, mut folders) = (BTreeMap::new(), vec![root.to_owned()]);
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            let path = entry.path();
            let is_ours = path.file_name().unwrap().to_string_lossy().starts_with(".wetbank-");
            if path.is_dir() && !is_ours {
                folders.push(path);
            } else if !is_ours {
                // It may go while it is looked at.
                let Ok(content) = fs::read(&path) else { continue };
                found.insert(path.strip_prefix(root).unwrap().display().to_string(), content);
            }
        }
    }
    found
}

/// What a side keeps of what it lost, whatever it is called there.
pub fn kept(root: &Path) -> Vec<Vec<u8>> {
    let (mut found, mut folders) = (Vec::new(), vec![root.join(".wetbank-kept")]);
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            if entry.path().is_dir() { folders.push(entry.path()) } else { found.push(fs::read(entry.path()).unwrap()) }
        }
    }
    found
}
