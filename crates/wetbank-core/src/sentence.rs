//! Rules in plain words.

use crate::{
    Arrival, Branch, CallBody, Chain, Delivery, Find, Gather, IfExists, Letter, Name, Original, Planned, Rule,
    Selection, Step, Target, format_duration,
};

pub(crate) fn joined(words: &[String]) -> String {
    match words {
        [] => String::new(),
        [one] => one.clone(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

fn target_words(target: &Target) -> String {
    let mut words = match &target.partner {
        Some(partner) => format!("partner {partner} at {}", target.place),
        None => target.place.to_string(),
    };
    let folder = target.folder.source().trim_matches('/');
    if !folder.is_empty() && folder != "." {
        words.push_str(&format!(" › {folder}"));
    }
    if target.name.source() != "{{ file.name }}" {
        words.push_str(&format!(" as {}", target.name));
    }
    match target.exists {
        IfExists::Refuse => {}
        IfExists::Replace => words.push_str(", replacing what is there"),
        IfExists::KeepBoth => words.push_str(", keeping both if the name is taken"),
        IfExists::SkipSame => words.push_str(", unless it is there already"),
    }
    if !target.sha256 {
        words.push_str(", without a SHA-256");
    }
    if let Some(quiet) = &target.quiet {
        words.push_str(&format!(", never from {quiet}"));
    }
    words
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
        [] => format!("as they are, to {}", target_words(&target)),
        keys => format!("encrypted to {}{sign}, to {}", joined(keys), target_words(&target)),
    }
}

/// One step in words: `encrypt it to skerrow-harbour`.
pub fn step_words(step: &Step) -> String {
    match step {
        Step::Encrypt { to, passphrase: None, .. } if to.is_empty() => {
            "leave it as it is, as the partner wants".to_owned()
        }
        Step::Encrypt { to, passphrase, sign, .. } => {
            let to = if to.is_empty() { String::new() } else { format!(" to {}", joined(to)) };
            let with = if passphrase.is_some() { " with a passphrase" } else { "" };
            let signed = sign.as_ref().map(|key| format!(", signed by {key}")).unwrap_or_default();
            format!("encrypt it{to}{with}{signed}")
        }
        Step::Decrypt { signed_by, .. } if signed_by.is_empty() => "decrypt it".to_owned(),
        Step::Decrypt { signed_by, .. } => {
            format!("decrypt it, if signed by {}", signed_by.join(" or "))
        }
        Step::Sign { by, .. } => format!("sign it with {by} in a file beside it"),
        Step::Verify { by, name } => format!("check its signature {name} by {}", by.join(" or ")),
        Step::Compress { name, .. } => format!("compress it to {name}"),
        Step::Expand { .. } => "expand it".to_owned(),
        Step::Pack { name, passphrase, .. } => {
            let sealed = if passphrase.is_some() { ", with a passphrase" } else { "" };
            format!("pack all of a run into {name}{sealed}")
        }
        Step::Unpack { .. } => "take out what is in it".to_owned(),
        Step::Manifest { name } => format!("list the checksums of all of a run in {name}"),
        Step::CheckManifest { name } => format!("compare it with the checksums in {name}"),
        Step::Copy(target) => format!("copy it to {}", target_words(target)),
        Step::Fetch(target) => format!("fetch it to {}", target_words(target)),
        Step::Deliver(target) => format!("deliver it to {}", target_words(target)),
        Step::Move(target) => format!("move it to {}", target_words(target)),
        Step::Rename { name, .. } => format!("rename it to {name}"),
        Step::Delete => "delete it".to_owned(),
        Step::MakeFolder { place, folder } => format!("make the folder {folder} in {place}"),
        Step::Mail(mail) => {
            let to: Vec<String> = mail.to.iter().map(ToString::to_string).collect();
            let what = match (mail.together, mail.attach.is_empty()) {
                (true, true) => "send one mail about all of a run",
                (true, false) => "mail all of a run",
                (false, true) => "send a mail about it",
                (false, false) => "mail it",
            };
            format!("{what} to {}", joined(&to))
        }
        Step::Call(call) => match call.body {
            CallBody::File => format!("send it to {} ({})", call.url, call.method),
            _ => format!("call {} ({})", call.url, call.method),
        },
        Step::Program(program) => format!("run the program {}", program.run),
        Step::Load(load) => format!("load it into the table {} of {}", load.table, load.into),
        Step::Extract(extract) => format!("extract {} from {}", extract.name, extract.from),
        Step::Note { text } => format!("note \"{text}\""),
        Step::Continue { branch } => format!("go on with branch {}", branch + 1),
        Step::Hold { why } => format!("hold it for a person ({why})"),
    }
}

/// A step with its condition.
fn planned_words(planned: &Planned) -> String {
    match &planned.condition {
        Some(condition) => format!("{} (if {})", step_words(&planned.step), condition.words()),
        None => step_words(&planned.step),
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
