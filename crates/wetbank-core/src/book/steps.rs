//! From the book's shape to branches: steps and their flow.

use std::ops::Range;

use toml::Spanned;

use super::{
    conditions::resolve_condition,
    errands,
    limits::resolve_retry,
    raw,
    raw::Text,
    resolve::{At, Checked, Ends, Mistake, folder_template, place_name, secret_name, template, unknown},
};
use crate::{
    Branch, ByteSize, Compression, Condition, Delivery, IfExists, Most, Next, Original, PackForm, Partner, PlaceName,
    Planned, Step, Target, Template,
};

/// What a branch may know of its rule.
pub(super) struct Around<'a> {
    /// The place that files come from: where a step without "to" stays.
    pub source: Option<&'a PlaceName>,
    /// The titles that branches were given, in their order.
    pub titles: Vec<Option<&'a str>>,
    /// The index of this branch.
    pub index: usize,
    /// Whether its runs begin without a file.
    pub begins_bare: bool,
    pub ends: &'a Ends<'a>,
}

pub(super) fn resolve_branch(raw: &raw::Branch, span: Range<usize>, around: &Around<'_>) -> Checked<Branch> {
    if raw.steps.is_empty() {
        return Err(Mistake(span, "a branch has no steps; to leave a file alone use hold, or no branch".to_owned()));
    }
    let mut flow = Flow { around, steps: Vec::new(), paths: Vec::new() };
    flow.lay(&raw.steps, Next::Original)?;
    let main = flow.steps.len();
    if let Some(mistake) = without_file(raw, around.begins_bare, &flow.steps) {
        return Err(mistake);
    }
    flow.lay_paths()?;
    let steps = flow.steps;
    let original = match &raw.original {
        None | Some(raw::Original::Stays) => Original::Stays,
        Some(raw::Original::Delete) => Original::Delete,
        Some(raw::Original::MoveTo(text)) => Original::MoveTo(folder_template(Some(text), "")?),
        Some(raw::Original::Mark(text)) => Original::Mark(folder_template(Some(text), "")?),
    };
    let consumed = steps[..main].iter().map(|planned| &planned.step).find(|step| ends_the_file(step));
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
        main,
        original,
    })
}

/// A step that would have no file to do something with: the run began without one, or a mail about
/// all files stands where they were.
fn without_file(raw: &raw::Branch, begins_bare: bool, steps: &[Planned]) -> Option<Mistake> {
    let mut has_file = !begins_bare;
    for planned in steps {
        let step = &planned.step;
        if step.needs_file() && !has_file {
            let words = format!(
                "\"{}\" needs a file, and here is none: add finds = [ … ] to the rule, or let extract or a program make one before",
                step.kind()
            );
            return Some(Mistake(span_of(raw), words));
        }
        has_file = match step {
            Step::Mail(mail) if mail.together => false,
            step => has_file || step.makes_file(),
        };
    }
    None
}

fn span_of(branch: &raw::Branch) -> Range<usize> {
    branch.steps.first().map_or(0..0, Spanned::span)
}

fn ends_the_file(step: &Step) -> bool {
    matches!(step, Step::Delete | Step::Hold { .. })
}

/// A failure path that is still to be laid: the steps whose it is, its own, and what follows it.
struct Path<'a> {
    of: Range<usize>,
    steps: &'a [Spanned<raw::Step>],
    next: Next,
}

/// Steps laid out in one row: the way that is meant, then the failure paths.
struct Flow<'a> {
    around: &'a Around<'a>,
    steps: Vec<Planned>,
    paths: Vec<Path<'a>>,
}

impl<'a> Flow<'a> {
    fn lay(&mut self, list: &'a [Spanned<raw::Step>], last: Next) -> Checked<()> {
        let mut gone: Option<&'static str> = None;
        for (at, spanned) in list.iter().enumerate() {
            let raw = spanned.as_ref();
            if let Some(earlier) = gone {
                return Err(Mistake(
                    spanned.span(),
                    format!("nothing can follow \"{earlier}\" in a branch, the file is gone then"),
                ));
            }
            let step = resolve_step(spanned, self.around)?;
            if ends_the_file(&step) || matches!(step, Step::Continue { .. }) {
                gone = raw.condition.is_none().then(|| step.kind());
            }
            let condition = raw.condition.as_ref().map(|c| resolve_condition(c, spanned.span())).transpose()?;
            if step.joins() && (condition.is_some() || last == Next::Failed) {
                let words = format!(
                    "\"{}\" is about all files of a run: it has no \"if\" and is in no failure path",
                    step.kind()
                );
                return Err(Mistake(spanned.span(), words));
            }
            let retry = raw.retry.as_ref().map(resolve_retry).transpose()?;
            let first = self.steps.len();
            let mut push = |step: Step| {
                let next = Next::Step(self.steps.len() + 1);
                let (condition, retry) = (condition.clone(), retry.clone());
                self.steps.push(Planned { step, condition, retry, next, on_failure: None });
            };
            // What a partner wants sealed is sealed unless the rule did that itself just before.
            if let Some(raw::Deliver { partner: Some(text), .. }) = &raw.deliver
                && !(at > 0 && list[at - 1].as_ref().encrypt.is_some())
            {
                push(sealed_for(partner(text, self.around.ends)?.1)?);
            }
            push(step);
            if let Some(path) = &raw.on_failure {
                let end = self.steps.len();
                let next = match raw.then {
                    Some(raw::Then::GoOn) if at + 1 == list.len() => last,
                    Some(raw::Then::GoOn) => Next::Step(end),
                    None | Some(raw::Then::End) => Next::Failed,
                };
                if path.is_empty() && next == Next::Failed {
                    let words = "on-failure has no steps; say then = \"go-on\" to go on as if nothing had happened";
                    return Err(Mistake(spanned.span(), words.to_owned()));
                }
                self.paths.push(Path { of: first..end, steps: path, next });
            } else if raw.then.is_some() {
                return Err(Mistake(spanned.span(), "\"then\" says what follows on-failure = [ … ]".to_owned()));
            }
        }
        if let Some(planned) = self.steps.last_mut() {
            planned.next = last;
        }
        Ok(())
    }

    /// Lays failure paths behind the others, and those that their steps have in turn.
    fn lay_paths(&mut self) -> Checked<()> {
        while !self.paths.is_empty() {
            let Path { of, steps, next } = self.paths.remove(0);
            let begin = self.steps.len();
            if steps.is_empty() {
                // Nothing but going on: a note stands for it, so that the record tells.
                let text = Template::new("{{ fault.step }} failed, going on: {{ fault.why }}");
                let text = text.map_err(|e| Mistake(0..0, e.to_string()))?;
                let step = Step::Note { text };
                self.steps.push(Planned { step, condition: None, retry: None, next, on_failure: None });
            } else {
                self.lay(steps, next)?;
            }
            self.steps[of].iter_mut().for_each(|planned| planned.on_failure = Some(begin));
        }
        Ok(())
    }
}

/// The step of a raw one, of which exactly one kind is given.
fn resolve_step(spanned: &Spanned<raw::Step>, around: &Around<'_>) -> Checked<Step> {
    let raw = spanned.as_ref();
    let ends = around.ends;
    let place_of = |to: Option<&Text>| match (to, around.source) {
        (Some(text), _) => place_name(text, ends.places),
        (None, Some(source)) => Ok(source.clone()),
        (None, None) => Err(Mistake(spanned.span(), "needs \"to\", the name of a place".to_owned())),
    };
    let target = |raw: &raw::Target| {
        let folder = match (&raw.folder, &raw.to) {
            (None, None) => {
                return Err(Mistake(spanned.span(), "needs \"to\" (a place), \"folder\", or both".to_owned()));
            }
            (folder, _) => folder_template(folder.as_ref(), "")?,
        };
        Ok(Target {
            place: place_of(raw.to.as_ref())?,
            folder,
            name: folder_template(raw.name.as_ref(), "{{ file.name }}")?,
            exists: raw.exists.unwrap_or(IfExists::Refuse),
            quiet: None,
            partner: None,
            fit: raw.fit_name,
            sha256: raw.sha256.unwrap_or(true),
        })
    };
    let deliver = |raw: &raw::Deliver| match &raw.partner {
        Some(text) => to_partner(text, raw, ends),
        None => {
            let raw::Deliver { to, folder, name, exists, fit_name, sha256, .. } = raw;
            let (to, folder, name) = (to.clone(), folder.clone(), name.clone());
            target(&raw::Target { to, folder, name, exists: *exists, fit_name: *fit_name, sha256: *sha256 })
        }
    };
    let given = [
        raw.encrypt.as_ref().map(|raw| encrypt(raw, spanned.span())),
        raw.decrypt.as_ref().map(decrypt),
        raw.sign.as_ref().map(errands::sign),
        raw.verify.as_ref().map(|raw| errands::verify(raw, spanned.span())),
        raw.compress.as_ref().map(compress),
        raw.expand.as_ref().map(|raw| {
            Ok(Step::Expand { most: most(raw.most.as_ref())?, name: folder_template(raw.name.as_ref(), EXPANDED)? })
        }),
        raw.pack.as_ref().map(pack),
        raw.unpack.as_ref().map(unpack),
        raw.manifest.as_ref().map(|raw| {
            let name = folder_template(raw.name.as_ref(), MANIFEST)?;
            of_the_run(raw.name.as_ref(), &name)?;
            Ok(Step::Manifest { name })
        }),
        raw.check_manifest
            .as_ref()
            .map(|raw| Ok(Step::CheckManifest { name: folder_template(raw.name.as_ref(), MANIFEST)? })),
        raw.copy.as_ref().map(|raw| target(raw).map(Step::Copy)),
        raw.fetch.as_ref().map(|raw| target(raw).map(Step::Fetch)),
        raw.deliver.as_ref().map(|raw| deliver(raw).map(Step::Deliver)),
        raw.move_to.as_ref().map(|raw| target(raw).map(Step::Move)),
        raw.rename.as_ref().map(|raw| {
            let exists = raw.exists.unwrap_or(IfExists::Refuse);
            Ok(Step::Rename { name: folder_template(Some(&raw.name), "")?, exists })
        }),
        raw.delete.as_ref().map(|_| Ok(Step::Delete)),
        raw.make_folder.as_ref().map(|raw| {
            let folder = folder_template(Some(&raw.folder), "")?;
            Ok(Step::MakeFolder { place: place_of(raw.to.as_ref())?, folder })
        }),
        raw.mail.as_ref().map(|raw| errands::mail(raw, ends)),
        raw.call.as_ref().map(|raw| errands::call(raw, spanned.span())),
        raw.program.as_ref().map(errands::program),
        raw.load.as_ref().map(|raw| errands::load(raw, ends)),
        raw.extract.as_ref().map(|raw| errands::extract(raw, ends, spanned.span())),
        raw.note.as_ref().map(|raw| Ok(Step::Note { text: template(Some(&raw.text), "")? })),
        raw.go_on.as_ref().map(|raw| later_branch(&raw.branch, around)),
        raw.hold.as_ref().map(|raw| Ok(Step::Hold { why: raw.why.clone() })),
    ];
    let mut given = given.into_iter().flatten();
    match (given.next(), given.next()) {
        (Some(step), None) => step,
        (None, _) => {
            Err(Mistake(spanned.span(), "a step says what is done, as in { copy = { to = \"archive\" } }".to_owned()))
        }
        (Some(_), Some(_)) => {
            Err(Mistake(spanned.span(), "a step does one thing; write two steps, each in its own { }".to_owned()))
        }
    }
}

/// A branch goes on in a later one, so that no file goes round in a circle.
fn later_branch(text: &Text, around: &Around<'_>) -> Checked<Step> {
    match around.titles.iter().position(|title| *title == Some(text.str())) {
        Some(branch) if branch > around.index => Ok(Step::Continue { branch }),
        Some(_) => Err(Mistake(
            text.0.span(),
            format!("branch \"{}\" does not come later; a file can only go on to a later branch", text.str()),
        )),
        None => Err(unknown("branch", text, around.titles.iter().flatten().copied())),
    }
}

fn encrypt(raw: &raw::Encrypt, span: Range<usize>) -> Checked<Step> {
    if raw.to.is_empty() && raw.passphrase.is_none() {
        let words = "encrypt needs \"to\" with the names of keys, or a passphrase = { secret = \"…\" }";
        return Err(Mistake(span, words.to_owned()));
    }
    let ending = if raw.armour { "{{ file.name }}.asc" } else { "{{ file.name }}.pgp" };
    Ok(Step::Encrypt {
        to: raw.to.clone(),
        passphrase: raw.passphrase.as_ref().map(|p| secret_name(&p.secret)).transpose()?,
        sign: raw.sign.clone(),
        armour: raw.armour,
        name: folder_template(raw.name.as_ref(), ending)?,
    })
}

/// The usual name of a list of checksums.
const MANIFEST: &str = "SHA256SUMS";
/// What a compressed file was called before.
const EXPANDED: &str =
    "{% if file.extension in [\"gz\", \"zst\"] %}{{ file.stem }}{% else %}{{ file.name }}.expanded{% endif %}";
/// What may come out of an archive, if the rule does not say.
const MOST_FILES: usize = 10_000;
const MOST_BYTES: ByteSize = ByteSize(50_000_000_000);

fn compress(raw: &raw::Compress) -> Checked<Step> {
    let with = raw.with.unwrap_or(Compression::Gzip);
    let ending = match with {
        Compression::Gzip => "{{ file.name }}.gz",
        Compression::Zstd => "{{ file.name }}.zst",
    };
    Ok(Step::Compress { with, name: folder_template(raw.name.as_ref(), ending)? })
}

/// What is made of all files of a run cannot be called after one of them.
fn of_the_run(text: Option<&Text>, name: &Template) -> Checked<()> {
    match text {
        Some(text) if name.mentions("file") => Err(Mistake(
            text.0.span(),
            "is made of all files of a run, so it cannot take its name from one {{ file }}".to_owned(),
        )),
        _ => Ok(()),
    }
}

fn pack(raw: &raw::Pack) -> Checked<Step> {
    let name = folder_template(Some(&raw.name), "")?;
    of_the_run(Some(&raw.name), &name)?;
    let form = raw.form.unwrap_or_else(|| {
        let is_tar = [".tar.gz", ".tgz"].iter().any(|ending| raw.name.str().ends_with(ending));
        if is_tar { PackForm::TarGz } else { PackForm::Zip }
    });
    let passphrase = raw.passphrase.as_ref().map(|p| secret_name(&p.secret)).transpose()?;
    if passphrase.is_some() && form == PackForm::TarGz {
        let words = "only a zip can have a passphrase; for a tar.gz let an encrypt step follow";
        return Err(Mistake(raw.name.0.span(), words.to_owned()));
    }
    Ok(Step::Pack { form, passphrase, folders: raw.folders, name })
}

fn unpack(raw: &raw::Unpack) -> Checked<Step> {
    Ok(Step::Unpack {
        passphrase: raw.passphrase.as_ref().map(|p| secret_name(&p.secret)).transpose()?,
        files: raw.files.unwrap_or(MOST_FILES),
        most: most(raw.most.as_ref())?,
    })
}

fn most(text: Option<&Text>) -> Checked<Most> {
    Ok(match text {
        Some(text) => Most { bytes: text.str().parse::<ByteSize>().at(text)?, is_said: true },
        None => Most { bytes: MOST_BYTES, is_said: false },
    })
}

fn decrypt(raw: &raw::Decrypt) -> Checked<Step> {
    Ok(Step::Decrypt {
        most: most(raw.most.as_ref())?,
        passphrase: raw.passphrase.as_ref().map(|p| secret_name(&p.secret)).transpose()?,
        signed_by: raw.signed_by.clone(),
        name: folder_template(
            raw.name.as_ref(),
            "{% if file.extension in [\"pgp\", \"gpg\", \"asc\"] %}{{ file.stem }}{% else %}{{ file.name }}.plain{% endif %}",
        )?,
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
        fit: raw.fit_name,
        sha256: raw.sha256.unwrap_or(true),
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
