//! Rules in plain words.

use crate::{
    Arrival, Branch, Chain, Delivery, Find, Gather, Letter, Name, Original, Planned, Rule, Selection, Target, Telling,
    format_duration,
};

pub(crate) fn joined(words: &[String]) -> String {
    match words {
        [] => String::new(),
        [one] => one.clone(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

/// A partner's delivery form in words: `encrypt it to skerrow, then deliver it to …`.
pub fn delivery_words(delivery: &Delivery) -> String {
    let target = Target {
        place: delivery.to.clone(),
        folder: delivery.folder.clone(),
        name: delivery.name.clone(),
        exists: delivery.exists,
        quiet: delivery.quiet.clone(),
        partner: None,
        fit: false,
        sha256: true,
    };
    let sign = delivery.sign.as_ref().map(|key| format!(", signed by {key}")).unwrap_or_default();
    match delivery.encrypt_to.as_slice() {
        [] => format!("as they are, to {}", target.words(Telling::AsWritten)),
        keys => format!("encrypted to {}{sign}, to {}", joined(keys), target.words(Telling::AsWritten)),
    }
}

/// A step with its condition.
fn planned_words(planned: &Planned) -> String {
    match &planned.condition {
        Some(condition) => format!("{} (if {})", planned.step.words(Telling::AsWritten), condition.words()),
        None => planned.step.words(Telling::AsWritten),
    }
}

/// A branch in words, without its condition and its failure paths.
pub fn branch_sentence(branch: &Branch) -> String {
    let steps: Vec<String> = branch.steps[..branch.main].iter().map(planned_words).collect();
    let original = match &branch.original {
        Original::Stays => String::new(),
        Original::MoveTo(folder) => format!("; then set the original aside in {folder}"),
        Original::Delete => "; then delete the original".to_owned(),
        Original::Mark(name) => format!("; then mark the original with {name}"),
    };
    format!("{}{original}", joined(&steps))
}

fn files_words(files: &Selection) -> String {
    if files.names.is_empty() {
        "a file".to_owned()
    } else {
        let names: Vec<_> = files.names.iter().map(|g| g.glob().glob()).collect();
        format!("a file named {}", names.join(" or "))
    }
}

fn letter_words(arrival: &Arrival, letter: &Letter) -> String {
    let names: Vec<_> = letter.names.iter().map(|g| g.glob().glob()).collect();
    let what =
        if names.is_empty() { "attachments".to_owned() } else { format!("attachments named {}", names.join(" or ")) };
    let end =
        letter.file_in.as_ref().map(|folder| format!(", which is filed in {folder} at the end")).unwrap_or_default();
    format!("when a letter with {what} comes into {} › {}{end}", arrival.files.place, arrival.folder)
}

fn gather_words(gather: &Gather) -> String {
    match gather {
        Gather::Quiet(time) => format!(", together once none came for {}", format_duration(*time)),
        Gather::Count(count) => format!(", {count} at a time"),
        Gather::Marker(name) => format!(", together once {name} is there"),
        Gather::Set(patterns) => {
            let names: Vec<_> = patterns.iter().map(|g| g.glob().glob().to_owned()).collect();
            format!(", together once {} are there", joined(&names))
        }
    }
}

fn arrival_words(arrival: &Arrival) -> String {
    if let Some(letter) = &arrival.letter {
        return letter_words(arrival, letter);
    }
    let of = arrival.of;
    let ways = [(of.new, "is complete"), (of.changed && !of.new, "has changed"), (of.gone, "is gone")];
    let ways: Vec<_> = ways.into_iter().filter(|(is, _)| *is).map(|(_, words)| words.to_owned()).collect();
    let gather = arrival.gather.as_ref().map(gather_words).unwrap_or_default();
    let below = if arrival.files.deep { " or below" } else { "" };
    let folder = if arrival.folder.is_root() { String::new() } else { format!(" › {}", arrival.folder) };
    let what = files_words(&arrival.files);
    format!("when {what} {} in {}{folder}{below}{gather}", ways.join(" or "), arrival.files.place)
}

fn find_words(find: &Find) -> String {
    let mut names: Vec<String> = find.files.names.iter().map(|g| g.glob().glob().to_owned()).collect();
    names.extend(find.named.iter().map(ToString::to_string));
    let what = if names.is_empty() { "every file".to_owned() } else { format!("every {}", names.join(" or ")) };
    let new = if find.only_new { " that is new" } else { "" };
    let folder = find.folder.source().trim_matches('/');
    let folder = if folder.is_empty() { String::new() } else { format!(" › {folder}") };
    let below = if find.files.deep { " or below" } else { "" };
    format!("{what}{new} in {}{folder}{below}", find.files.place)
}

fn chain_words(chain: &Chain) -> String {
    let either = |list: Vec<String>| list.join(" or ");
    let names = |list: &[Name]| list.iter().map(ToString::to_string).collect::<Vec<_>>();
    let who = if chain.rules.is_empty() { "another rule".to_owned() } else { either(names(&chain.rules)) };
    let what = either(chain.after.iter().map(|event| event.as_str().to_owned()).collect());
    let mut words = format!("when a file was {what} by {who}");
    for (sign, list) in [("coming from", &chain.from), ("to", &chain.to), ("for partner", &chain.partners)] {
        if !list.is_empty() {
            words.push_str(&format!(" {sign} {}", either(names(list))));
        }
    }
    words
}

/// What starts a rule, in words.
pub fn starts_words(rule: &Rule) -> String {
    let finds = || match rule.finds.as_slice() {
        [] => String::new(),
        finds => format!(", for {}", joined(&finds.iter().map(find_words).collect::<Vec<_>>())),
    };
    let mut starts: Vec<String> = rule.starts.arrival.iter().map(arrival_words).collect();
    starts.extend(rule.starts.schedule.iter().map(|schedule| format!("{}{}", schedule.words(), finds())));
    starts.extend(rule.starts.chain.iter().map(chain_words));
    starts.extend(rule.starts.signal.iter().map(|_| format!("when another system signals it{}", finds())));
    if starts.is_empty() {
        starts.push(format!("when a person starts it{}", finds()));
    }
    let words = starts.join("; and ");
    let mut letters = words.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

/// A whole rule in plain words.
pub fn rule_sentence(rule: &Rule) -> String {
    let mut text = starts_words(rule);
    for (index, branch) in rule.branches.iter().enumerate() {
        let what = branch_sentence(branch);
        match (&branch.condition, index) {
            (None, 0) => text.push_str(&format!(", {what}.")),
            (None, _) => text.push_str(&format!(" Anything else: {what}.")),
            (Some(condition), 0) => text.push_str(&format!(", and {}: {what}.", condition.words())),
            (Some(condition), _) => text.push_str(&format!(" If {}: {what}.", condition.words())),
        }
    }
    text
}
