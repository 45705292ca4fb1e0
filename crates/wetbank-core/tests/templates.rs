//! What placeholders may stand for: names from servers, subjects of letters, fields of signals. None of them leads out
//! of a folder, to another server, or into a text of another file.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{collections::BTreeMap, sync::Arc};

use jiff::Timestamp;
use proptest::prelude::*;
use wetbank_core::{FileFacts, Known, Name, RelPath, Rule, Template, TemplateError, TemplateFacts, parse_book};

const BOOK: &str = "[place.office]\nkind = 'folder'\nroot = '/srv/office'\n\
                    [rule.r]\ntitle = 'Readings'\nzone = 'Europe/London'\nstarts = { arrival = { place = 'office' } }\n\
                    [[rule.r.branch]]\nsteps = [ { delete = {} } ]\n";

fn rule() -> Rule {
    let book = parse_book(&[("book".to_owned(), BOOK.to_owned())], &Known::default()).unwrap();
    book.rules[0].clone()
}

/// A file of the office by this path, and what is known of its run.
fn file(path: RelPath, about: &[(&str, &str)]) -> FileFacts {
    let about: BTreeMap<String, String> =
        about.iter().map(|(word, text)| ((*word).to_owned(), (*text).to_owned())).collect();
    FileFacts {
        place: Name::new("office").unwrap(),
        path,
        size: 2_048,
        modified: "2026-11-28T23:30:00Z".parse().unwrap(),
        about: Arc::new(about),
    }
}

/// Hands the facts of a file to whoever renders with them; it is half past midnight, in summer.
fn with<T>(file: &FileFacts, then: impl FnOnce(&TemplateFacts<'_>) -> T) -> T {
    let now: Timestamp = "2026-07-01T23:30:00Z".parse().unwrap();
    let rule = rule();
    then(&TemplateFacts { file, rule: &rule, run: 41, started: now, now })
}

fn template(source: &str) -> Template {
    Template::new(source).unwrap_or_else(|e| panic!("{source}: {e}"))
}

fn render(source: &str, file: &FileFacts) -> Result<String, TemplateError> {
    with(file, |facts| template(source).render(facts))
}

fn named(path: &str) -> FileFacts {
    file(RelPath::parse(path).unwrap(), &[])
}

#[test]
fn each_placeholder_tells_what_it_says() {
    let about = [
        ("run.cause", "hand"),
        ("count", "7"),
        ("mail.subject", "Assay sheets"),
        ("chain.rule", "fetch-tides"),
        ("fault.why", "the server is away"),
        ("signal.boat", "Tern"),
    ];
    let sheet = file(RelPath::parse("boats/tern/sounding.B12.xyz").unwrap(), &about);
    for (source, told) in [
        ("{{ file.name }}", "sounding.B12.xyz"),
        ("{{ file.stem }}", "sounding.B12"),
        ("{{ file.extension }}", "xyz"),
        ("{{ file.folder }}", "boats/tern"),
        ("{{ file.path }}", "boats/tern/sounding.B12.xyz"),
        ("{{ file.place }}", "office"),
        ("{{ file.size }}", "2048"),
        ("{{ rule.name }}/{{ rule.title }}", "r/Readings"),
        ("{{ run.id }}", "41"),
        ("{{ run.cause }}", "hand"),
        ("{{ count | pad(4) }}", "0007"),
        ("{{ mail.subject | lower }}", "assay sheets"),
        ("{{ chain.rule }}", "fetch-tides"),
        ("{{ fault.why }}", "the server is away"),
        ("{{ signal.boat }}", "Tern"),
        // Both times are told on the rule's clock, which is an hour ahead in summer.
        ("{{ file.modified | date('%d %H:%M') }}", "28 23:30"),
        ("{{ now | date('%d %H:%M') }}", "02 00:30"),
        ("{{ today }}", "2026-07-02"),
        ("{{ run.started | date('%Y%m%d') }}", "20260702"),
        ("{% if file.size > 1000 %}large{% else %}small{% endif %}", "large"),
        ("{{ file.stem | replace('.', '-') | upper }}", "SOUNDING-B12"),
    ] {
        assert_eq!(render(source, &sheet).unwrap(), told, "{source}");
    }
}

#[test]
fn what_is_not_known_of_this_run_is_an_error_where_it_is_used_and_not_an_empty_word() {
    let plain = named("readings.csv");
    for source in ["{{ mail.subject }}", "{{ signal.boat }}", "{{ chain.from }}", "{{ fault.why }}-{{ file.name }}"] {
        let error = render(source, &plain).expect_err(source);
        assert!(matches!(error, TemplateError::Invalid { .. }), "{source}: {error}");
        assert!(error.to_string().contains(source), "{error}");
    }
    assert_eq!(render("{{ signal.boat | default('no boat') }}", &plain).unwrap(), "no boat");
}

#[test]
fn a_folder_of_a_template_stays_below_the_root() {
    let escapes =
        file(RelPath::parse("a.csv").unwrap(), &[("mail.subject", "../../etc"), ("signal.to", "/etc/cron.d")]);
    let folder = |source: &str| with(&escapes, |facts| template(source).render_folder(facts));
    let error = folder("{{ mail.subject }}").unwrap_err();
    assert!(matches!(error, TemplateError::Path { .. }), "{error}");
    assert!(folder("in/{{ mail.subject }}").is_err());
    // An absolute folder is one of the place.
    assert_eq!(folder("{{ signal.to }}").unwrap().to_string(), "etc/cron.d");
}

#[test]
fn a_name_of_a_template_is_one_name() {
    let odd = file(
        RelPath::parse("a.csv").unwrap(),
        &[("signal.deep", "a/b"), ("signal.hidden", r"a\x2fb"), ("signal.none", ""), ("signal.up", "..")],
    );
    for field in ["deep", "hidden", "none", "up"] {
        let source = format!("{{{{ signal.{field} }}}}");
        let name = with(&odd, |facts| template(&source).render_name(&RelPath::parse("out").unwrap(), facts));
        assert!(name.is_err(), "{source}: {name:?}");
    }
}

#[test]
fn words_of_a_template_are_found_without_rendering_it() {
    let asked = template("{{ signal.item.id }}-{{ signal.boat }}/{{ file.name }}");
    let mut fields = asked.fields_of("signal");
    fields.sort();
    assert_eq!(fields, ["boat", "item.id"]);
    assert!(asked.mentions("signal") && asked.mentions("file") && !asked.mentions("mail"));
    assert!(!template("a signal in plain words").mentions("signal"));
    assert!(template("plain").is_plain() && !asked.is_plain());
}

/// Bytes that a server could give as a name.
fn hostile_name() -> impl Strategy<Value = Vec<u8>> {
    let odd = prop::sample::select(vec![
        b"{{ file.place }}".to_vec(),
        b"{% for a in b %}".to_vec(),
        b"..csv".to_vec(),
        b"caf\xe9.csv".to_vec(),
        b"a\\x2f..".to_vec(),
        b"line\nbreak.csv".to_vec(),
        b"%2e%2e%2f".to_vec(),
        b"-rf".to_vec(),
        b"name?query=1#part".to_vec(),
        b".".repeat(3),
    ]);
    prop_oneof![2 => prop::collection::vec(1u8..=255, 1..40), 1 => odd]
        .prop_filter("a name", |bytes| !bytes.contains(&b'/') && bytes != b"." && bytes != b"..")
}

proptest! {
    #[test]
    fn a_file_keeps_its_name_byte_for_byte(name in hostile_name()) {
        let path = RelPath::from_bytes(&name).unwrap();
        let facts = file(path, &[]);
        let kept = with(&facts, |facts| template("{{ file.name }}").render_name(&RelPath::root(), facts)).unwrap();
        prop_assert_eq!(kept.as_bytes(), name.as_slice());
        let sealed = with(&facts, |facts| template("{{ file.name }}.pgp").render_name(&RelPath::root(), facts)).unwrap();
        prop_assert_eq!(sealed.as_bytes(), [name.as_slice(), b".pgp"].concat());
    }

    #[test]
    fn what_a_name_says_is_never_a_template(name in hostile_name()) {
        let facts = file(RelPath::from_bytes(&name).unwrap(), &[]);
        let told = render("<{{ file.name }}>", &facts).unwrap();
        prop_assert_eq!(told, format!("<{}>", facts.name()));
    }

    #[test]
    fn whatever_stands_for_a_folder_no_part_of_it_leads_up(said in "[./a\\\\x2\u{e9}]{0,24}") {
        let facts = file(RelPath::parse("a.csv").unwrap(), &[("signal.to", &said)]);
        if let Ok(folder) = with(&facts, |facts| template("out/{{ signal.to }}").render_folder(facts)) {
            prop_assert!(folder.below(&RelPath::parse("out").unwrap()).is_some(), "{folder}");
            prop_assert!(folder.parts().all(|part| part != b".." && part != b"."), "{folder}");
        }
    }

    #[test]
    fn whatever_stands_in_an_address_it_leads_nowhere_else(said in "\\PC{0,24}") {
        let facts = file(RelPath::parse("a.csv").unwrap(), &[("signal.id", &said)]);
        let source = "https://desk.merrow.example/items/{{ signal.id }}/done?by={{ rule.name }}";
        if let Ok(address) = with(&facts, |facts| template(source).render_address(facts)) {
            let inner = address.strip_prefix("https://desk.merrow.example/items/").unwrap();
            let inner = inner.strip_suffix("/done?by=r").unwrap();
            prop_assert!(inner.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._~%".contains(&byte)), "{address}");
            prop_assert!(inner != "." && inner != "..", "{address}");
        }
    }

    #[test]
    fn no_text_breaks_the_reader_of_templates(source in "[{}%a-c.|()'\" \n]{0,60}") {
        // Refused or read: never a panic, and what is read renders or says why not.
        if let Ok(template) = Template::new(&source) {
            let facts = named("a.csv");
            let _ = with(&facts, |facts| template.render(facts));
        }
    }
}
