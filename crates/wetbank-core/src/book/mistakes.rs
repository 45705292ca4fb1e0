//! Every mistake of a book, not the first of each section: what a mistake stands in is left out, and the rest is read
//! again.

use std::{
    collections::{HashMap, HashSet},
    time::{Duration, Instant},
};

use super::{Amiss, Book, Known, Problem, parse_once, section_at};
use crate::Name;

/// A book is read again so often, and for so long, at most.
const ROUNDS: usize = 100;
const PATIENCE: Duration = Duration::from_secs(3);

/// Finds what else is wrong with a book that has these problems.
pub(super) fn all(files: &[(String, String)], known: &Known, first: Vec<Problem>) -> Vec<Problem> {
    let began = Instant::now();
    let mut texts: HashMap<&str, Lines> = files.iter().map(|(file, text)| (file.as_str(), Lines::of(text))).collect();
    // What is left out is known all the same to whoever refers to it.
    let mut known = known.clone();
    for section in texts.values().flat_map(|lines| &lines.sections) {
        let named = section.split_once('.').and_then(|(kind, name)| Some((kind, Name::new(name).ok()?)));
        match named {
            Some(("place", name)) if !known.places.contains(&name) => known.places.push(name),
            Some(("account", name)) if !known.accounts.contains(&name) => known.accounts.push(name),
            Some(("database", name)) if !known.databases.contains(&name) => known.databases.push(name),
            Some(("twin", name)) if !known.twins.contains(&name) => known.twins.push(name),
            Some(("rule", name)) if !known.rules.contains(&name) => known.rules.push(name),
            _ => {}
        }
    }
    let mut found: Vec<Problem> = Vec::new();
    let mut news = first;
    for _ in 0..ROUNDS {
        for problem in &news {
            if let Some(lines) = texts.get_mut(problem.file.as_str()) {
                lines.mend(problem);
            }
        }
        found.append(&mut news);
        if began.elapsed() > PATIENCE {
            break;
        }
        let rest: Vec<_> = files.iter().map(|(file, _)| (file.clone(), texts[file.as_str()].text())).collect();
        let Err(problems) = parse_once(&rest, &known) else { break };
        let marred: HashSet<(&str, &str)> =
            found.iter().map(|problem| (problem.file.as_str(), section_of(&problem.key))).collect();
        let is_of_its_own = |problem: &Problem| {
            let lines = &texts[problem.file.as_str()];
            // What a section lacks may have been left out with another mistake; and so may what it refers to.
            let tells_lack = problem.amiss == Amiss::Missing || lines.is_header(problem.line);
            let lacks = tells_lack && lines.touched.contains(section_of(&problem.key));
            let others = marred.iter().filter(|(_, section)| *section != section_of(&problem.key));
            let refers = match &problem.amiss {
                Amiss::Name { of, written, .. } => {
                    let named = format!("{of}.{written}");
                    others.into_iter().any(|(_, section)| *section == named)
                }
                _ => false,
            };
            !lacks && !refers && !lines.guessed.contains(&problem.line)
        };
        let more: Vec<_> = problems.into_iter().filter(|problem| !found.contains(problem)).collect();
        if more.is_empty() {
            break;
        }
        let (own, follows): (Vec<_>, Vec<_>) = more.into_iter().partition(is_of_its_own);
        for problem in &follows {
            if let Some(lines) = texts.get_mut(problem.file.as_str()) {
                lines.leave_out(problem.line);
            }
        }
        news = own;
    }
    let order = |file: &str| files.iter().position(|(known, _)| known == file);
    found.sort_by_key(|problem| (order(&problem.file), problem.line));
    found
}

/// `rule.assay-results` of `rule.assay-results.branch`.
fn section_of(key: &str) -> &str {
    let mut dots = key.match_indices('.').map(|(at, _)| at);
    dots.next();
    dots.next().map_or(key, |end| &key[..end])
}

/// A text whose lines can be left out without moving the others.
struct Lines {
    lines: Vec<String>,
    /// The section that each line stands in.
    sections: Vec<String>,
    /// Sections of which something was left out.
    touched: HashSet<String>,
    /// Lines whose key was written as it was probably meant: what is wrong with them may be wrong with the guess.
    guessed: HashSet<usize>,
}

impl Lines {
    fn of(text: &str) -> Self {
        let lines: Vec<String> = text.split('\n').map(str::to_owned).collect();
        let mut section = String::new();
        let sections = lines.iter().map(|line| {
            let key = section_at(line, line.len());
            if !key.is_empty() {
                section = section_of(&key).to_owned();
            }
            section.clone()
        });
        let sections = sections.collect();
        Self { lines, sections, touched: HashSet::new(), guessed: HashSet::new() }
    }

    fn text(&self) -> String {
        self.lines.join("\n")
    }

    fn is_header(&self, line: usize) -> bool {
        self.lines.get(line.wrapping_sub(1)).is_some_and(|line| line.trim_start().starts_with('['))
    }

    /// Puts the word that was meant, if that is told, or leaves the line out.
    fn mend(&mut self, problem: &Problem) {
        let words = match &problem.amiss {
            Amiss::Key { written, nearest: Some(right) } | Amiss::Name { written, nearest: Some(right), .. } => {
                Some((written.as_str(), right.as_str()))
            }
            _ => None,
        };
        let at = problem.line.checked_sub(1).filter(|at| *at < self.lines.len());
        let (Some((wrong, right)), Some(at)) = (words, at) else { return self.leave_out(problem.line) };
        if !self.lines[at].contains(wrong) || self.guessed.contains(&problem.line) {
            return self.leave_out(problem.line);
        }
        let meant = self.lines[at].replacen(wrong, right, 1);
        let written = std::mem::replace(&mut self.lines[at], meant);
        if matches!(problem.amiss, Amiss::Key { .. }) {
            // A wrong key may mean anything, a wrong name means the right one.
            self.guessed.insert(problem.line);
            if self.text().parse::<toml_edit::DocumentMut>().is_err() {
                self.lines[at] = written;
                self.leave_out(problem.line);
            }
        }
    }

    /// Leaves out a line; of a header, or one without which the rest is no TOML any more, all of its section.
    fn leave_out(&mut self, line: usize) {
        let Some(at) = line.checked_sub(1).filter(|at| *at < self.lines.len()) else { return };
        self.touched.insert(self.sections[at].clone());
        if self.is_header(line) {
            return self.leave_out_section(line);
        }
        self.lines[at].clear();
        if self.text().parse::<toml_edit::DocumentMut>().is_err() {
            self.leave_out_section(line);
        }
    }

    fn leave_out_section(&mut self, line: usize) {
        let Some(section) = line.checked_sub(1).and_then(|at| self.sections.get(at)).cloned() else { return };
        for (line, _) in self.lines.iter_mut().zip(&self.sections).filter(|(_, of)| **of == section) {
            line.clear();
        }
    }
}

/// The same for whoever wants a book or all that is wrong with it.
pub(super) fn or_all(files: &[(String, String)], known: &Known) -> Result<Book, Vec<Problem>> {
    parse_once(files, known).map_err(|first| all(files, known, first))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::parse_book;

    fn problems(text: &str) -> Vec<String> {
        let problems = parse_book(&[("book".to_owned(), text.to_owned())], &Known::default()).unwrap_err();
        problems.iter().map(ToString::to_string).collect()
    }

    const BOOK: &str = "[place.office]\nkind = \"folder\"\nroot = \"srv/office\"\n\n\
        [place.harbour]\nkind = \"sftp\"\nhost = \"two words\"\nusr = \"merrow\"\nport = \"x\"\npassword = { secret = \"a\" }\n\n\
        [rule.assay]\nstarts = { arrival = { place = \"ofice\", folder = \"in\" } }\nowner = 1\n[[rule.assay.branch]]\n\
        steps = [\n  { copy = { to = \"nowhere\" } },\n  { cpy = {} },\n  { copy = { folder = \"{{ nmae }}\" } },\n]\n";

    #[test]
    fn every_mistake_is_named_once_and_none_that_only_follows_from_another() {
        let told = problems(BOOK);
        for (line, word) in [
            (3, "absolute"),
            (7, "two words"),
            (8, "usr"),
            (9, "x"),
            (13, "ofice"),
            (14, "owner"),
            (17, "nowhere"),
            (18, "cpy"),
            (19, "nmae"),
        ] {
            assert!(
                told.iter().any(|one| one.starts_with(&format!("book:{line}:")) && one.contains(word)),
                "{line} {word}: {told:#?}"
            );
        }
        assert_eq!(told.len(), 9, "{told:#?}");
    }

    #[test]
    fn a_text_that_is_no_toml_is_told_and_the_rest_as_far_as_it_goes() {
        let told = problems("[place.office]\nkind = \"folder\nroot = \"/srv\"\n\n[place.b]\nkind = \"nothing\"\n");
        assert!(told[0].starts_with("book:2:"), "{told:#?}");
        assert!(told.iter().any(|one| one.contains("nothing")), "{told:#?}");
    }
}
