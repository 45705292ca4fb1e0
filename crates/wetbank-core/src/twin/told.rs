//! What people are told of passes afterwards: one mail, by folder.

use std::{
    collections::BTreeMap,
    fmt::{self, Write},
};

use jiff::Timestamp;

use super::{Side, Twin};
use crate::{ByteSize, FilePath, PlaceName, QuietHours, RelPath};

/// Files and folders that get a line of their own in one mail.
const MOST_LINES: u64 = 1_000;

/// Who is told of passes, and when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// The mailbox that sends the mail.
    pub by: PlaceName,
    /// Who gets it.
    pub to: Vec<String>,
    /// Only of what lies in this folder of the twin.
    pub folder: RelPath,
    /// What is done in these hours is told when they are over.
    pub quiet: Option<QuietHours>,
}

impl Notice {
    /// What tells it from the others of its twin.
    pub fn key(&self) -> String {
        format!("{} {} {}", self.by, self.to.join(","), self.folder)
    }
}

/// What was done to a file or folder, as a mail says it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Deed {
    Added,
    Changed,
    Renamed,
    Removed,
    KeptTwice,
    BroughtBack,
}

impl Deed {
    const fn word(self) -> &'static str {
        match self {
            Self::Added => "added",
            Self::Changed => "changed",
            Self::Renamed => "renamed",
            Self::Removed => "removed",
            Self::KeptTwice => "kept twice",
            Self::BroughtBack => "brought back",
        }
    }
}

/// What an item of a pass did, as it is on record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Done {
    /// The branch of the twin's rule.
    pub branch: usize,
    /// The file that it was about.
    pub file: FilePath,
    /// Its size in bytes.
    pub size: u64,
    /// Where something came to lie, in order.
    pub targets: Vec<FilePath>,
    /// What its first attempt noted.
    pub note: Option<String>,
}

/// What is noted where a folder was removed.
pub const FOLDER_REMOVED: &str = "the folder was removed";

impl Done {
    fn deed(&self) -> Option<(Deed, Side)> {
        let on = if self.branch.is_multiple_of(2) { Side::Far } else { Side::Near };
        let deed = match self.branch / 2 {
            0 => Deed::Added,
            1 => Deed::Changed,
            2 => Deed::Removed,
            3 => Deed::Renamed,
            FOLDERS if self.note.as_deref() == Some(FOLDER_REMOVED) => Deed::Removed,
            FOLDERS => Deed::Added,
            5 => Deed::KeptTwice,
            6 => Deed::BroughtBack,
            _ => return None,
        };
        Some((deed, on))
    }

    fn is_folder(&self) -> bool {
        self.branch / 2 == FOLDERS
    }
}

/// Which pair of branches makes and removes folders.
const FOLDERS: usize = 4;

/// What passes did, gathered for one mail.
#[derive(Debug)]
pub struct Report<'t> {
    twin: &'t Twin,
    notice: &'t Notice,
    by_folder: BTreeMap<(Side, RelPath), Vec<String>>,
    counts: BTreeMap<Deed, u64>,
    lines: u64,
    more: u64,
}

impl<'t> Report<'t> {
    /// Nothing yet.
    pub fn new(twin: &'t Twin, notice: &'t Notice) -> Self {
        Self { twin, notice, by_folder: BTreeMap::new(), counts: BTreeMap::new(), lines: 0, more: 0 }
    }

    /// Something was done.
    pub fn add(&mut self, done: &Done) {
        let Some((deed, on)) = done.deed() else { return };
        let below = |file: &FilePath, side: Side| {
            let folder = self.twin.folders.of(side);
            file.path.below(&folder.path).filter(|_| file.place == folder.place)
        };
        let (first, last) = (done.targets.first(), done.targets.last());
        let named = match deed {
            Deed::Added | Deed::Changed => last,
            Deed::Renamed | Deed::BroughtBack => first,
            Deed::Removed | Deed::KeptTwice => Some(&done.file),
        };
        let Some(at) = named.and_then(|file| below(file, on)) else { return };
        if at.below(&self.notice.folder).is_none() {
            return;
        }
        *self.counts.entry(deed).or_default() += 1;
        if self.lines == MOST_LINES {
            self.more += 1;
            return;
        }
        self.lines += 1;
        let more = match (deed, done.is_folder()) {
            (_, true) => "/".to_owned(),
            (Deed::Added | Deed::Changed, _) => format!(" ({})", ByteSize(done.size)),
            (Deed::Renamed, _) => below(&done.file, on).map_or_else(String::new, |was| format!(", was {was}")),
            (Deed::KeptTwice, _) => first.map_or_else(String::new, |other| format!(" and {}", other.path.name_text())),
            (Deed::Removed | Deed::BroughtBack, _) => String::new(),
        };
        let told = format!("{:<12}  {}{more}", deed.word(), at.name_text());
        self.by_folder.entry((on, at.parent())).or_default().push(told);
    }

    /// The mail, as its subject and text, if there is anything to tell: of so many passes, from the first to the last.
    pub fn mail(&self, passes: usize, (first, last): (Timestamp, Timestamp)) -> Option<(String, String)> {
        if self.counts.is_empty() {
            return None;
        }
        let counts: Vec<String> = self.counts.iter().map(|(deed, count)| format!("{count} {}", deed.word())).collect();
        let counts = counts.join(", ");
        let subject = format!("{}: {counts}", self.twin.title);
        let mut text = format!("{counts}, {}.\n", self.when(passes, first, last));
        let mut of = None;
        for ((side, folder), lines) in &self.by_folder {
            let place = self.twin.folders.of(*side);
            if of.replace(side) != Some(side) {
                let _ = write!(text, "\nIn {place}:\n");
            }
            let folder = if folder.is_root() { "at the top".to_owned() } else { format!("{folder}/") };
            let _ = write!(text, "\n  {folder}\n");
            for line in lines {
                let _ = writeln!(text, "    {line}");
            }
        }
        if self.more > 0 {
            let _ = write!(text, "\nand {} more.\n", self.more);
        }
        let takes = |deed: &Deed| matches!(deed, Deed::Changed | Deed::Removed);
        if self.counts.keys().any(takes) {
            let days = self.twin.keep_days;
            let _ = write!(text, "\nWhat was removed, and what was there before a change, is kept for {days} days.\n");
        }
        Some((subject, text))
    }

    fn when(&self, passes: usize, first: Timestamp, last: Timestamp) -> String {
        let zone = &self.twin.zone;
        let time = |at: Timestamp, pattern| at.to_zoned(zone.clone()).strftime(pattern).to_string();
        let named = zone.iana_name().unwrap_or("UTC");
        let (day, minute) = ("%Y-%m-%d %H:%M", "%H:%M");
        let to = |pattern| time(last, pattern);
        match (passes, time(first, "%Y-%m-%d") == time(last, "%Y-%m-%d")) {
            (..=1, _) => format!("{} ({named})", to(day)),
            (_, true) => format!("{} to {} ({named})", time(first, day), to(minute)),
            (_, false) => format!("{} to {} ({named})", time(first, day), to(day)),
        }
    }
}

impl fmt::Display for Notice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&crate::sentence::joined(&self.to))?;
        match self.folder.is_root() {
            true => Ok(()),
            false => write!(f, " (of {})", self.folder),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        Known, Name, parse_book,
        twin::{Action, Pair, branch_of},
    };

    fn twin(more: &str) -> Twin {
        let text = format!(
            "[twin.charts]\ntitle = \"Charts for the harbour\"\nnear = {{ place = \"office\", folder = \"charts\" }}\n\
             far = {{ place = \"drive\" }}\nway = \"both\"\nzone = \"Europe/Oslo\"\n{more}"
        );
        let places = ["office", "drive", "post"].map(|name| Name::new(name).unwrap()).to_vec();
        let known = Known { places, ..Known::default() };
        parse_book(&[("book".to_owned(), text)], &known).unwrap().twins.remove(0)
    }

    /// Something that the branch which takes such an action did.
    fn add(report: &mut Report<'_>, action: &Action, (file, targets): (&str, &[&str]), is_removal: bool) {
        let parse = |text: &str| FilePath::parse(text).unwrap();
        let (file, targets) = (parse(file), targets.iter().map(|text| parse(text)).collect::<Vec<_>>());
        let branch = branch_of(action).unwrap();
        let note = is_removal.then(|| FOLDER_REMOVED.to_owned());
        report.add(&Done { branch, file, size: 12_300, targets, note });
    }

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn what_passes_did_is_one_mail_by_side_and_folder() {
        let twin = twin("tell = [ { by = \"post\", to = \"wardens@merrow.example\" } ]\n");
        let mut report = Report::new(&twin, &twin.tell[0]);
        let (near, far) = (Side::Near, Side::Far);
        let (none, root) = (Pair::same(RelPath::root()), RelPath::root());
        let kept = "drive:/.wetbank-kept/charts/2026-12-01/gone.txt";
        add(&mut report, &Action::MakeFolder { on: far }, ("drive:/maps", &["drive:/maps"]), false);
        add(&mut report, &Action::RemoveFolder { on: near }, ("office:/charts/old", &["office:/charts/old"]), true);
        add(&mut report, &Action::Make { on: far }, ("office:/charts/maps/b.pdf", &["drive:/maps/b\\x0ac.pdf"]), false);
        add(
            &mut report,
            &Action::Rename { on: far, from: none },
            ("drive:/maps/old.pdf", &["drive:/maps/new.pdf"]),
            false,
        );
        let two = ["office:/charts/.wetbank-kept/charts/2026-12-01/list.txt", "office:/charts/list.txt"];
        add(&mut report, &Action::Replace { on: near }, ("drive:/list.txt", &two), false);
        add(&mut report, &Action::Delete { on: far }, ("drive:/gone.txt", &[kept]), false);
        let two = ["drive:/two (far).txt", "drive:/two.txt"];
        add(&mut report, &Action::KeepBoth { renamed: far, to: Vec::new() }, ("drive:/two.txt", &two), false);
        let two = ["drive:/back.txt", "office:/charts/back.txt"];
        add(&mut report, &Action::Restore { on: far, from: root }, (kept, &two), false);
        let when = (at("2026-12-01T08:00:00Z"), at("2026-12-01T08:04:00Z"));
        let (subject, text) = report.mail(2, when).unwrap();
        assert_eq!(
            subject,
            "Charts for the harbour: 2 added, 1 changed, 1 renamed, 2 removed, 1 kept twice, 1 brought back"
        );
        assert_eq!(
            text,
            "2 added, 1 changed, 1 renamed, 2 removed, 1 kept twice, 1 brought back, 2026-12-01 09:00 to 09:04 (Europe/Oslo).\n\
             \nIn office:/charts:\n\n  at the top\n    removed       old/\n    changed       list.txt (12.3 kB)\n\
             \nIn drive:/:\n\n  at the top\n    added         maps/\n    removed       gone.txt\n\
             \x20   kept twice    two.txt and two (far).txt\n    brought back  back.txt\n\
             \n  maps/\n    added         b\\x0ac.pdf (12.3 kB)\n    renamed       new.pdf, was maps/old.pdf\n\
             \nWhat was removed, and what was there before a change, is kept for 30 days.\n"
        );
        assert!(report.mail(1, when).unwrap().1.contains("2026-12-01 09:04 (Europe/Oslo)"));
    }

    #[test]
    fn who_watches_a_folder_is_told_of_that_and_of_nothing_if_nothing_was_done_there() {
        let twin = twin("tell = [ { by = \"post\", to = [\"a@b.example\"], folder = \"maps\" } ]\n");
        let mut report = Report::new(&twin, &twin.tell[0]);
        add(&mut report, &Action::Make { on: Side::Far }, ("office:/charts/list.txt", &["drive:/list.txt"]), false);
        assert_eq!(report.mail(1, (Timestamp::UNIX_EPOCH, Timestamp::UNIX_EPOCH)), None);
        add(&mut report, &Action::Make { on: Side::Far }, ("office:/charts/x", &["drive:/maps/deep/b.txt"]), false);
        let (subject, _) = report.mail(1, (Timestamp::UNIX_EPOCH, Timestamp::UNIX_EPOCH)).unwrap();
        assert_eq!(subject, "Charts for the harbour: 1 added");
    }

    #[test]
    fn a_mail_about_very_many_has_an_end() {
        let twin = twin("tell = [ { by = \"post\", to = [\"a@b.example\"] } ]\n");
        let mut report = Report::new(&twin, &twin.tell[0]);
        for number in 0..MOST_LINES + 5 {
            let target = format!("drive:/f{number}");
            add(&mut report, &Action::Make { on: Side::Far }, ("office:/charts/x", &[&target]), false);
        }
        let (subject, text) = report.mail(1, (Timestamp::UNIX_EPOCH, Timestamp::UNIX_EPOCH)).unwrap();
        assert!(subject.ends_with("1005 added") && text.ends_with("\nand 5 more.\n"));
    }
}
