//! One section of the book: what it is, what it was, and putting another text in force.

use wetbank_core::{Difference, SectionKind, differences, section_value};
use wetbank_journal::VersionRecord;

use super::{Engine, book::By};
use crate::{BookDiff, Declined, EngineError};

/// What must be so for a change to be made: nobody's change is lost to one who did not see it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Expected {
    /// Whatever it is now.
    Anything,
    /// It is not there.
    Nothing,
    /// It has this version.
    Version(i64),
}

/// A section that is in force, or was.
#[derive(Debug)]
pub struct SectionNow {
    /// Its text and version; nothing if it was removed.
    pub now: Option<(String, i64)>,
    /// What it was, newest first, each with how it differs from what was before.
    pub versions: Vec<(VersionRecord, Vec<Difference>)>,
}

/// How two texts of a section differ; nothing for one that cannot be read any more.
pub(super) fn differ(kind: SectionKind, old: Option<&str>, new: &str) -> Vec<Difference> {
    let value = |text: &str| section_value(kind, text).ok().map(|(_, value)| value);
    match (old.and_then(value), value(new)) {
        (Some(old), Some(new)) => differences(kind, &old, &new),
        _ => Vec::new(),
    }
}

impl Engine {
    /// A section that is in force, or was.
    pub async fn section(&self, kind: SectionKind, name: &str) -> Result<SectionNow, EngineError> {
        let now = self.core.journal.section(kind.as_str(), name).await?;
        let versions = self.core.journal.versions(kind.as_str(), name).await?;
        if now.is_none() && versions.is_empty() {
            return Err(EngineError::unknown(kind.as_str(), name));
        }
        let before = |at: usize| versions[at + 1..].iter().find_map(|version| version.text.as_deref());
        let told = versions.iter().enumerate().map(|(at, version)| {
            let found = version.text.as_deref().map(|text| differ(kind, before(at), text)).unwrap_or_default();
            (version.clone(), found)
        });
        let versions = told.collect();
        Ok(SectionNow { now, versions })
    }

    /// Puts another text of a section in force, or a new section.
    pub async fn put_section(
        &self,
        kind: SectionKind,
        name: &str,
        text: &str,
        expected: Expected,
        by: By<'_>,
    ) -> Result<BookDiff, EngineError> {
        let (written, _) = section_value(kind, text)?;
        if written != name {
            let (kind, asked) = (kind.as_str(), name.to_owned());
            return Err(Declined::OtherSection { kind, asked, written }.into());
        }
        let turn = self.core.arranged.turn().await;
        let now = self.core.journal.section(kind.as_str(), name).await?;
        let is_as_expected = match (expected, &now) {
            (Expected::Anything, _) | (Expected::Nothing, None) => true,
            (Expected::Version(version), Some((_, now))) => version == *now,
            (Expected::Nothing, Some(_)) | (Expected::Version(_), None) => false,
        };
        if !is_as_expected {
            let last = self.core.journal.versions(kind.as_str(), name).await?.into_iter().next();
            return Err(Declined::ChangedMeanwhile {
                kind: kind.as_str(),
                name: name.to_owned(),
                who: last.map(|version| version.who).unwrap_or_default(),
                now,
            }
            .into());
        }
        self.apply_in_turn(&turn, &[(format!("{}.{name}", kind.as_str()), text.to_owned())], false, by).await
    }

    /// Puts an earlier text of a section in force again: the one before, or that of a version. One that was removed is
    /// there again.
    pub async fn undo_section(
        &self,
        kind: SectionKind,
        name: &str,
        version: Option<i64>,
        by: By<'_>,
    ) -> Result<BookDiff, EngineError> {
        let SectionNow { now, versions } = self.section(kind, name).await?;
        let in_force = now.as_ref().map(|(text, _)| text.as_str());
        let mut texts = versions.iter().filter_map(|(one, _)| Some((one.version, one.text.as_deref()?)));
        let found = match version {
            Some(version) => texts.find(|(one, _)| *one == version),
            None => texts.find(|(_, text)| Some(*text) != in_force),
        };
        let Some((version, text)) = found else {
            return Err(Declined::NothingBefore { kind: kind.as_str(), name: name.to_owned() }.into());
        };
        let said = format!("back to version {version}");
        let by = By { note: by.note.or(Some(&said)), ..by };
        let expected = now.as_ref().map_or(Expected::Nothing, |(_, version)| Expected::Version(*version));
        self.put_section(kind, name, text, expected, by).await
    }

    /// Names of sections of a kind that were removed.
    pub async fn sections_gone(&self, kind: SectionKind) -> Result<Vec<String>, EngineError> {
        Ok(self.core.journal.sections_gone(kind.as_str()).await?)
    }
}
