use jiff::Timestamp;

use super::*;
use crate::{Decision, FileFacts, FilePath, Fingerprint, Template, TemplateFacts, decide, explain, rule_sentence};

const BOOK: &str = r#"
# Where the laboratory's sheets come in.
[place.office]
kind = "folder"
root = "/srv/office"

[place.skerrow-harbour]
kind     = "sftp"
host     = "sftp.skerrow.example"
user     = "merrow"
key      = { secret = "skerrow-ssh" }
root     = "/incoming"   # agreed with the duty office

[rule.assay-results]
title = "Assay results to the harbour"
starts = { arrival = { place = "office", folder = "assays/out", names = ["*.csv"], settle = "3s" } }

[[rule.assay-results.branch]]
title = "Results"
if    = { all = [ { file = "size", under = "200 MB" }, { file = "name", starts-with = "assay-" } ] }
steps = [
  { encrypt = { to = ["skerrow-harbour"] } },
  { deliver = { to = "skerrow-harbour", folder = "{{ today }}", exists = "replace" } },
]
original = { move-to = "sent" }

[[rule.assay-results.branch]]
steps = [ { hold = { why = "not an assay sheet" } } ]
"#;

fn read(text: &str) -> Result<Book, Vec<Problem>> {
    parse_book(&[("book.toml".to_owned(), text.to_owned())], &Known::default())
}

/// The one problem of the book after `from` was replaced by `to`.
fn problem(from: &str, to: &str) -> Problem {
    assert!(BOOK.contains(from), "{from}");
    let mut problems = read(&BOOK.replacen(from, to, 1)).unwrap_err();
    assert_eq!(problems.len(), 1, "{problems:?}");
    problems.remove(0)
}

fn facts(path: &str, size: u64) -> FileFacts {
    FileFacts::new(
        &FilePath::parse(path).unwrap(),
        &Fingerprint { size, modified: 1_773_468_000_000_000_000, inode: None, tag: None },
    )
}

#[test]
fn a_good_book_reads_back_whole() {
    let book = read(BOOK).unwrap();
    assert_eq!(book.places.len(), 2);
    assert_eq!(book.rules[0].branches.len(), 2);
    assert_eq!(
        rule_sentence(&book.rules[0]),
        "When a file named *.csv is complete in office › assays/out, and size under 200 MB and name \
         starts with \"assay-\": encrypt it to skerrow-harbour and deliver it to skerrow-harbour › \
         {{ today }}, replacing what is there; then set the original aside in sent. Anything else: \
         hold it for a person (not an assay sheet)."
    );
}

#[test]
fn sections_keep_their_comments_and_read_alone() {
    let book = read(BOOK).unwrap();
    let place = book.sections.iter().find(|s| s.name == "skerrow-harbour").unwrap();
    assert!(place.text.contains("# agreed with the duty office"));
    let office = book.sections.iter().find(|s| s.name == "office").unwrap();
    assert!(office.text.starts_with("# Where the laboratory's sheets come in."));
    let all: String = book.sections.iter().map(|s| s.text.clone() + "\n").collect();
    assert_eq!(read(&all).unwrap().sections, book.sections);
}

#[test]
fn a_misspelt_key_is_named_with_line_and_nearest_right_one() {
    let problem = problem("host     =", "hots     =");
    assert_eq!((problem.line, problem.key.as_str()), (9, "place.skerrow-harbour"));
    assert_eq!(problem.message, "unknown key \"hots\"; did you mean \"host\"?");
}

#[test]
fn a_key_that_is_like_no_other_is_answered_with_all_there_are() {
    let message = problem("host     =", "path     =").message;
    assert!(message.starts_with("unknown key \"path\"; expected one of") && message.contains("\"host\""), "{message}");
}

#[test]
fn a_misspelt_step_is_named_with_the_nearest_right_one() {
    let problem = problem("{ encrypt =", "{ encript =");
    assert_eq!(problem.line, 22);
    assert!(problem.message.contains("did you mean \"encrypt\"?"), "{}", problem.message);
}

#[test]
fn an_unknown_place_is_named_with_the_nearest_right_one() {
    let problem = problem("to = \"skerrow-harbour\", folder", "to = \"skerow-harbour\", folder");
    assert_eq!(problem.line, 23);
    assert_eq!(problem.message, "unknown place \"skerow-harbour\"; did you mean \"skerrow-harbour\"?");
}

#[test]
fn mistakes_of_meaning_are_found_before_the_first_file() {
    for (from, to, words) in [
        ("{{ today }}", "{{ todya }}", "unknown placeholder {{ todya }}"),
        ("\"{{ today }}\"", "\"../elsewhere\"", "would leave the place's root"),
        ("under = \"200 MB\"", "under = \"200 stones\"", "is no size"),
        ("settle = \"3s\"", "settle = \"a while\"", "is no duration"),
        ("file = \"size\", under", "file = \"name\", under", "cannot be asked"),
        ("root = \"/srv/office\"", "root = \"office\"", "must be an absolute folder"),
        ("sftp.skerrow.example", "two words", "is no host"),
        ("user     = \"merrow\"", "url      = \"merrow\"", "has no key \"url\""),
        ("names = [\"*.csv\"]", "names = [\"[*.csv\"]", "is no name pattern"),
        ("kind     = \"sftp\"", "kind     = \"pigeon\"", "unknown kind \"pigeon\""),
        ("to = [\"skerrow-harbour\"]", "to = []", "encrypt needs \"to\""),
        (
            "{ hold = { why = \"not an assay sheet\" } }",
            "{ delete = {} }, { hold = { why = \"?\" } }",
            "nothing can follow \"delete\"",
        ),
        (
            "if    = { all = [ { file = \"size\", under = \"200 MB\" }, { file = \"name\", starts-with = \"assay-\" } ] }",
            "",
            "branch 2 is never reached",
        ),
    ] {
        let problem = problem(from, to);
        assert!(problem.message.contains(words), "{from} -> {to}: {}", problem.message);
        assert!(problem.line > 1, "{problem}");
    }
}

#[test]
fn the_first_branch_that_fits_takes_the_file() {
    let rule = &read(BOOK).unwrap().rules[0];
    let now = Timestamp::from_second(1_773_500_000).unwrap();
    assert_eq!(decide(rule, &facts("office:/assays/out/assay-0412.csv", 10), now), Decision::Branch(0));
    assert_eq!(decide(rule, &facts("office:/assays/out/notes.csv", 10), now), Decision::Branch(1));
    assert_eq!(decide(rule, &facts("office:/assays/out/assay-1.csv", 200_000_000), now), Decision::Branch(1));
}

#[test]
fn an_explanation_says_what_was_compared_with_what() {
    let rule = &read(BOOK).unwrap().rules[0];
    let now = Timestamp::from_second(1_773_500_000).unwrap();
    let explanation = explain(rule, &facts("office:/assays/out/readme.txt", 10), now);
    assert_eq!(explanation.outcome, "not taken: the rule asks that name is like *.csv, here it is readme.txt");
    let explanation = explain(rule, &facts("office:/assays/out/notes.csv", 10), now);
    let parts = &explanation.branches[0].parts;
    assert!(parts[0].holds && !parts[1].holds);
    assert_eq!((parts[1].asked.as_str(), parts[1].found.as_str()), ("name starts with \"assay-\"", "notes.csv"));
    let below = explain(rule, &facts("office:/assays/out/sent/assay-1.csv", 10), now);
    assert_eq!(below.taken_by, None, "{}", below.outcome);
}

#[test]
fn templates_tell_dates_in_the_rules_zone() {
    let zoned = BOOK.replacen("title = \"Assay results", "zone = \"Pacific/Auckland\"\ntitle = \"Assay results", 1);
    let rule = &read(&zoned).unwrap().rules[0];
    let file = facts("office:/assays/out/assay-0412.csv", 10);
    let now: Timestamp = "2026-03-14T20:00:00Z".parse().unwrap();
    let facts = TemplateFacts { file: &file, rule, run: 7, started: now, now };
    let render = |source: &str| Template::new(source).unwrap().render(&facts).unwrap();
    assert_eq!(render("{{ today }}/{{ file.stem }}-{{ run.id }}"), "2026-03-15/assay-0412-7");
    assert_eq!(render("{{ now | date(\"%d.%m.%Y %H:%M\") }}"), "15.03.2026 09:00");
}

#[test]
fn no_template_escapes_the_root() {
    let rule = &read(BOOK).unwrap().rules[0];
    let now = Timestamp::UNIX_EPOCH;
    let file = facts("office:/assays/out/assay-0412.csv", 10);
    let facts = TemplateFacts { file: &file, rule, run: 7, started: now, now };
    let template = Template::new("{{ \"..\" }}/{{ file.name }}").unwrap();
    assert!(template.render_folder(&facts).is_err());
    assert!(template.render_name(&RelPath::root(), &facts).is_err());
    assert!(Template::new("{{ \"\" }}").unwrap().render_name(&RelPath::root(), &facts).is_err());
}

use crate::RelPath;

#[test]
fn a_partner_that_is_wrong_is_told_once_and_not_as_an_unknown_one_too() {
    let partner = "[partner.skerrow]\ndelivery = { to = \"skerrow-harbour\", folder = \"{{ file.nmae }}\" }\n";
    let rule = BOOK.replace("deliver = { to = \"skerrow-harbour\",", "deliver = { partner = \"skerrow\",");
    let problems = read(&format!("{partner}{rule}")).unwrap_err();
    assert_eq!(problems.len(), 1, "{problems:?}");
    assert_eq!(problems[0].key, "partner.skerrow");
}

#[test]
fn a_part_of_a_book_may_name_partners_that_are_in_force_and_its_own_count_instead() {
    let partner =
        |folder: &str| format!("[partner.skerrow]\ndelivery = {{ to = \"skerrow-harbour\", folder = \"{folder}\" }}\n");
    let whole = read(&format!("{}{BOOK}", partner("old"))).unwrap();
    let known = Known {
        places: whole.places.iter().map(|(name, _)| name.clone()).collect(),
        partners: whole.partners,
        ..Known::default()
    };
    let rule = "[rule.r]\nstarts = { arrival = { place = \"office\" } }\n[[rule.r.branch]]\n\
                steps = [ { deliver = { partner = \"skerrow\" } } ]\n";
    for (text, folder) in [(rule.to_owned(), "old"), (partner("new") + rule, "new")] {
        let book = parse_book(&[("part".to_owned(), text)], &known).unwrap();
        let target = book.rules[0].branches[0].steps.last().unwrap().step.target().unwrap();
        assert_eq!((target.place.as_str(), target.folder.source()), ("skerrow-harbour", folder));
        assert_eq!(book.rules[0].partners().count(), 1);
    }
}

#[test]
fn limits_of_a_place_are_read_and_mistakes_in_them_are_told() {
    let root = "root     = \"/incoming\"   # agreed with the duty office\n";
    let with = |more: &str| BOOK.replace(root, &format!("{root}{more}\n"));
    let rates = "rate = \"4 MB/s\"\nrates = [ { most = \"500 kB/s\", from = \"07:00\", until = \"19:00\", zone = \"Europe/London\" } ]";
    let book = read(&with(&format!("transfers = 2\n{rates}"))).unwrap();
    let limits = &book.limits[&crate::Name::new("skerrow-harbour").unwrap()];
    assert_eq!(limits.transfers, Some(2));
    assert_eq!(limits.rate_at("2026-07-14T06:30:00Z".parse().unwrap()), Some(500_000), "London is an hour ahead");
    assert_eq!(limits.rate_at("2026-07-14T19:30:00Z".parse().unwrap()), Some(4_000_000));
    for (wrong, words) in [
        ("rate = \"fast\"", "is no speed"),
        ("rate = \"0 MB/s\"", "is no speed"),
        ("rates = [ { most = \"1 MB/s\", from = \"07:00\" } ]", "both from and until"),
        ("rates = [ { most = \"1 MB/s\", from = \"7\", until = \"19:00\" } ]", "no time of day"),
    ] {
        let problems = read(&with(wrong)).unwrap_err();
        assert!(problems.len() == 1 && problems[0].message.contains(words), "{wrong}: {problems:?}");
    }
}

fn place(text: &str) -> Result<PlaceSpec, String> {
    let book = read(&format!("[place.there]\n{text}\n")).map_err(|problems| problems[0].message.clone())?;
    Ok(book.places[0].1.clone())
}

#[test]
fn a_share_is_understood_however_its_path_was_pasted() {
    let sign_in = "user = \"MERROW\\\\tove\"\npassword = { secret = \"files\" }";
    for address in [
        r#"host = '\\files.merrow.example\survey\Field notes'"#,
        r#"host = "smb://files.merrow.example/survey/Field notes/""#,
        "host = \"files.merrow.example\"\nshare = \"survey\"\nroot = \"\\\\Field notes\\\\\"",
        r#"host = "files.merrow.example"
share = '\survey\Field notes'"#,
    ] {
        let spec = place(&format!("kind = \"share\"\n{address}\n{sign_in}")).unwrap();
        assert_eq!(spec.address(), "//files.merrow.example/survey/Field notes", "{address}");
        let PlaceSpec::Share(spec) = spec else { panic!("{address}") };
        assert_eq!((spec.domain.as_str(), spec.user.as_str(), spec.encrypted), ("MERROW", "tove", true));
    }
    let nameless = place(&format!("kind = \"share\"\nhost = \"files.merrow.example\"\n{sign_in}")).unwrap_err();
    assert!(nameless.contains("needs the share's name"), "{nameless}");
}

#[test]
fn a_web_folder_is_signed_in_to_in_one_way() {
    let agreement = "agreement = { server = \"drive.merrow.example\", client = \"wetbank\", \
                     rights = [\"files.read\"], grant = { secret = \"drive-grant\" } }";
    let web = "kind = \"webdav\"\nurl = \"drive.merrow.example/dav\"\n";
    let spec = place(&format!("{web}{agreement}")).unwrap();
    let agreed = spec.agreed().unwrap();
    assert_eq!((agreed.server.as_str(), agreed.rights.len()), ("https://drive.merrow.example", 1));
    assert_eq!(spec.secrets().len(), 1);
    for (more, words) in [
        ("user = \"tove\"", "needs either both user and password, or an agreement"),
        ("user = \"tove\"\npassword = { secret = \"s\" }\nAGREEMENT", "needs either both"),
        ("agreement = { server = \"a b\", client = \"w\", grant = { secret = \"s\" } }", "is no host"),
        (
            "agreement = { server = \"a\", client = \"w\", rights = [\"a b\"], grant = { secret = \"s\" } }",
            "is no right",
        ),
        ("timeout = \"0s\"", "a second or longer"),
    ] {
        let error = place(&format!("{web}{}", more.replace("AGREEMENT", agreement))).unwrap_err();
        assert!(error.contains(words), "{more}: {error}");
    }
}

#[test]
fn tries_are_as_the_rule_says_and_else_as_the_place_says() {
    let root = "root     = \"/incoming\"   # agreed with the duty office\n";
    let text = BOOK.replace(root, &format!("{root}timeout = \"90s\"\nretry = {{ attempts = 9, longest = \"1h\" }}\n"));
    let book = read(&text).unwrap();
    let harbour = crate::Name::new("skerrow-harbour").unwrap();
    let retry = book.limits[&harbour].retry.clone().unwrap();
    assert_eq!((retry.attempts, retry.longest.as_secs()), (9, 3600));
    assert!(!book.limits[&harbour].count() && book.rules[0].retry.is_none());
    let PlaceSpec::Sftp(spec) = &book.places.iter().find(|(name, _)| *name == harbour).unwrap().1 else { panic!() };
    assert_eq!(spec.silence.as_secs(), 90);
}

#[test]
fn the_folder_of_a_pasted_address_is_the_root_where_no_other_is_given() {
    let sign_in = "user = \"merrow\"\npassword = { secret = \"s\" }";
    for (typed, address) in [
        (
            "host = \"sftp://merrow@sftp.skerrow.example:2222/incoming//2026/\"",
            "merrow@sftp.skerrow.example:2222/incoming/2026",
        ),
        ("host = \"sftp://sftp.skerrow.example/\"", "merrow@sftp.skerrow.example:22/"),
        ("host = \"sftp://sftp.skerrow.example/incoming\"\nroot = \"/out\"", "merrow@sftp.skerrow.example:22/out"),
    ] {
        assert_eq!(place(&format!("kind = \"sftp\"\n{typed}\n{sign_in}")).unwrap().address(), address, "{typed}");
    }
}
