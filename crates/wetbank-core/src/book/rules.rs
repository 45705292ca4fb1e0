//! From the book's shape to rules: what starts them and what they look for.

use std::time::Duration;

use jiff::tz::TimeZone;
use toml::Spanned;

use super::{
    accounts::{partner_name, resolve_of_account},
    branches::{Around, resolve_branch},
    limits::resolve_retry,
    raw,
    schedules::resolve_schedule,
};
use crate::{
    Arrival, Arrives, ByteSize, Chain, Find, Gather, Letter, LookPace, Marker, Name, OnFault, Original, PlaceName,
    RelPath, Rule, Selection, Signal, Starts, Template,
    condition::glob,
    shape::{
        At, Case, Checked, Ends, Mistake, Text, duration, folder_template, group, holds, place_name, size, template,
        time_zone, unknown,
    },
    step::StepShape,
};

/// The folder of a mailbox that letters come into (RFC 3501, section 5.1).
const INBOX: &str = "INBOX";
/// What is taken out of a letter at most, unless the book says otherwise.
const LETTER: ByteSize = ByteSize(1_000_000_000);
/// A shorter time without files says nothing.
const SHORTEST_QUIET: Duration = Duration::from_secs(3);
/// Files that wait for each other at most.
const MOST_TOGETHER: usize = 10_000;

pub(super) fn resolve_rule(name: &str, spanned: &Spanned<raw::Rule>, ends: &Ends<'_>) -> Checked<Rule> {
    let raw = spanned.as_ref();
    group(raw.group.as_ref())?;
    let zone = match &raw.zone {
        Some(text) => time_zone(text)?,
        None => TimeZone::UTC,
    };
    let starts = raw.starts.as_ref();
    let has_trigger = [
        starts.arrival.is_some(),
        starts.schedule.is_some(),
        starts.chain.is_some(),
        starts.signal.is_some(),
        starts.mail.is_some(),
        starts.account.is_some(),
        starts.hand.is_some(),
    ];
    if !has_trigger.contains(&true) {
        let words = "starts needs a trigger: arrival, mail, account, schedule, signal or chain = { … }, or hand = {} for a rule that only people start";
        return Err(Mistake::missing(raw.starts.span(), words.to_owned()));
    }
    let arrival = match (&starts.arrival, &starts.mail) {
        (Some(_), Some(_)) => {
            let words = "a rule starts with files that come or with letters that come; make two rules, and let one start the other with chain";
            return Err(Mistake::new(raw.starts.span(), words.to_owned()));
        }
        (Some(raw), None) => Some(resolve_arrival(raw, ends)?),
        (None, Some(raw)) => Some(resolve_letters(raw, ends)?),
        (None, None) => None,
    };
    let signal = starts
        .signal
        .as_ref()
        .map(|raw| Ok(Signal { secret: Name::new(raw.secret.str()).at(&raw.secret)? }))
        .transpose()?;
    let schedule = starts.schedule.as_ref().map(|raw| resolve_schedule(raw, &zone, ends)).transpose()?;
    let chain = starts.chain.as_ref().map(|raw| resolve_chain(name, raw, ends)).transpose()?;
    let account = starts.account.as_ref().map(|raw| resolve_of_account(raw, ends)).transpose()?;
    let mut finds = raw.finds.iter().map(|raw| resolve_find(raw, ends)).collect::<Checked<Vec<_>>>()?;
    match &arrival {
        // What arrives is also what there is to find.
        Some(arrival) if finds.is_empty() => finds.push(swept(arrival)?),
        _ => {}
    }
    // A run that no file began and that looks for none begins without one.
    let has_file = chain.is_some() || account.as_ref().is_some_and(|of| of.on.iter().all(|event| event.is_of_file()));
    let begins_bare = finds.is_empty() && (schedule.is_some() || signal.is_some() || !has_file);
    let retry = raw.retry.as_ref().map(resolve_retry).transpose()?;
    let raw_branches = raw.branch.as_ref();
    if raw_branches.is_empty() {
        return Err(Mistake::missing(spanned.span(), "has no branch; add [[rule.NAME.branch]] with steps".to_owned()));
    }
    let source: Option<PlaceName> =
        arrival.as_ref().map(|a| &a.files.place).or_else(|| finds.first().map(|f| &f.files.place)).cloned();
    let mut branches = Vec::new();
    for (index, branch) in raw_branches.iter().enumerate() {
        if branch.condition.is_none() && index + 1 < raw_branches.len() && !is_handed_to(raw_branches, index + 1) {
            return Err(Mistake::missing(
                branch.steps.first().map_or(raw.branch.span(), Spanned::span),
                format!(
                    "branch {} has no \"if\", so branch {} is never reached; put the default last",
                    index + 1,
                    index + 2
                ),
            ));
        }
        let titles = raw_branches.iter().map(|branch| branch.title.as_deref()).collect();
        let around = Around { source: source.as_ref(), titles, index, ends, begins_bare };
        branches.push(resolve_branch(branch, raw.branch.span(), &around)?);
    }
    let has_letters = arrival.as_ref().is_some_and(|arrival| arrival.letter.is_some());
    if let Some(branch) = branches.iter().position(|branch| has_letters && branch.original != Original::Stays) {
        let words =
            "an attachment has no original of its own; where its letter goes says file-in = \"…\" of the trigger";
        let near = raw_branches[branch].steps.first().map_or(raw.branch.span(), Spanned::span);
        return Err(Mistake::new(near, words.to_owned()));
    }
    Ok(Rule {
        name: Name::new(name).map_err(|e| Mistake::new(spanned.span(), e.to_string()))?,
        title: raw.title.clone().unwrap_or_else(|| name.to_owned()),
        why: raw.why.clone(),
        zone,
        starts: Starts { arrival, schedule, chain, signal, account },
        finds,
        branches,
        retry,
        fault: raw.on_fault.unwrap_or(OnFault::Wait),
        brake: raw.brake.as_ref().map(|brake| brake.files),
        limit: raw.limit.as_ref().map(|text| duration(Some(text), Duration::ZERO)).transpose()?,
    })
}

/// Whether an earlier branch hands files to this one, so that it is reached although another
/// one before it takes everything.
fn is_handed_to(branches: &[raw::Branch], index: usize) -> bool {
    let Some(title) = branches[index].title.as_deref() else { return false };
    fn hands(steps: &[Spanned<StepShape>], title: &str) -> bool {
        steps.iter().map(Spanned::as_ref).any(|step| {
            step.Continue.as_ref().is_some_and(|to| to.branch.str() == title)
                || step.on_failure.as_ref().is_some_and(|path| hands(path, title))
        })
    }
    branches[..index].iter().any(|branch| hands(&branch.steps, title))
}

fn resolve_chain(own: &str, raw: &raw::Chain, ends: &Ends<'_>) -> Checked<Chain> {
    let rule = |text: &Text<holds::RuleName>| {
        if text.str() == own {
            return Err(Mistake::new(text.0.span(), "a rule is not started by itself".to_owned()));
        }
        match ends.rules.iter().find(|name| name.as_str() == text.str()) {
            Some(name) => Ok(name.clone()),
            None => Err(unknown("rule", text, ends.rules.iter().map(Name::as_str))),
        }
    };
    let places = |list: &[Text<holds::PlaceName>]| {
        list.iter().map(|text| place_name(text, ends.places)).collect::<Checked<Vec<_>>>()
    };
    Ok(Chain {
        after: raw.after.clone(),
        rules: raw.rules.iter().map(rule).collect::<Checked<_>>()?,
        from: places(&raw.from)?,
        to: places(&raw.to)?,
        partners: raw.partners.iter().map(|text| partner_name(text, ends.partners)).collect::<Checked<_>>()?,
    })
}

fn resolve_letters(raw: &raw::Letters, ends: &Ends<'_>) -> Checked<Arrival> {
    let folder = raw
        .folder
        .as_ref()
        .map_or(Ok(RelPath::parse(INBOX).expect("a plain name")), |text| RelPath::parse(text.str()).at(text))?;
    let file_in = raw.file_in.as_ref().map(|text| RelPath::parse(text.str()).at(text)).transpose()?;
    if let Some(text) = raw.file_in.as_ref().filter(|_| file_in.as_ref() == Some(&folder)) {
        return Err(Mistake::new(
            text.0.span(),
            "letters are filed away in another folder than they come into".to_owned(),
        ));
    }
    Ok(Arrival {
        files: Selection {
            place: place_name(&raw.place, ends.places)?,
            names: Vec::new(),
            except: Vec::new(),
            deep: false,
        },
        folder,
        settle: Duration::ZERO,
        marker: None,
        pace: pace(raw.look_every.as_ref())?,
        own_results: false,
        of: Arrives { new: true, changed: false, gone: false },
        gather: None,
        letter: Some(Letter {
            names: globs(&raw.names, raw.case)?,
            except: globs(&raw.except, raw.case)?,
            most: size(raw.most.as_ref(), LETTER)?,
            file_in,
        }),
    })
}

pub(super) fn pace(text: Option<&Text<holds::Duration>>) -> Checked<LookPace> {
    Ok(match text {
        None => LookPace::Adaptive,
        text => LookPace::Every(duration(text, Duration::ZERO)?.max(Duration::from_millis(100))),
    })
}

fn gather(raw: &raw::Gather) -> Checked<Gather> {
    Ok(match raw {
        raw::Gather::Quiet(text) => match duration(Some(text), Duration::ZERO)? {
            quiet if quiet < SHORTEST_QUIET => {
                let words = "quiet is 3 s or longer: a file that nobody was seen closing takes 2 s itself";
                return Err(Mistake::new(text.0.span(), words.to_owned()));
            }
            quiet => Gather::Quiet(quiet),
        },
        raw::Gather::Count(count) if (1..=MOST_TOGETHER).contains(count.as_ref()) => Gather::Count(*count.as_ref()),
        raw::Gather::Count(count) => {
            return Err(Mistake::new(count.span(), format!("from 1 to {MOST_TOGETHER} files wait for each other")));
        }
        raw::Gather::Marker(text) => {
            let name = RelPath::parse(text.str()).at(text)?;
            if name.is_root() || text.str().contains('/') {
                return Err(Mistake::new(text.0.span(), "a marker is a name, as in \"ready.txt\"".to_owned()));
            }
            Gather::Marker(text.str().to_owned())
        }
        raw::Gather::OneOfEach(list) => Gather::Set(globs(list, Case::Exact)?),
    })
}

pub(super) fn globs<H>(list: &[Text<H>], case: Case) -> Checked<Vec<globset::GlobMatcher>> {
    list.iter().map(|text| glob(text.str(), case == Case::Exact).at(text)).collect()
}

fn resolve_arrival(raw: &raw::Arrival, ends: &Ends<'_>) -> Checked<Arrival> {
    Ok(Arrival {
        files: Selection {
            place: place_name(&raw.place, ends.places)?,
            names: globs(&raw.names, raw.case)?,
            except: globs(&raw.except, raw.case)?,
            deep: raw.below,
        },
        folder: raw.folder.as_ref().map_or(Ok(RelPath::root()), |t| RelPath::parse(t.str()).at(t))?,
        settle: duration(raw.settle.as_ref(), Duration::ZERO)?,
        marker: raw.marker.as_ref().map(|text| Marker::new(text.str()).at(text)).transpose()?,
        pace: pace(raw.look_every.as_ref())?,
        own_results: raw.own_results,
        of: raw.of.as_ref().map_or(Arrives::default(), |of| {
            let has = |one| of.contains(&one);
            Arrives { new: has(raw::Of::New), changed: has(raw::Of::Changed), gone: has(raw::Of::Gone) }
        }),
        gather: raw.gather.as_ref().map(gather).transpose()?,
        letter: None,
    })
}

/// What an arrival watches for, looked for at once.
fn swept(arrival: &Arrival) -> Checked<Find> {
    // A folder's own braces are no placeholders.
    let folder = arrival.folder.to_string();
    let source = if folder.contains('{') { format!("{{{{ {} }}}}", serde_json::Value::from(folder)) } else { folder };
    Ok(Find {
        files: arrival.files.clone(),
        folder: Template::new(&source).map_err(|e| Mistake::new(0..0, e.to_string()))?,
        named: Vec::new(),
        case_sensitive: true,
        only_new: true,
        least: 0,
        is_arrival: true,
    })
}

/// Before a run has its files, nothing that tells of one can be filled in.
fn known_before<H>(text: &Text<H>) -> Checked<()> {
    let template = template(Some(text), "")?;
    match ["file", "run.id", "fault"].into_iter().find(|word| template.mentions(word)) {
        Some(word) => Err(text.wrong(format!("{{{{ {word} }}}} is not known yet when a run looks for its files"))),
        None => Ok(()),
    }
}

fn resolve_find(raw: &raw::Find, ends: &Ends<'_>) -> Checked<Find> {
    let (fixed, filled): (Vec<_>, Vec<_>) = raw.names.iter().cloned().partition(|name| !name.str().contains("{{"));
    filled.iter().try_for_each(known_before)?;
    raw.folder.iter().try_for_each(known_before)?;
    Ok(Find {
        files: Selection {
            place: place_name(&raw.place, ends.places)?,
            names: globs(&fixed, raw.case)?,
            except: globs(&raw.except, raw.case)?,
            deep: raw.below,
        },
        folder: folder_template(raw.folder.as_ref(), "")?,
        named: filled.iter().map(|text| template(Some(text), "")).collect::<Checked<_>>()?,
        case_sensitive: raw.case == Case::Exact,
        only_new: raw.only_new,
        least: raw.least,
        is_arrival: false,
    })
}
