//! The way a file would go.

use jiff::Timestamp;

use super::{Coming, End, Foreseen, Rehearsal};
use crate::{
    Attribute, Condition, Explanation, FileFacts, FilePath, IfExists, Original, Outcome, PlaceName, Planned, Position,
    RelPath, Rule, Shift, Subject, Target, Telling, Template, TemplateError, TemplateFacts, Verdict, advance, explain,
};

/// Steps of one file at most: a step that adds a file doubles what follows.
const MOST_STEPS: usize = 500;

/// Foresees what a rule would do with a file that came at a time.
pub fn rehearse(rule: &Rule, file: &FileFacts, came: Timestamp) -> Rehearsal {
    let explanation = explain(rule, file, came);
    let Some(taken) = explanation.taken_by else {
        let end = End::NotTaken { why: explanation.outcome.clone() };
        return Rehearsal { explanation, branch: None, steps: Vec::new(), end };
    };
    let mut walk = Walk { rule, file, came, steps: Vec::new() };
    let end = walk.begin(taken, &explanation);
    let branch = rule.branches.get(taken).map(|branch| branch.title.clone());
    Rehearsal { explanation, branch, steps: walk.steps, end }
}

struct Walk<'a> {
    rule: &'a Rule,
    file: &'a FileFacts,
    came: Timestamp,
    steps: Vec<Foreseen>,
}

/// The file in hand.
#[derive(Clone)]
struct Hand {
    name: RelPath,
    /// Where it lies; nothing if it was made on the way.
    lies: Option<FilePath>,
    /// The file that came, as long as something is to become of it.
    original: Option<FilePath>,
    /// Where the file that came went, if it was moved on.
    moved: Option<FilePath>,
    is_made: bool,
}

/// Where a step leads.
enum Led {
    On(Hand),
    Over(End),
}

impl<'a> Walk<'a> {
    fn begin(&mut self, taken: usize, explanation: &Explanation) -> End {
        if self.rule.starts.arrival.as_ref().is_some_and(|arrival| arrival.letter.is_some()) {
            let why = "which attachments a letter has is known once it is fetched".to_owned();
            return End::Open { why };
        }
        debug_assert_eq!(explanation.taken_by, Some(taken));
        let file = FilePath { place: self.file.place.clone(), path: self.file.path.clone() };
        let Ok(name) = RelPath::from_bytes(file.path.name()) else { return End::Stays };
        let hand = Hand { name, lies: Some(file.clone()), original: Some(file), moved: None, is_made: false };
        match advance(self.rule, (None, Position::Branching), Outcome::Taken(taken), false) {
            Ok(next) => self.go(hand, next.branch, next.position),
            Err(stuck) => End::Held { why: stuck.to_string() },
        }
    }

    /// From a position to the end. What a step does not shift leads to the next.
    fn go(&mut self, mut hand: Hand, mut branch: usize, mut position: Position) -> End {
        while let Position::Step(at) = position {
            let rule = self.rule;
            let Some(planned) = rule.branches.get(branch).and_then(|branch| branch.steps.get(at)) else { break };
            if self.steps.len() >= MOST_STEPS {
                return End::Open { why: format!("more than {MOST_STEPS} steps are not shown") };
            }
            let mut outcome = Outcome::Done;
            match self.step(planned, (branch, at), &hand) {
                Ok(Some(Led::On(next))) => hand = next,
                Ok(Some(Led::Over(end))) => return end,
                // Left out for this file.
                Ok(None) => {
                    let next = advance(rule, (Some(branch), position), Outcome::Done, false);
                    match next {
                        Ok(next) => (branch, position) = (next.branch, next.position),
                        Err(stuck) => return End::Held { why: stuck.to_string() },
                    }
                    continue;
                }
                Err(error) => {
                    self.steps.last_mut().into_iter().for_each(|step| step.open = Some(error.to_string()));
                }
            }
            if let Some(other) = planned.step.hands_over_to() {
                outcome = Outcome::Continued(other);
            }
            if let Shift::Adds(_) = planned.step.shift()
                && let Some(added) = self.steps.last().and_then(|step| step.makes.clone())
                && let Ok(next) = advance(rule, (Some(branch), position), outcome, true)
                && let Ok(name) = RelPath::parse(&added)
            {
                // What is beside the file goes its own way; what becomes of the original is the file's matter.
                self.go(
                    Hand { name, lies: None, original: None, moved: None, is_made: true },
                    next.branch,
                    next.position,
                );
            }
            match advance(rule, (Some(branch), position), outcome, false) {
                Ok(next) => (branch, position) = (next.branch, next.position),
                Err(stuck) => return End::Held { why: stuck.to_string() },
            }
        }
        self.end(&hand, branch)
    }

    /// The file in hand as conditions and placeholders see it.
    fn in_hand(&self, hand: &Hand) -> FileFacts {
        let mut file = self.file.clone();
        file.path = self.file.path.parent().join(&hand.name);
        file
    }

    fn step(
        &mut self,
        planned: &Planned,
        (branch, at): (usize, usize),
        hand: &Hand,
    ) -> Result<Option<Led>, TemplateError> {
        let (rule, came) = (self.rule, self.came);
        let file = self.in_hand(hand);
        let facts = TemplateFacts { file: &file, rule, run: 0, started: came, now: came };
        let step = &planned.step;
        let verdict = planned.condition.as_ref().map(|condition| condition.ask(&file, came));
        let open = planned.condition.as_ref().filter(|_| hand.is_made && verdict.is_some());
        self.steps.push(Foreseen {
            branch,
            step: at,
            kind: step.kind(),
            file: hand.name.name_text(),
            words: step.words(Telling::For(&facts)),
            makes: None,
            comes: None,
            left_out: verdict.as_ref().filter(|verdict| !verdict.holds).map(Verdict::refusal),
            open: open.filter(|condition| asks_of_content(condition)).map(|_| {
                "whether it is done is decided by the file that the steps before make, which is not there yet"
                    .to_owned()
            }),
        });
        if verdict.is_some_and(|verdict| !verdict.holds) {
            return Ok(None);
        }
        let seen = self.steps.last_mut().expect("it was just put there");
        let named = |template: &Template| {
            let name = template.render_name(&RelPath::root(), &facts)?;
            RelPath::from_bytes(name.name())
                .map_err(|source| TemplateError::Path { template: template.source().to_owned(), source })
        };
        let aimed = |target: &Target| {
            let folder = target.folder.render_folder(&facts)?;
            let path = target.name.render_name(&folder, &facts)?;
            let at = FilePath { place: target.place.clone(), path };
            Ok(Coming { at, is_folder: false, exists: target.exists, fits: target.fit })
        };
        let made = |name: RelPath, seen: &mut Foreseen| {
            seen.makes = Some(name.name_text());
            Hand { name, lies: None, original: hand.original.clone(), moved: hand.moved.clone(), is_made: true }
        };
        // What a rule hands on as a whole is not this file any more.
        Ok(Some(match step.shift() {
            Shift::Nothing => Led::On(hand.clone()),
            Shift::Makes(name) => Led::On(made(named(name)?, seen)),
            Shift::Adds(name) => {
                seen.makes = Some(named(name)?.name_text());
                Led::On(hand.clone())
            }
            Shift::Splits => {
                let why = "which files come out of it, only its content tells; each goes the rest of the way";
                Led::Over(End::Open { why: why.to_owned() })
            }
            Shift::Puts(target) => {
                seen.comes = Some(aimed(target)?);
                Led::On(hand.clone())
            }
            Shift::Moves(target) => {
                let coming = aimed(target)?;
                let at = coming.at.clone();
                seen.comes = Some(coming);
                let name = RelPath::from_bytes(at.path.name()).unwrap_or_else(|_| hand.name.clone());
                // Moved on it is no original any more: nothing takes away what arrived.
                let (original, moved) = match hand.lies == hand.original {
                    true => (None, hand.lies.as_ref().map(|_| at.clone())),
                    false => (hand.original.clone(), hand.moved.clone()),
                };
                Led::On(Hand { name, lies: Some(at), original, moved, is_made: hand.is_made })
            }
            Shift::Renames(name, exists) => match &hand.lies {
                Some(file) => {
                    let path = name.render_name(&file.path.parent(), &facts)?;
                    let at = FilePath { place: file.place.clone(), path };
                    seen.comes = Some(Coming { at: at.clone(), is_folder: false, exists, fits: false });
                    let name = named(name)?;
                    let original = if hand.lies == hand.original { Some(at.clone()) } else { hand.original.clone() };
                    Led::On(Hand { name, lies: Some(at), original, ..hand.clone() })
                }
                None => Led::On(made(named(name)?, seen)),
            },
            Shift::MakesFolder(place, folder) => {
                seen.comes = Some(folder_at(place, folder, &facts)?);
                Led::On(hand.clone())
            }
            Shift::Deletes => Led::Over(End::Deleted),
            Shift::Holds(why) => Led::Over(End::Held { why: why.to_owned() }),
        }))
    }

    fn end(&self, hand: &Hand, branch: usize) -> End {
        let Some(file) = &hand.original else {
            return hand.moved.clone().map_or(End::Stays, |to| End::Moved { to });
        };
        let came = FilePath { place: self.file.place.clone(), path: self.file.path.clone() };
        let mut facts = self.file.clone();
        (facts.place, facts.path) = (file.place.clone(), file.path.clone());
        let facts = TemplateFacts { file: &facts, rule: self.rule, run: 0, started: self.came, now: self.came };
        let open = |error: TemplateError| End::Open { why: error.to_string() };
        match self.rule.branches.get(branch).map(|branch| &branch.original) {
            Some(Original::MoveTo(folder)) => match self.rule.aside(file, folder, &facts) {
                Ok(folder) => End::Moved {
                    to: FilePath {
                        place: file.place.clone(),
                        path: folder.join(&RelPath::from_bytes(file.path.name()).unwrap_or_else(|_| hand.name.clone())),
                    },
                },
                Err(error) => open(error),
            },
            Some(Original::Mark(name)) => match name.render_name(&file.path.parent(), &facts) {
                Ok(path) => End::Marked { with: FilePath { place: file.place.clone(), path } },
                Err(error) => open(error),
            },
            Some(Original::Delete) => End::Deleted,
            Some(Original::Stays) | None if *file != came => End::Moved { to: file.clone() },
            Some(Original::Stays) | None => End::Stays,
        }
    }
}

fn folder_at(place: &PlaceName, folder: &Template, facts: &TemplateFacts<'_>) -> Result<Coming, TemplateError> {
    let at = FilePath { place: place.clone(), path: folder.render_folder(facts)? };
    Ok(Coming { at, is_folder: true, exists: IfExists::SkipSame, fits: false })
}

/// Whether a condition asks for what only the file itself has.
fn asks_of_content(condition: &Condition) -> bool {
    let mut asks = false;
    condition.each_subject(&mut |subject| {
        asks |= matches!(subject, Subject::File(Attribute::Size | Attribute::Modified | Attribute::Age));
    });
    asks
}
