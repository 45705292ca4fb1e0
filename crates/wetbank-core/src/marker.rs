//! The file beside a file that says it is complete.

use crate::RelPath;

/// How a marker is named after its file: a `*` stands for the file's name, `*.done` for
/// `assay.csv` is `assay.csv.done`; `?` for the name without its last extension.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Marker {
    before: String,
    whole_name: bool,
    after: String,
}

/// Why a text names no marker.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" names no marker; write it as in \"*.done\" (assay.csv.done) or \"?.done\" (assay.done)")]
pub struct InvalidMarker(String);

impl Marker {
    /// Reads the form.
    ///
    /// # Errors
    ///
    /// It must hold one `*` or one `?`, something else, and no slash: a marker is no file itself.
    pub fn new(form: &str) -> Result<Self, InvalidMarker> {
        let invalid = || InvalidMarker(form.to_owned());
        let at = form.find(['*', '?']).ok_or_else(invalid)?;
        let (before, after) = (&form[..at], &form[at + 1..]);
        if after.contains(['*', '?', '/', '\0'])
            || before.contains(['/', '\0'])
            || (before.is_empty() && after.is_empty())
        {
            return Err(invalid());
        }
        let whole_name = form.as_bytes()[at] == b'*';
        Ok(Self { before: before.to_owned(), whole_name, after: after.to_owned() })
    }

    /// The marker of a file; nothing if there can be none.
    pub fn of(&self, file: &RelPath) -> Option<RelPath> {
        let name = file.name();
        let stem = match name.iter().rposition(|&byte| byte == b'.') {
            Some(dot) if dot > 0 && !self.whole_name => &name[..dot],
            _ => name,
        };
        let marker = [self.before.as_bytes(), stem, self.after.as_bytes()].concat();
        file.parent().join_name(&marker).ok().filter(|marker| marker != file)
    }

    /// Whether a name is that of a marker, and so of no file of its own.
    pub fn is_one(&self, name: &[u8]) -> bool {
        name.len() > self.before.len() + self.after.len()
            && name.starts_with(self.before.as_bytes())
            && name.ends_with(self.after.as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn marker(form: &str, file: &str) -> Option<String> {
        Marker::new(form).unwrap().of(&RelPath::parse(file).unwrap()).map(|path| path.to_string())
    }

    #[test]
    fn a_marker_is_named_after_its_file_and_lies_beside_it() {
        assert_eq!(marker("*.done", "out/assay.csv").as_deref(), Some("out/assay.csv.done"));
        assert_eq!(marker("?.done", "out/assay.csv").as_deref(), Some("out/assay.done"));
        assert_eq!(marker("ready-*", "assay.csv").as_deref(), Some("ready-assay.csv"));
        assert_eq!(marker("?.done", ".profile").as_deref(), Some(".profile.done"));
        assert_eq!(marker("?.csv", "assay.csv"), None, "a file does not say of itself that it is complete");
    }

    #[test]
    fn a_marker_is_known_by_its_name() {
        let done = Marker::new("*.done").unwrap();
        assert!(done.is_one(b"assay.csv.done") && !done.is_one(b"assay.csv") && !done.is_one(b".done"));
    }

    #[test]
    fn what_names_no_marker_is_refused() {
        for form in ["done", "", "*", "?", "*.a/b", "*.?", "../*"] {
            assert!(Marker::new(form).is_err(), "{form}");
        }
    }
}
