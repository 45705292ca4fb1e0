//! Cutting a book into its sections without losing a comment.

use toml_edit::{DocumentMut, Item, Table};

use super::{Section, SectionKind};

/// The sections of a text, in the order written.
pub(super) fn split(text: &str) -> Result<Vec<Section>, toml_edit::TomlError> {
    let document: DocumentMut = text.parse()?;
    let mut sections = Vec::new();
    for kind in SectionKind::ALL {
        let Some(tables) = document.get(kind.as_str()).and_then(Item::as_table_like) else { continue };
        for (name, item) in tables.iter() {
            let mut only = DocumentMut::new();
            let mut parent = Table::new();
            parent.set_implicit(true);
            parent.insert(name, item.clone());
            only.insert(kind.as_str(), Item::Table(parent));
            let text = format!("{}\n", only.to_string().trim());
            let position = item.as_table().and_then(Table::position);
            sections.push((position, Section { kind, name: name.to_owned(), text }));
        }
    }
    sections.sort_by_key(|(position, _)| *position);
    Ok(sections.into_iter().map(|(_, section)| section).collect())
}
