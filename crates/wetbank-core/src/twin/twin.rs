//! A twin as it is arranged, and its passes written as a rule: they run, are recorded and are read like one.

use std::time::Duration;

use jiff::{Timestamp, tz::TimeZone};
use serde_json::{Value, json};

use super::{Action, Brake, Customs, Notice, Pair, Sameness, Scope, Settling, Side, Terms, Way};
use crate::{FilePath, Known, LookPace, Name, RelPath, Rule, Schedule, SectionKind, parse_book, section_text};

/// The folder on each side in which lies what a twin replaced or deleted there. No rule and no twin takes anything from it.
pub const KEPT: &str = ".wetbank-kept";

/// A file that was changed so shortly before a pass is told by more than its size and time, in nanoseconds.
const YOUNG: i64 = 600 * 1_000_000_000;

/// When a pass of a twin is made, besides by hand and by steps of rules.
#[derive(Debug, Clone, Default)]
pub struct TwinStarts {
    /// Something changed on a side that others follow; how often such a side is looked through where no events tell.
    pub change: Option<LookPace>,
    /// The clock.
    pub schedule: Option<Schedule>,
}

/// Two folders that are kept alike.
#[derive(Debug, Clone)]
pub struct Twin {
    /// Its name.
    pub name: Name,
    /// Its title for people.
    pub title: String,
    /// Why it is there.
    pub why: String,
    /// Both folders.
    pub folders: Pair<FilePath>,
    /// Which changes follow.
    pub way: Way,
    /// What is done about a file that is another one on each side.
    pub settling: Settling,
    /// What counts as the same.
    pub same: Sameness,
    /// Which files it is about; `since` is left to each pass.
    pub scope: Scope,
    /// Only what was changed in so many days is taken up.
    pub recent: Option<u32>,
    /// How long before a pass a file must have stayed unchanged, or else it waits for a further one. Without it nobody may
    /// have it open for writing on this machine, and elsewhere it must be unchanged for a while.
    pub settle: Option<Duration>,
    /// Whether a name that is not possible over there is changed into one that is.
    pub fits_names: bool,
    /// So many days what a side loses is kept there.
    pub keep_days: u32,
    /// How much is deleted or replaced without asking.
    pub brake: Brake,
    /// In whose time its days are.
    pub zone: TimeZone,
    /// When a pass is made.
    pub starts: TwinStarts,
    /// Who is told of passes afterwards.
    pub tell: Vec<Notice>,
}

impl Twin {
    /// What a pass goes by.
    pub fn terms(&self, customs: Pair<Customs>, is_first: bool, now: Timestamp) -> Terms {
        let day = 24 * 3_600 * 1_000_000_000_i128;
        let since = self.recent.map(|days| now.as_nanosecond() - i128::from(days) * day);
        let since = since.map(|since| i64::try_from(since).unwrap_or(i64::MIN));
        Terms {
            way: self.way,
            settling: self.settling,
            same: self.same,
            scope: Scope { since, ..self.scope.clone() },
            fits_names: self.fits_names,
            zone: self.zone.clone(),
            customs,
            is_first,
            young: i64::try_from(now.as_nanosecond()).unwrap_or(i64::MAX).saturating_sub(YOUNG),
        }
    }

    /// A file of one side.
    pub fn file(&self, side: Side, below: &RelPath) -> FilePath {
        let folder = self.folders.of(side);
        FilePath { place: folder.place.clone(), path: folder.path.join(below) }
    }

    /// Where below its folder a side keeps what it loses in a pass of this time.
    pub fn kept(&self, at: Timestamp) -> RelPath {
        let day = at.to_zoned(self.zone.clone()).date();
        self.kept_of(&day.to_string())
    }

    /// Where below its folder a side keeps what it lost on a day.
    pub fn kept_of(&self, day: &str) -> RelPath {
        RelPath::parse(&format!("{KEPT}/{}/{day}", self.name)).expect("plain names")
    }

    /// Where below its folder a side keeps what it ever lost, by days.
    pub fn kept_top(&self) -> RelPath {
        RelPath::parse(&format!("{KEPT}/{}", self.name)).expect("plain names")
    }

    /// Whether this side can lose anything in a pass.
    pub fn loses(&self, side: Side) -> bool {
        self.way != Way::Add && self.way.changes(side)
    }

    /// Whether it has a side in a place, or tells of its passes by it.
    pub fn uses(&self, place: &Name) -> bool {
        let sides = [&self.folders.near.place, &self.folders.far.place];
        sides.contains(&place) || self.tell.iter().any(|notice| notice.by == *place)
    }

    /// The name under which its passes run.
    pub fn rule_name(&self) -> Name {
        rule_name(&self.name).unwrap_or_else(|| self.name.clone())
    }

    /// The rule that its passes are.
    pub fn rule(&self) -> Option<Rule> {
        let sides = [&self.folders.near.place, &self.folders.far.place];
        let places = sides.into_iter().chain(self.tell.iter().map(|notice| &notice.by)).cloned().collect();
        let known = Known { places, twins: vec![self.name.clone()], ..Known::default() };
        parse_book(&[("twin".to_owned(), self.rule_text())], &known).ok()?.rules.pop()
    }

    /// The text of the rule that its passes are.
    pub fn rule_text(&self) -> String {
        let to = |side: Side, kept: bool| {
            let folder = self.folders.of(side);
            let below =
                if kept { folder.path.join(&RelPath::parse(KEPT).expect("a plain name")) } else { folder.path.clone() };
            // A folder's own braces must not be read as placeholders, so it stands as a text in one.
            let below = Value::from(below.to_string());
            json!({ "to": folder.place.as_str(), "folder": format!("{{{{ {below} }}}}") })
        };
        let branch = |title: &str, side: Side, steps: &[&str]| {
            let step = |kind: &&str| match *kind {
                "move" => json!({ "move": to(side, true) }),
                "copy" => json!({ "copy": to(side, false) }),
                "align" => json!({ "align": { "twin": self.name.as_str() } }),
                "rename" => json!({ "rename": { "as": "{{ file.name }}" } }),
                _ => {
                    json!({ "make-folder": { "to": self.folders.of(side).place.as_str(), "folder": "{{ file.folder }}" } })
                }
            };
            let title = format!("{title} {}", side.here());
            // Which branch takes a file is planned; only the last of a rule can do without a condition.
            let any = json!({ "file": "name", "like": "*" });
            json!({ "title": title, "if": any, "steps": steps.iter().map(step).collect::<Vec<_>>() })
        };
        let told = |notice: &Notice| {
            let any = json!({ "file": "name", "like": "*" });
            let mail = json!({ "by": notice.by.as_str(), "to": notice.to, "subject": "{{ rule.title }}" });
            json!({ "title": format!("Told {notice}"), "if": any, "steps": [ { "mail": mail } ] })
        };
        let both = |title: &str, steps: &[&str]| [Side::Far, Side::Near].map(|side| branch(title, side, steps));
        let branches: Vec<Value> = [
            both("Put", &["copy"]),
            both("Replaced", &["move", "copy"]),
            both("Deleted", &["move"]),
            both("Renamed", &["rename"]),
            both("Folders", &["make-folder"]),
            both("Both kept", &["rename", "copy"]),
            both("Restored", &["rename", "copy"]),
        ]
        .into_iter()
        .flatten()
        .chain([branch("Asked", Side::Near, &["align"])])
        .chain(self.tell.iter().map(told))
        .collect();
        let rule = json!({
            "title": self.title,
            "starts": { "arrival": { "place": self.folders.near.place.as_str(), "below": true } },
            "branch": branches,
        });
        let rule = rule.as_object().expect("a rule is a table");
        section_text(SectionKind::Rule, self.rule_name().as_str(), None, rule).expect("nothing in it is beyond a book")
    }
}

/// The name under which the passes of a twin run; nothing if its own is too long for one.
pub fn rule_name(twin: &Name) -> Option<Name> {
    Name::new(&format!("twin-{twin}")).ok()
}

/// The twin whose passes run under a name, if they do.
pub fn twin_name(rule: &Name) -> Option<Name> {
    Name::new(rule.as_str().strip_prefix("twin-")?).ok()
}

/// The branch of the rule in which a person is asked.
pub const ASKED: usize = 14;

/// The branch of the rule by which the first of those who are told of passes is told; one each follows for the others.
pub const TOLD: usize = ASKED + 1;

/// The branch of the rule that does this; nothing for what is only noted, asked or left.
pub fn branch_of(action: &Action) -> Option<usize> {
    let (first, on) = match action {
        Action::Make { on } => (0, on),
        Action::Replace { on } => (2, on),
        Action::Delete { on } => (4, on),
        Action::Rename { on, .. } => (6, on),
        Action::MakeFolder { on } | Action::RemoveFolder { on } => (8, on),
        Action::KeepBoth { renamed, .. } => (10, renamed),
        Action::Restore { on, .. } => (12, on),
        Action::Ask { .. } | Action::Join | Action::Forget | Action::Leave => return None,
    };
    Some(first + usize::from(*on == Side::Near))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn its_passes_are_a_rule_that_can_be_read_whatever_its_folders_are_called() {
        for (near, far) in [("", "shared"), ("in/{{ today }}", "{% raw %}"), ("gr\u{fc}\\xff", "quote\"s")] {
            let place = |name: &str| Name::new(name).unwrap();
            let folder = |name: &str, path: &str| FilePath { place: place(name), path: RelPath::parse(path).unwrap() };
            let twin = Twin {
                name: place("volunteers"),
                title: "Volunteers and the office".to_owned(),
                why: String::new(),
                folders: Pair { near: folder("office", near), far: folder("drive", far) },
                way: Way::Both,
                settling: Settling::KeepBoth,
                same: Sameness::SizeAndTime,
                scope: Scope::all(),
                recent: Some(30),
                settle: None,
                fits_names: false,
                keep_days: 30,
                brake: Brake::default(),
                zone: TimeZone::UTC,
                starts: TwinStarts::default(),
                tell: vec![Notice {
                    by: place("post"),
                    to: vec!["wardens@merrow.example".to_owned()],
                    folder: RelPath::root(),
                    quiet: None,
                }],
            };
            let rule = twin.rule().unwrap();
            let steps: Vec<usize> = rule.branches.iter().map(|branch| branch.steps.len()).collect();
            assert_eq!(
                (rule.name.as_str(), steps),
                ("twin-volunteers", vec![1, 1, 2, 2, 1, 1, 1, 1, 1, 1, 2, 2, 2, 2, 1, 1])
            );
            let of = |action: &Action| rule.branches[branch_of(action).unwrap()].title.as_str();
            assert_eq!(of(&Action::Replace { on: Side::Near }), "Replaced here");
            assert_eq!(of(&Action::Delete { on: Side::Far }), "Deleted there");
            assert_eq!(rule.branches[ASKED].title, "Asked here");
            assert_eq!(rule.branches[TOLD].title, "Told wardens@merrow.example");
            let kept = twin.kept(Timestamp::UNIX_EPOCH);
            assert_eq!(kept.to_string(), ".wetbank-kept/volunteers/1970-01-01");
            assert!(kept.is_temporary(), "nothing takes it");
        }
    }
}
