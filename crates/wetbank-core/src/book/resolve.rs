//! From the book's shape to rules and places: what only meaning can check.

use std::{ops::Range, time::Duration};

use jiff::{Timestamp, tz::TimeZone};
use toml::Spanned;

use super::{
    Book, Known, Problem,
    limits::{resolve_limits, resolve_retry},
    line_of,
    partners::resolve_partner,
    places::resolve_place,
    raw,
    raw::Text,
};
use crate::{
    Arrival, Attribute, Branch, ByteSize, Condition, Delivery, IfExists, LookPace, Marker, Name, Operator, Original,
    Partner, PlaceName, RelPath, Rule, SecretName, Step, Target, Template, Test,
    condition::{glob, regular_expression},
    parse_duration,
};

/// Everything a rule may name.
struct Ends<'a> {
    places: &'a [&'a PlaceName],
    partners: &'a [&'a Partner],
}

type Parsed<'a> = (&'a String, &'a String, raw::Book);

/// A mistake at a place in the text.
pub(super) struct Mistake(pub Range<usize>, pub String);

pub(super) type Checked<T> = Result<T, Mistake>;

pub(super) trait At<T> {
    fn at(self, text: &Text) -> Checked<T>;
}

impl<T, E: ToString> At<T> for Result<T, E> {
    fn at(self, text: &Text) -> Checked<T> {
        self.map_err(|e| Mistake(text.0.span(), e.to_string()))
    }
}

impl Text {
    pub(super) fn str(&self) -> &str {
        self.0.as_ref()
    }
}

pub(super) fn resolve(files: &[Parsed<'_>], known: &Known, problems: &mut Vec<Problem>) -> Book {
    let mut book = Book::default();
    let mut note = |file: &str, text: &str, key: String, Mistake(span, message): Mistake| {
        problems.push(Problem { file: file.to_owned(), line: line_of(text, span.start), key, message });
    };
    let mut places = Vec::new();
    let mut rules = Vec::new();
    for (number, (file, text, raw)) in files.iter().enumerate() {
        for (name, place) in &raw.place {
            let key = format!("place.{name}");
            match Name::new(name)
                .map_err(|e| Mistake(place.span(), e.to_string()))
                .and_then(|name| Ok((name, resolve_place(place)?, resolve_limits(place.as_ref())?)))
            {
                Ok((name, spec, limits)) => {
                    if !limits.is_none() {
                        book.limits.insert(name.clone(), limits);
                    }
                    places.push((number, place.span().start, (name, spec)));
                }
                Err(mistake) => note(file, text, key, mistake),
            }
        }
    }
    places.sort_by_key(|(number, start, _)| (*number, *start));
    book.places = places.into_iter().map(|(_, _, place)| place).collect();
    let mut names: Vec<&PlaceName> = book.places.iter().map(|(name, _)| name).chain(&known.places).collect();
    // A place that was written but is wrong itself is no unknown place.
    let written: Vec<Name> =
        files.iter().flat_map(|f| f.2.place.keys()).filter_map(|name| Name::new(name).ok()).collect();
    names.extend(&written);
    // A partner that is wrong itself is no unknown one for the rules that name it.
    let mut wrong = Vec::new();
    for (file, text, raw) in files {
        for (name, partner) in &raw.partner {
            match resolve_partner(name, partner, &names) {
                Ok(partner) => book.partners.push(partner),
                Err(mistake) => {
                    wrong.push(format!("unknown partner \"{name}\""));
                    note(file, text, format!("partner.{name}"), mistake);
                }
            }
        }
    }
    let mut partners: Vec<&Partner> = known.partners.iter().collect();
    partners.retain(|partner| !book.partners.iter().any(|new| new.name == partner.name));
    partners.extend(&book.partners);
    let ends = Ends { places: &names, partners: &partners };
    for (number, (file, text, raw)) in files.iter().enumerate() {
        for (name, rule) in &raw.rule {
            let key = format!("rule.{name}");
            match resolve_rule(name, rule, &ends) {
                Ok(rule_) => rules.push((number, rule.span().start, rule_)),
                Err(Mistake(_, words)) if wrong.iter().any(|partner| words.starts_with(partner)) => {}
                Err(mistake) => note(file, text, key, mistake),
            }
        }
    }
    rules.sort_by_key(|(number, start, _)| (*number, *start));
    book.rules = rules.into_iter().map(|(_, _, rule)| rule).collect();
    book
}

pub(super) fn secret_name(text: &Text) -> Checked<SecretName> {
    Name::new(text.str()).at(text)
}

pub(super) fn place_name(text: &Text, known: &[&PlaceName]) -> Checked<PlaceName> {
    match known.iter().find(|name| name.as_str() == text.str()) {
        Some(name) => Ok((*name).clone()),
        None => Err(unknown("place", text, known.iter().map(|name| name.as_str()))),
    }
}

fn unknown<'a>(kind: &str, text: &Text, known: impl Iterator<Item = &'a str>) -> Mistake {
    let nearest = known
        .map(|name| (strsim::damerau_levenshtein(name, text.str()), name))
        .min()
        .filter(|(distance, _)| *distance <= 4)
        .map(|(_, name)| format!("; did you mean \"{name}\"?"))
        .unwrap_or_else(|| format!("; add [{kind}.{}] to the book", text.str()));
    Mistake(text.0.span(), format!("unknown {kind} \"{}\"{nearest}", text.str()))
}

pub(super) fn time_zone(text: &Text) -> Checked<TimeZone> {
    TimeZone::get(text.str())
        .map_err(|_| format!("unknown time zone \"{}\"; write it as in \"Europe/London\"", text.str()))
        .at(text)
}

fn template(text: Option<&Text>, default: &str) -> Checked<Template> {
    match text {
        Some(text) => Template::new(text.str()).at(text),
        None => Template::new(default).map_err(|e| Mistake(0..0, e.to_string())),
    }
}

/// Folders and names without placeholders are checked now, not when the first file comes.
pub(super) fn folder_template(text: Option<&Text>, default: &str) -> Checked<Template> {
    let template = template(text, default)?;
    if let Some(text) = text.filter(|_| template.is_plain()) {
        RelPath::parse(text.str()).at(text)?;
    }
    Ok(template)
}

pub(super) fn duration(text: Option<&Text>, default: Duration) -> Checked<Duration> {
    text.map_or(Ok(default), |text| parse_duration(text.str()).at(text))
}

fn marker(text: &Text) -> Checked<Marker> {
    Marker::new(text.str()).at(text)
}

fn resolve_rule(name: &str, spanned: &Spanned<raw::Rule>, ends: &Ends<'_>) -> Checked<Rule> {
    let raw = spanned.as_ref();
    let raw::Starts::Arrival(starts) = &raw.starts;
    let case_sensitive = starts.case == raw::Case::Exact;
    let globs =
        |list: &[Text]| list.iter().map(|text| glob(text.str(), case_sensitive).at(text)).collect::<Checked<Vec<_>>>();
    let arrival = Arrival {
        place: place_name(&starts.place, ends.places)?,
        folder: starts.folder.as_ref().map_or(Ok(RelPath::root()), |t| RelPath::parse(t.str()).at(t))?,
        names: globs(&starts.names)?,
        except: globs(&starts.except)?,
        deep: starts.below,
        settle: duration(starts.settle.as_ref(), Duration::ZERO)?,
        marker: starts.marker.as_ref().map(marker).transpose()?,
        pace: match &starts.look_every {
            None => LookPace::Adaptive,
            text => LookPace::Every(duration(text.as_ref(), Duration::ZERO)?.max(Duration::from_millis(100))),
        },
        own_results: starts.own_results,
    };
    let zone = match &raw.zone {
        Some(text) => time_zone(text)?,
        None => TimeZone::UTC,
    };
    let retry = raw.retry.as_ref().map(resolve_retry).transpose()?;
    let raw_branches = raw.branch.as_ref();
    if raw_branches.is_empty() {
        return Err(Mistake(spanned.span(), "has no branch; add [[rule.NAME.branch]] with steps".to_owned()));
    }
    let mut branches = Vec::new();
    for (index, branch) in raw_branches.iter().enumerate() {
        if branch.condition.is_none() && index + 1 < raw_branches.len() {
            return Err(Mistake(
                branch.steps.first().map_or(raw.branch.span(), Spanned::span),
                format!(
                    "branch {} has no \"if\", so branch {} is never reached; put the default last",
                    index + 1,
                    index + 2
                ),
            ));
        }
        branches.push(resolve_branch(branch, raw.branch.span(), &arrival, ends)?);
    }
    Ok(Rule {
        name: Name::new(name).map_err(|e| Mistake(spanned.span(), e.to_string()))?,
        title: raw.title.clone().unwrap_or_else(|| name.to_owned()),
        why: raw.why.clone(),
        zone,
        arrival,
        branches,
        retry,
    })
}

fn resolve_branch(raw: &raw::Branch, span: Range<usize>, arrival: &Arrival, ends: &Ends<'_>) -> Checked<Branch> {
    if raw.steps.is_empty() {
        return Err(Mistake(span, "a branch has no steps; to leave a file alone use hold, or no branch".to_owned()));
    }
    let mut steps = Vec::new();
    let mut gone: Option<&'static str> = None;
    for spanned in &raw.steps {
        let step = resolve_step(spanned, arrival, ends)?;
        if let Some(earlier) = gone {
            return Err(Mistake(
                spanned.span(),
                format!("nothing can follow \"{earlier}\" in a branch, the file is gone then"),
            ));
        }
        if matches!(step, Step::Delete | Step::Hold { .. }) {
            gone = Some(step.kind());
        }
        // What a partner wants sealed is sealed unless the rule did that itself just before.
        if let raw::Step::Deliver(raw::Deliver { partner: Some(text), .. }) = spanned.as_ref()
            && !matches!(steps.last(), Some(Step::Encrypt { .. }))
        {
            steps.push(sealed_for(partner(text, ends)?.1)?);
        }
        steps.push(step);
    }
    let original = match &raw.original {
        None | Some(raw::Original::Stays) => Original::Stays,
        Some(raw::Original::Delete) => Original::Delete,
        Some(raw::Original::MoveTo(text)) => Original::MoveTo(folder_template(Some(text), "")?),
    };
    let consumed = steps.iter().find(|step| matches!(step, Step::Delete | Step::Hold { .. }));
    if let (Some(step), true) = (consumed, original != Original::Stays) {
        return Err(Mistake(
            raw.steps.last().map_or(span, Spanned::span),
            format!("\"{}\" already says what becomes of the original; leave out \"original\"", step.kind()),
        ));
    }
    let condition = raw.condition.as_ref().map(|c| resolve_condition(c, span_of(raw))).transpose()?;
    Ok(Branch {
        title: raw
            .title
            .clone()
            .unwrap_or_else(|| condition.as_ref().map_or_else(|| "Anything else".to_owned(), Condition::words)),
        condition,
        steps,
        original,
    })
}

fn span_of(branch: &raw::Branch) -> Range<usize> {
    branch.steps.first().map_or(0..0, Spanned::span)
}

fn resolve_step(spanned: &Spanned<raw::Step>, arrival: &Arrival, ends: &Ends<'_>) -> Checked<Step> {
    let target = |raw: &raw::Target| {
        let place = match &raw.to {
            Some(text) => place_name(text, ends.places)?,
            None => arrival.place.clone(),
        };
        let folder = match (&raw.folder, &raw.to) {
            (None, None) => {
                return Err(Mistake(spanned.span(), "needs \"to\" (a place), \"folder\", or both".to_owned()));
            }
            (folder, _) => folder_template(folder.as_ref(), "")?,
        };
        Ok(Target {
            place,
            folder,
            name: folder_template(raw.name.as_ref(), "{{ file.name }}")?,
            exists: raw.exists.unwrap_or(IfExists::Refuse),
            quiet: None,
            partner: None,
        })
    };
    Ok(match spanned.as_ref() {
        raw::Step::Encrypt(raw) => {
            if raw.to.is_empty() && raw.passphrase.is_none() {
                return Err(Mistake(
                    spanned.span(),
                    "encrypt needs \"to\" with the names of keys, or a passphrase = { secret = \"…\" }".to_owned(),
                ));
            }
            let ending = if raw.armour { "{{ file.name }}.asc" } else { "{{ file.name }}.pgp" };
            Step::Encrypt {
                to: raw.to.clone(),
                passphrase: raw.passphrase.as_ref().map(|p| secret_name(&p.secret)).transpose()?,
                sign: raw.sign.clone(),
                armour: raw.armour,
                name: folder_template(raw.name.as_ref(), ending)?,
            }
        }
        raw::Step::Decrypt(raw) => Step::Decrypt {
            passphrase: raw.passphrase.as_ref().map(|p| secret_name(&p.secret)).transpose()?,
            signed_by: raw.signed_by.clone(),
            name: folder_template(
                raw.name.as_ref(),
                "{% if file.extension in [\"pgp\", \"gpg\", \"asc\"] %}{{ file.stem }}{% else %}{{ file.name }}.plain{% endif %}",
            )?,
        },
        raw::Step::Copy(raw) => Step::Copy(target(raw)?),
        raw::Step::Deliver(raw) => match &raw.partner {
            Some(text) => Step::Deliver(to_partner(text, raw, ends)?),
            None => {
                let raw::Deliver { to, folder, name, exists, .. } = raw;
                let (to, folder, name) = (to.clone(), folder.clone(), name.clone());
                Step::Deliver(target(&raw::Target { to, folder, name, exists: *exists })?)
            }
        },
        raw::Step::Move(raw) => Step::Move(target(raw)?),
        raw::Step::Rename(raw) => {
            Step::Rename { name: folder_template(Some(&raw.name), "")?, exists: raw.exists.unwrap_or(IfExists::Refuse) }
        }
        raw::Step::Delete(_) => Step::Delete,
        raw::Step::Hold(raw) => Step::Hold { why: raw.why.clone() },
    })
}

fn partner<'a>(text: &Text, ends: &Ends<'a>) -> Checked<(&'a Partner, &'a Delivery)> {
    let Some(partner) = ends.partners.iter().find(|partner| partner.name.as_str() == text.str()) else {
        return Err(unknown("partner", text, ends.partners.iter().map(|partner| partner.name.as_str())));
    };
    match &partner.delivery {
        Some(delivery) => Ok((partner, delivery)),
        None => {
            let words = format!("partner \"{}\" has no delivery = {{ to = \"…\" }} in the book", partner.name);
            Err(Mistake(text.0.span(), words))
        }
    }
}

/// The partner's standing form, but for what the rule itself says.
fn to_partner(text: &Text, raw: &raw::Deliver, ends: &Ends<'_>) -> Checked<Target> {
    let (receiver, delivery) = partner(text, ends)?;
    if let Some(to) = &raw.to {
        let words = "a delivery goes to a partner or to a place; leave out \"to\" or \"partner\"";
        return Err(Mistake(to.0.span(), words.to_owned()));
    }
    let or = |text: &Option<Text>, form: &Template| {
        text.as_ref().map_or_else(|| Ok(form.clone()), |text| folder_template(Some(text), ""))
    };
    Ok(Target {
        place: delivery.to.clone(),
        folder: or(&raw.folder, &delivery.folder)?,
        name: or(&raw.name, &delivery.name)?,
        exists: raw.exists.unwrap_or(delivery.exists),
        quiet: delivery.quiet.clone(),
        partner: Some(receiver.name.clone()),
    })
}

/// The step that seals what goes to a partner. It is there also when the partner wants nothing
/// sealed, so that a change of that wish moves no other step of files that are at work.
fn sealed_for(delivery: &Delivery) -> Checked<Step> {
    let ending = if delivery.armour { "{{ file.name }}.asc" } else { "{{ file.name }}.pgp" };
    Ok(Step::Encrypt {
        to: delivery.encrypt_to.clone(),
        passphrase: None,
        sign: delivery.sign.clone(),
        armour: delivery.armour,
        name: template(None, ending)?,
    })
}

fn resolve_condition(raw: &raw::Condition, near: Range<usize>) -> Checked<Condition> {
    let group = |parts: &[raw::Condition]| {
        parts.iter().map(|part| resolve_condition(part, near.clone())).collect::<Checked<Vec<_>>>()
    };
    let groups = [raw.all.is_some(), raw.any.is_some(), raw.none.is_some(), raw.file.is_some()];
    if groups.iter().filter(|there| **there).count() != 1 {
        return Err(Mistake(near, "a condition has exactly one of \"all\", \"any\", \"none\" and \"file\"".to_owned()));
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
    let Some(file) = &raw.file else { return Err(Mistake(near, "a condition needs \"file\"".to_owned())) };
    let attribute = *file.as_ref();
    let operators = operators(raw, attribute, file.span())?;
    let [operator] = <[Operator; 1]>::try_from(operators).map_err(|list| {
        let message = if list.is_empty() {
            "a test needs a comparison, as in starts-with = \"assay-\" or under = \"200 MB\""
        } else {
            "a test has one comparison; join several with \"all\""
        };
        Mistake(file.span(), message.to_owned())
    })?;
    Ok(Condition::Test(Test { attribute, operator, case_sensitive: raw.case == raw::Case::Exact }))
}

fn operators(raw: &raw::Condition, attribute: Attribute, span: Range<usize>) -> Checked<Vec<Operator>> {
    let mut found = Vec::new();
    let exact = raw.case == raw::Case::Exact;
    let is_text = !matches!(attribute, Attribute::Size | Attribute::Modified | Attribute::Age);
    let unfit = |what: &str| Mistake(span.clone(), format!("{what} cannot be asked of this attribute"));
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
        if attribute != Attribute::Folder {
            return Err(unfit("\"within\""));
        }
        found.push(Operator::Within(RelPath::parse(t.str()).at(t)?));
    }
    for (t, is_under) in raw.under.iter().map(|t| (t, true)).chain(raw.over.iter().map(|t| (t, false))) {
        found.push(match (attribute, is_under) {
            (Attribute::Size, true) => Operator::SmallerThan(t.str().parse::<ByteSize>().at(t)?),
            (Attribute::Size, false) => Operator::LargerThan(t.str().parse::<ByteSize>().at(t)?),
            (Attribute::Age, true) => Operator::YoungerThan(parse_duration(t.str()).at(t)?),
            (Attribute::Age, false) => Operator::OlderThan(parse_duration(t.str()).at(t)?),
            _ => return Err(unfit("\"under\" or \"over\"")),
        });
    }
    for (t, is_before) in raw.before.iter().map(|t| (t, true)).chain(raw.after.iter().map(|t| (t, false))) {
        if attribute != Attribute::Modified {
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
