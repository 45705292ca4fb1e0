//! From the book's shape to conditions.

use std::ops::Range;

use jiff::{Timestamp, tz::TimeZone};
use toml::Spanned;

use super::raw;
use crate::{
    Attribute, ByteSize, Condition, Operator, RelPath, Subject, Test,
    condition::{glob, regular_expression},
    parse_duration,
    shape::{At, Case, Checked, Mistake, Text},
};

pub(super) fn resolve_condition(written: &Spanned<raw::Condition>) -> Checked<Condition> {
    let (raw, near) = (written.as_ref(), written.span());
    let group = |parts: &[Spanned<raw::Condition>]| parts.iter().map(resolve_condition).collect::<Checked<Vec<_>>>();
    let given = [
        raw.all.is_some(),
        raw.any.is_some(),
        raw.none.is_some(),
        raw.file.is_some(),
        raw.run.is_some(),
        raw.chain.is_some(),
        raw.signal.is_some(),
        raw.mail.is_some(),
        raw.account.is_some(),
    ];
    if given.iter().filter(|there| **there).count() != 1 {
        let words = "a condition has exactly one of \"all\", \"any\", \"none\", \"file\", \"run\", \"chain\", \"signal\", \"mail\" and \"account\"";
        return Err(Mistake::new(near, words.to_owned()));
    }
    if let Some(parts) = &raw.all {
        return Ok(Condition::All(group(parts)?));
    }
    if let Some(parts) = &raw.any {
        return Ok(Condition::Any(group(parts)?));
    }
    if let Some(parts) = &raw.none {
        return Ok(Condition::None(group(parts)?));
    }
    let (subject, span) = subject(raw, near.clone())?;
    let operators = operators(raw, &subject, span.clone())?;
    let [operator] = <[Operator; 1]>::try_from(operators).map_err(|list| match list.is_empty() {
        true => {
            Mistake::missing(near, "a test needs a comparison, as in starts-with = \"assay-\" or under = \"200 MB\"")
        }
        false => Mistake::new(span, "a test has one comparison; join several with \"all\""),
    })?;
    Ok(Condition::Test(Test { subject, operator, case_sensitive: raw.case == Case::Exact }))
}

/// What a test looks at, and where that is written.
fn subject(raw: &raw::Condition, near: Range<usize>) -> Checked<(Subject, Range<usize>)> {
    if let Some(file) = &raw.file {
        return Ok((Subject::File(*file.as_ref()), file.span()));
    }
    let given = [
        ("run", &raw.run, &["cause", "event"][..]),
        ("chain", &raw.chain, &["rule", "event", "from", "partner"]),
        ("mail", &raw.mail, &["from", "to", "subject", "date"]),
        ("account", &raw.account, &["name", "partner", "event", "address", "visit"]),
    ];
    for (of, text, words) in given {
        if let Some(text) = text {
            return Ok((Subject::Run(word_of(text, of, words)?), text.0.span()));
        }
    }
    match &raw.signal {
        // What a signal has, only its sender knows.
        Some(text) => Ok((Subject::Run(format!("signal.{}", text.str())), text.0.span())),
        None => Err(Mistake::missing(near, "a condition needs \"file\"".to_owned())),
    }
}

/// What a test can ask of what is known besides the file.
fn word_of(text: &Text, of: &str, words: &[&str]) -> Checked<String> {
    if words.contains(&text.str()) {
        return Ok(format!("{of}.{}", text.str()));
    }
    let list = words.join("\", \"");
    Err(Mistake::new(text.0.span(), format!("there is no \"{}\" of a {of}; there is \"{list}\"", text.str())))
}

fn operators(raw: &raw::Condition, subject: &Subject, span: Range<usize>) -> Checked<Vec<Operator>> {
    let mut found = Vec::new();
    let exact = raw.case == Case::Exact;
    let attribute = match subject {
        Subject::File(attribute) => Some(*attribute),
        Subject::Run(_) => None,
    };
    let is_text = !matches!(attribute, Some(Attribute::Size | Attribute::Modified | Attribute::Age));
    let unfit = |what: &str| Mistake::new(span.clone(), format!("{what} cannot be asked of this attribute"));
    let mut text = |operator: Operator| {
        if !is_text {
            return Err(unfit("a text comparison"));
        }
        found.push(operator);
        Ok(())
    };
    if let Some(list) = &raw.is {
        text(Operator::Is(list.clone().into_list()))?;
    }
    if let Some(list) = &raw.is_not {
        text(Operator::IsNot(list.clone().into_list()))?;
    }
    if let Some(t) = &raw.starts_with {
        text(Operator::StartsWith(t.str().to_owned()))?;
    }
    if let Some(t) = &raw.ends_with {
        text(Operator::EndsWith(t.str().to_owned()))?;
    }
    if let Some(t) = &raw.contains {
        text(Operator::Contains(t.str().to_owned()))?;
    }
    if let Some(t) = &raw.like {
        text(Operator::Glob(Box::new(glob(t.str(), exact).at(t)?)))?;
    }
    if let Some(t) = &raw.matches {
        text(Operator::Matches(regular_expression(t.str(), exact).at(t)?))?;
    }
    if let Some(t) = &raw.within {
        if attribute != Some(Attribute::Folder) {
            return Err(unfit("\"within\""));
        }
        found.push(Operator::Within(RelPath::parse(t.str()).at(t)?));
    }
    for (t, is_under) in raw.under.iter().map(|t| (t, true)).chain(raw.over.iter().map(|t| (t, false))) {
        found.push(match (attribute, is_under) {
            (Some(Attribute::Size), true) => Operator::SmallerThan(t.str().parse::<ByteSize>().at(t)?),
            (Some(Attribute::Size), false) => Operator::LargerThan(t.str().parse::<ByteSize>().at(t)?),
            (Some(Attribute::Age), true) => Operator::YoungerThan(parse_duration(t.str()).at(t)?),
            (Some(Attribute::Age), false) => Operator::OlderThan(parse_duration(t.str()).at(t)?),
            _ => return Err(unfit("\"under\" or \"over\"")),
        });
    }
    for (t, is_before) in raw.before.iter().map(|t| (t, true)).chain(raw.after.iter().map(|t| (t, false))) {
        if attribute != Some(Attribute::Modified) {
            return Err(unfit("\"before\" or \"after\""));
        }
        let time = point_in_time(t)?;
        found.push(if is_before { Operator::Before(time) } else { Operator::After(time) });
    }
    Ok(found)
}

fn point_in_time(text: &Text) -> Checked<Timestamp> {
    let words = text.str();
    words
        .parse::<Timestamp>()
        .ok()
        .or_else(|| words.parse::<jiff::civil::Date>().ok()?.to_zoned(TimeZone::UTC).ok().map(|z| z.timestamp()))
        .ok_or_else(|| format!("\"{words}\" is no date; write it as in \"2026-03-14\" or \"2026-03-14T06:00:00Z\""))
        .at(text)
}
