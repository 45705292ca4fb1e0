//! Where a file came from.

use wetbank_core::{FilePath, RelPath, Rule, TemplateFacts};

/// The folder that a file was taken from, with those below it.
pub(crate) fn base(rule: &Rule, file: &FilePath, facts: &TemplateFacts<'_>) -> RelPath {
    let folder = file.path.parent();
    let holds = |base: &RelPath| folder.below(base).is_some();
    let arrival = rule.starts.arrival.iter().filter(|a| a.files.place == file.place).map(|a| a.folder.clone());
    let finds = rule.finds.iter().filter(|find| find.files.place == file.place);
    let finds = finds.filter_map(|find| find.folder.render_folder(facts).ok());
    arrival.chain(finds).filter(holds).max_by_key(|base| base.as_bytes().len()).unwrap_or(folder)
}
