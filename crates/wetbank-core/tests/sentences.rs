//! A rule in one sentence, as people read it in lists.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use wetbank_core::{Known, parse_book, rule_sentence};

const HEAD: &str = r#"[place.office]
kind = "folder"
root = "/srv/office"
[place.harbour]
kind = "ftp"
host = "ftp.skerrow.example"
user = "merrow"
password = { secret = "harbour" }
[place.post]
kind = "mailbox"
host = "imap.merrow.example"
user = "office"
password = { secret = "post" }
send-by = "smtp.merrow.example"
sender = "office@merrow.example"
[database.readings]
kind = "sqlite"
file = "/srv/readings.db"
[calendar.survey]
off = ["2026-12-25"]
"#;

fn sentence(starts: &str, more: &str, steps: &str) -> String {
    let book = format!(
        "{HEAD}[rule.r]\nstarts = {{ {starts} }}\n{more}\n[[rule.r.branch]]\nsteps = [ {steps} ]\n\
         [rule.other]\nstarts = {{ hand = {{}} }}\n[[rule.other.branch]]\nsteps = [ {{ note = {{ text = \"x\" }} }} ]\n"
    );
    let book =
        parse_book(&[("book.toml".to_owned(), book)], &Known::default()).unwrap_or_else(|e| panic!("{starts}: {e:#?}"));
    rule_sentence(&book.rules[0])
}

#[test]
fn what_starts_a_rule() {
    let note = r#"{ note = { text = "seen" } }"#;
    let find = r#"finds = [ { place = "office", folder = "in" } ]"#;
    for (starts, words) in [
        (r#"schedule = { every = "15 min" }"#, "Every 15 min"),
        (r#"schedule = { at = ["07:30", "19:30"], on = ["mon", "thu"] }"#, "At 07:30 and 19:30 on Monday and Thursday"),
        (
            r#"schedule = { at = "06:00", on = "last-working-day", calendar = "survey" }"#,
            "At 06:00 on the last working day of a month (survey)",
        ),
        (r#"schedule = { every = "1 h", from = "07:00", until = "19:00" }"#, "Every 1 h from 07:00 to 19:00"),
        (r#"schedule = { cron = "5 4 * * *" }"#, r#"At the times of "5 4 * * *""#),
        ("hand = {}", "When a person starts it"),
        (r#"signal = { secret = "tiles" }"#, "When another system signals it"),
    ] {
        let expected = format!("{words}, for every file in office › in, note \"seen\".");
        assert_eq!(sentence(starts, find, note), expected);
    }
    for (starts, words) in [
        (
            r#"arrival = { place = "office", folder = "in", below = true, names = ["*.csv", "*.txt"] }"#,
            "When a file named *.csv or *.txt is complete in office › in or below",
        ),
        (
            r#"arrival = { place = "harbour", look-every = "1 min", except = ["~*"] }"#,
            "When a file is complete in harbour",
        ),
        (
            r#"mail = { place = "post", names = ["*.pdf"] }"#,
            "When a letter with attachments named *.pdf comes into post › INBOX",
        ),
    ] {
        assert_eq!(sentence(starts, "", note), format!("{words}, note \"seen\"."));
    }
}

#[test]
fn what_a_rule_does() {
    let starts = r#"arrival = { place = "office", folder = "in" }"#;
    for (steps, words) in [
        (
            r#"{ move = { folder = "done", exists = "keep-both" } }"#,
            "move it to office › done, keeping both if the name is taken",
        ),
        (r#"{ deliver = { to = "harbour", exists = "replace" } }"#, "deliver it to harbour, replacing what is there"),
        (r#"{ rename = { as = "{{ file.stem }}.old" } }"#, "rename it to {{ file.stem }}.old"),
        (
            r#"{ encrypt = { to = ["harbour"], sign = "office" } }, { copy = { to = "harbour" } }"#,
            "encrypt it to harbour, signed by office and copy it to harbour",
        ),
        (r#"{ encrypt = { passphrase = { secret = "words" } } }"#, "encrypt it with a passphrase"),
        (r#"{ decrypt = {} }, { copy = { folder = "open" } }"#, "decrypt it and copy it to office › open"),
        (
            r#"{ compress = {} }, { copy = { folder = "small" } }"#,
            "compress it to {{ file.name }}.gz and copy it to office › small",
        ),
        (
            r#"{ pack = { as = "{{ today }}.zip" } }, { copy = { folder = "packs" } }"#,
            "pack all of a run into {{ today }}.zip and copy it to office › packs",
        ),
        (r#"{ unpack = {} }, { copy = { folder = "parts" } }"#, "take out what is in it and copy it to office › parts"),
        (
            r#"{ manifest = {} }, { copy = { folder = "lists" } }"#,
            "list the checksums of all of a run in SHA256SUMS and copy it to office › lists",
        ),
        ("{ check-manifest = {} }", "compare it with the checksums in SHA256SUMS"),
        (
            r#"{ sign = { by = "office" } }, { copy = { folder = "signed" } }"#,
            "sign it with office in a file beside it and copy it to office › signed",
        ),
        (r#"{ verify = { by = ["office"] } }"#, "check its signature {{ file.name }}.sig by office"),
        (
            r#"{ mail = { by = "post", to = "wardens@merrow.example" } }"#,
            "send a mail about it to wardens@merrow.example",
        ),
        (
            r#"{ call = { url = "https://status.merrow.example/seen", json = { name = "{{ file.name }}" } } }"#,
            "call https://status.merrow.example/seen (POST)",
        ),
        (
            r#"{ program = { run = "convert", as = "{{ file.stem }}.png" } }, { copy = { folder = "png" } }"#,
            "run the program convert and copy it to office › png",
        ),
        (r#"{ load = { into = "readings", table = "levels" } }"#, "load it into the table levels of readings"),
        (
            r#"{ extract = { from = "readings", table = "levels", as = "levels.csv" } }, { copy = { folder = "out" } }"#,
            "extract levels.csv from readings and copy it to office › out",
        ),
        (r#"{ make-folder = { folder = "{{ today }}" } }"#, "make the folder {{ today }} in office"),
        (r#"{ delete = {}, if = { file = "size", under = "1 kB" } }"#, "delete it (if size under 1.0 kB)"),
        (r#"{ hold = { why = "a person must look" } }"#, "hold it for a person (a person must look)"),
        (
            r#"{ call = { url = "https://a.example/" }, on-failure = [ { note = { text = "no" } } ], then = "go-on" }"#,
            "call https://a.example/ (GET)",
        ),
    ] {
        assert_eq!(sentence(starts, "", steps), format!("When a file is complete in office › in, {words}."));
    }
}
