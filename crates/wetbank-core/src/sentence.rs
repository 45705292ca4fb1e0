//! Rules in plain words.

use crate::{
    Arrival, Branch, Chain, Delivery, Find, Gather, Letter, Name, OfAccount, Original, Planned, Rule, Selection,
    Target, Telling, format_duration,
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

/// Of which part of a rule something is said. Steps count as the book has them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PhraseOf {
    /// What starts it, and which files it looks for.
    Starts,
    /// A branch: which files it takes.
    Branch(usize),
    /// A step of a branch.
    Step(usize, usize),
    /// What becomes of the original in a branch.
    Original(usize),
}

/// A piece of a rule's sentence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Phrase {
    /// Its words.
    pub text: String,
    /// Of what they are; nothing for what only joins them.
    pub of: Option<PhraseOf>,
}

fn phrase(of: PhraseOf, text: String) -> Phrase {
    Phrase { text, of: Some(of) }
}

fn joint(text: &str) -> Phrase {
    Phrase { text: text.to_owned(), of: None }
}

/// A branch piece by piece, without its condition and its failure paths.
fn branch_phrases(branch: &Branch, at: usize) -> Vec<Phrase> {
    let main = &branch.steps[..branch.main];
    let (mut phrases, mut step) = (Vec::new(), 0);
    for (number, planned) in main.iter().enumerate() {
        if number > 0 {
            phrases.push(joint(if number + 1 == main.len() { " and " } else { ", " }));
        }
        let of = (!planned.is_wished).then_some(PhraseOf::Step(at, step));
        step += usize::from(!planned.is_wished);
        phrases.push(Phrase { text: planned_words(planned), of });
    }
    let original = match &branch.original {
        Original::Stays => return phrases,
        Original::MoveTo(folder) => format!("set the original aside in {folder}"),
        Original::Delete => "delete the original".to_owned(),
        Original::Mark(name) => format!("mark the original with {name}"),
    };
    phrases.extend([joint("; then "), phrase(PhraseOf::Original(at), original)]);
    phrases
}

fn said(phrases: &[Phrase]) -> String {
    phrases.iter().map(|phrase| phrase.text.as_str()).collect()
}

/// A branch in words, without its condition and its failure paths.
pub fn branch_sentence(branch: &Branch) -> String {
    said(&branch_phrases(branch, 0))
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

fn account_words(of: &OfAccount) -> String {
    let names = |list: &[Name]| list.iter().map(Name::as_str).collect::<Vec<_>>().join(" or ");
    let who = match (&of.accounts[..], &of.partners[..]) {
        ([], []) => "a partner's account".to_owned(),
        ([], partners) => format!("an account of {}", names(partners)),
        (accounts, _) => format!("the account {}", names(accounts)),
    };
    let did = of.on.iter().map(|event| event.words()).collect::<Vec<_>>().join(" or ");
    let named: Vec<&str> = of.names.iter().map(|glob| glob.glob().glob()).collect();
    let named = if named.is_empty() { String::new() } else { format!(" named {}", named.join(" or ")) };
    let folder = if of.folder.is_root() { String::new() } else { format!(" in the folder {}", of.folder) };
    let together = if of.together.is_some() { ", all of a visit together" } else { "" };
    format!("when {who} {did}{named}{folder}{together}")
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
    starts.extend(rule.starts.account.iter().map(account_words));
    if starts.is_empty() {
        starts.push(format!("when a person starts it{}", finds()));
    }
    let words = starts.join("; and ");
    let mut letters = words.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

/// A whole rule in plain words.
pub fn rule_sentence(rule: &Rule) -> String {
    said(&rule_phrases(rule))
}

/// The same piece by piece, each with the part of the rule that it tells.
pub fn rule_phrases(rule: &Rule) -> Vec<Phrase> {
    let mut phrases = vec![phrase(PhraseOf::Starts, starts_words(rule))];
    for (at, branch) in rule.branches.iter().enumerate() {
        let of = |text: String| phrase(PhraseOf::Branch(at), text);
        match (&branch.condition, at) {
            (None, 0) => phrases.push(joint(", ")),
            (None, _) => phrases.extend([joint(" "), of("Anything else".to_owned()), joint(": ")]),
            (Some(condition), 0) => phrases.extend([joint(", and "), of(condition.words()), joint(": ")]),
            (Some(condition), _) => phrases.extend([joint(" If "), of(condition.words()), joint(": ")]),
        }
        phrases.extend(branch_phrases(branch, at));
        phrases.push(joint("."));
    }
    phrases
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Known, parse_book};

    #[test]
    fn a_sentence_is_its_phrases_and_each_leads_to_its_part_as_the_book_counts_them() {
        let text = "[partner.skerrow]\nkeys = [\"skerrow\"]\ndelivery = { to = \"office\", encrypt = true }\n\
            [rule.keep]\nstarts = { hand = {} }\nfinds = [ { place = \"office\" } ]\n\
            [[rule.keep.branch]]\nif = { file = \"name\", starts-with = \"a\" }\n\
            steps = [ { note = { text = \"x\" } }, { deliver = { partner = \"skerrow\" } } ]\noriginal = \"delete\"\n\
            [[rule.keep.branch]]\nsteps = [ { hold = { why = \"?\" } } ]\n";
        let known = Known { places: vec![Name::new("office").unwrap()], ..Known::default() };
        let rule = parse_book(&[("book".to_owned(), text.to_owned())], &known).unwrap().rules.remove(0);
        let phrases = rule_phrases(&rule);
        assert_eq!(said(&phrases), rule_sentence(&rule));
        let of: Vec<_> = phrases.iter().filter_map(|phrase| phrase.of).collect();
        use PhraseOf::{Branch, Original, Starts, Step};
        assert_eq!(of, [Starts, Branch(0), Step(0, 0), Step(0, 1), Original(0), Branch(1), Step(1, 0)]);
        let wished = phrases.iter().find(|phrase| phrase.text.starts_with("encrypt it")).unwrap();
        assert_eq!(wished.of, None, "what a partner wants stands in no book");
        assert!(rule_sentence(&rule).ends_with("; then delete the original. Anything else: hold it for a person (?)."));
    }
}
