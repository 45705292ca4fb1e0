//! What a person does by hand, written as a rule: it runs, is recorded and is read like one.

use serde_json::json;

use crate::{FilePath, IfExists, PlaceName, RelPath, SectionKind, section_text};

/// The name of what is done by hand. No rule of a book has it.
pub const BY_HAND: &str = "by-hand";

/// Files of one folder that a person copies or moves into another.
#[derive(Debug, Clone)]
pub struct HandDelivery {
    /// Where they are.
    pub from: PlaceName,
    /// The folder that was looked at; folders below it are made anew at the target.
    pub folder: RelPath,
    /// The folder they go to.
    pub to: FilePath,
    /// Whether they are removed here.
    pub moves: bool,
    /// What to do when a name is taken.
    pub exists: IfExists,
}

impl HandDelivery {
    /// The text of the rule.
    pub fn rule_text(&self) -> String {
        let base = self.folder.to_string();
        let skipped = if base.is_empty() { 0 } else { base.chars().count() + 1 };
        // A folder's own braces must not be read as placeholders, so it stands as a text in one.
        let to = serde_json::Value::from(self.to.path.to_string());
        let folder = format!("{{{{ {to} }}}}/{{{{ file.folder[{skipped}:] }}}}");
        let (step, title) = if self.moves { ("move", "Moved by hand") } else { ("copy", "Copied by hand") };
        let target = json!({ "to": self.to.place.as_str(), "folder": folder, "exists": self.exists });
        let rule = json!({
            "title": title,
            "starts": { "arrival": { "place": self.from.as_str(), "below": true } },
            "branch": [ { "steps": [ { step: target } ] } ],
        });
        let rule = rule.as_object().expect("a rule is a table");
        section_text(SectionKind::Rule, BY_HAND, None, rule).expect("nothing in it is beyond a book")
    }
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;

    use super::*;
    use crate::{FileFacts, Fingerprint, Known, Name, TemplateFacts, parse_book};

    /// Where a file of a folder would go.
    fn goes(folder: &str, file: &str, to: &str) -> String {
        let place = |name: &str| Name::new(name).unwrap();
        let delivery = HandDelivery {
            from: place("near"),
            folder: RelPath::parse(folder).unwrap(),
            to: FilePath { place: place("far"), path: RelPath::parse(to).unwrap() },
            moves: true,
            exists: IfExists::KeepBoth,
        };
        let known = Known { places: vec![place("near"), place("far")], ..Known::default() };
        let text = delivery.rule_text();
        let book = parse_book(&[("by hand".to_owned(), text)], &known).unwrap_or_else(|e| panic!("{e:?}"));
        let rule = &book.rules[0];
        let target = rule.branches[0].steps[0].step.target().unwrap();
        assert_eq!((target.place.as_str(), target.exists), ("far", IfExists::KeepBoth));
        let state = Fingerprint { size: 1, modified: 0, inode: None, tag: None };
        let file = FilePath { place: place("near"), path: RelPath::parse(file).unwrap() };
        let now = Timestamp::UNIX_EPOCH;
        let facts = TemplateFacts { file: &FileFacts::new(&file, &state), rule, run: 1, started: now, now };
        target.folder.render_folder(&facts).unwrap().to_string()
    }

    #[test]
    fn files_of_a_folder_go_to_another_and_folders_below_it_with_them() {
        assert_eq!(goes("", "a.csv", "in"), "in");
        assert_eq!(goes("", "2026/03/a.csv", "in"), "in/2026/03");
        assert_eq!(goes("out/2026", "out/2026/a.csv", "in"), "in");
        assert_eq!(goes("out/2026", "out/2026/03/a.csv", ""), "03");
    }

    #[test]
    fn no_name_of_a_folder_is_read_as_a_placeholder_or_ends_the_text() {
        for to in ["{{ today }}", "{% raw %}", "quote\"s", "back\\\\slash", "gr\u{fc}\u{df}e", "new\nline\\xff"] {
            assert_eq!(goes("", "a.csv", to), RelPath::parse(to).unwrap().to_string(), "{to}");
        }
        assert_eq!(goes("gr\u{fc}\u{df}e\\xff", "gr\u{fc}\u{df}e\\xff/b/a.csv", "in"), "in/b");
    }
}
