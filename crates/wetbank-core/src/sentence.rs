//! Rules in plain words.

use crate::{Branch, Delivery, IfExists, Original, Rule, Step, Target};

fn joined(words: &[String]) -> String {
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
            let mut to = to.clone();
            to.extend(passphrase.as_ref().map(|_| "a passphrase".to_owned()));
            let signed = sign.as_ref().map(|key| format!(", signed by {key}")).unwrap_or_default();
            format!("encrypt it to {}{signed}", joined(&to))
        }
        Step::Decrypt { signed_by, .. } if signed_by.is_empty() => "decrypt it".to_owned(),
        Step::Decrypt { signed_by, .. } => {
            format!("decrypt it, if signed by {}", signed_by.join(" or "))
        }
        Step::Copy(target) => format!("copy it to {}", target_words(target)),
        Step::Deliver(target) => format!("deliver it to {}", target_words(target)),
        Step::Move(target) => format!("move it to {}", target_words(target)),
        Step::Rename { name, .. } => format!("rename it to {name}"),
        Step::Delete => "delete it".to_owned(),
        Step::Hold { why } => format!("hold it for a person ({why})"),
    }
}

/// A branch in words, without its condition.
pub fn branch_sentence(branch: &Branch) -> String {
    let steps: Vec<String> = branch.steps.iter().map(step_words).collect();
    let original = match &branch.original {
        Original::Stays => String::new(),
        Original::MoveTo(folder) => format!("; then set the original aside in {folder}"),
        Original::Delete => "; then delete the original".to_owned(),
    };
    format!("{}{original}", joined(&steps))
}

/// A whole rule in plain words.
pub fn rule_sentence(rule: &Rule) -> String {
    let arrival = &rule.arrival;
    let what = if arrival.names.is_empty() {
        "a file".to_owned()
    } else {
        let names: Vec<_> = arrival.names.iter().map(|g| g.glob().glob()).collect();
        format!("a file named {}", names.join(" or "))
    };
    let below = if arrival.deep { " or below" } else { "" };
    let folder = if arrival.folder.is_root() { String::new() } else { format!(" › {}", arrival.folder) };
    let mut text = format!("When {what} is complete in {}{folder}{below}", arrival.place);
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
