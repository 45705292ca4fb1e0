use proptest::prelude::*;

use super::*;
use crate::{Enclosed, Letter, write_letter};

fn out_of(letter: &[u8], most: u64, wants: impl Fn(&str) -> bool) -> Result<(TakenOut, Vec<Vec<u8>>), ErrandError> {
    use std::{cell::RefCell, rc::Rc};
    #[derive(Clone)]
    struct Kept(Rc<RefCell<Vec<Vec<u8>>>>, usize);
    impl Write for Kept {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0.borrow_mut()[self.1].extend_from_slice(bytes);
            Ok(bytes.len())
        }
        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }
    let kept: Rc<RefCell<Vec<Vec<u8>>>> = Rc::default();
    let taken = take_out(letter, most, wants, |number| {
        kept.borrow_mut().push(Vec::new());
        Ok(Kept(kept.clone(), number))
    })?;
    let contents = kept.borrow().clone();
    Ok((taken, contents))
}

fn all(letter: &str) -> Result<(TakenOut, Vec<Vec<u8>>), ErrandError> {
    out_of(letter.replace('\n', "\r\n").as_bytes(), 1 << 20, |_| true)
}

const TWO: &str = "From: Rufus Adeyemi <Desk@Lindmoor.example>
To: office@merrow.example, \"Archive, Tidewatch\" <archive@tidewatch.example>
Subject: =?utf-8?Q?Assay_sheets_=E2=80=93_week_11?=
Date: Sat, 14 Mar 2026 06:00:00 +0000
Message-ID: <one@lindmoor.example>
MIME-Version: 1.0
Content-Type: multipart/mixed; boundary=\"b1\"

This text is for programs that know no parts.
--b1
Content-Type: multipart/alternative; boundary=b1x

--b1x
Content-Type: text/plain

The sheets.
--b1x
Content-Type: text/html; name=body.html
Content-Disposition: inline
Content-ID: <body>

<p>The sheets.</p>
--b1x--
--b1
Content-Type: text/csv; name=\"assay-0412.csv\"
Content-Disposition: attachment; filename=\"assay-0412.csv\"
Content-Transfer-Encoding: base64

c3RhdGlvbixsZXZlbApC
MTIsMy41Cg
--b1
Content-Type: text/plain
Content-Disposition: attachment; filename*=utf-8''m%C3%A6rker.txt
Content-Transfer-Encoding: quoted-printable

caf=C3=A9 =
noir
last
--b1
Content-Disposition: attachment; filename=\"..\\..\\etc/passwd\"

--b1 is no boundary
plain

--b1--
Nothing here counts.
";

#[test]
fn attachments_are_taken_out_as_they_were_before_they_were_sent() {
    let (taken, contents) = all(TWO).unwrap();
    let names: Vec<_> = taken.attachments.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["assay-0412.csv", "mærker.txt", "passwd"]);
    assert_eq!(contents[0], b"station,level\nB12,3.5\n");
    assert_eq!(contents[1], "café noir\r\nlast".as_bytes());
    assert_eq!(contents[2], b"--b1 is no boundary\r\nplain\r\n");
    let sizes: Vec<u64> = contents.iter().map(|content| content.len() as u64).collect();
    assert_eq!(taken.attachments.iter().map(|one| one.size).collect::<Vec<_>>(), sizes);
}

#[test]
fn the_head_tells_who_wrote_to_whom_about_what_and_when() {
    let (taken, _) = all(TWO).unwrap();
    assert_eq!(
        taken.facts,
        LetterFacts {
            from: "desk@lindmoor.example".to_owned(),
            to: "office@merrow.example, archive@tidewatch.example".to_owned(),
            subject: "Assay sheets – week 11".to_owned(),
            date: Some("2026-03-14T06:00:00Z".parse().unwrap()),
            id: "one@lindmoor.example".to_owned(),
        }
    );
}

#[test]
fn only_what_is_wanted_is_written_and_the_rest_is_counted() {
    let letter = TWO.replace('\n', "\r\n");
    let (taken, contents) = out_of(letter.as_bytes(), 1 << 20, |name| name.ends_with(".csv")).unwrap();
    assert_eq!((taken.attachments.len(), contents.len(), taken.others), (1, 1, 2));
    let error = out_of(letter.as_bytes(), 10, |_| true).unwrap_err();
    assert!(matches!(error, ErrandError::TooMuch(_)), "{error}");
}

#[test]
fn two_attachments_of_one_name_are_told_apart() {
    let part = "--b\nContent-Disposition: attachment; filename=a.csv\n\nx\n";
    let letter = format!("From: a@b.example\nContent-Type: multipart/mixed; boundary=b\n\n{part}{part}{part}--b--\n");
    let (taken, _) = all(&letter).unwrap();
    let names: Vec<_> = taken.attachments.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["a.csv", "a (2).csv", "a (3).csv"]);
}

#[test]
fn a_letter_without_parts_can_be_one_attachment_or_none() {
    assert_eq!(all("From: a@b.example\nSubject: hello\n\nHow are you?\n").unwrap().0.attachments, []);
    let (taken, contents) =
        all("From: a@b.example\nContent-Type: text/csv; name=x.csv\nContent-Transfer-Encoding: base64\n\neA==\n")
            .unwrap();
    assert_eq!((taken.attachments[0].name.as_str(), contents[0].as_slice()), ("x.csv", b"x".as_slice()));
}

#[test]
fn a_letter_that_is_none_or_is_cut_off_or_damaged_is_refused() {
    let cut = TWO.split("c3Rh").next().unwrap().to_owned() + "c3RhdGlv\n";
    let no_boundary = TWO.replace("boundary=\"b1\"", "charset=x");
    let digits = TWO.replace("c3RhdGlv", "c3R!dGlv");
    let quoted = TWO.replace("caf=C3=A9", "caf=ZZ");
    let deep = (0..30).fold("From: a@b.example\n".to_owned(), |text, level| {
        format!("{text}Content-Type: multipart/mixed; boundary=d{level}\n\n--d{level}\n")
    });
    for (letter, said) in [
        ("", "no letter"),
        (cut.as_str(), "ends in the middle of \"assay-0412.csv\""),
        (no_boundary.as_str(), "cannot be told apart"),
        (digits.as_str(), "\"assay-0412.csv\" is damaged"),
        (quoted.as_str(), "\"mærker.txt\" is damaged"),
        (deep.as_str(), "too deep"),
    ] {
        let error = all(letter).expect_err(said);
        assert!(error.to_string().contains(said), "{error}");
    }
    let endless = format!("From: a@b.example\nX: {}\n", "y".repeat(300 << 10));
    assert!(matches!(all(&endless).unwrap_err(), ErrandError::TooMuch(_)));
}

proptest! {
    #[test]
    fn what_is_written_into_a_letter_comes_out_of_it(
        contents in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..3000), 0..4),
        text in "[ -~é\n]{0,200}",
    ) {
        let files = contents.iter().enumerate().map(|(number, content)| Enclosed {
            name: format!("größe {number}.csv"),
            content: content.clone(),
        });
        let letter = write_letter(Letter {
            from: "office@merrow.example".to_owned(),
            to: vec!["wardens@merrow.example".to_owned()],
            subject: "Bulletin – week 11".to_owned(),
            text,
            files: files.collect(),
            id: "1-2@merrow".to_owned(),
            date: "2026-03-14T06:00:00Z".parse().unwrap(),
        }).unwrap();
        let (taken, found) = out_of(&letter, 1 << 20, |_| true).unwrap();
        prop_assert_eq!(found, contents);
        prop_assert_eq!(taken.facts.subject, "Bulletin – week 11");
        let named = |(number, one): (usize, &Attachment)| one.name == format!("größe {number}.csv");
        prop_assert!(taken.attachments.iter().enumerate().all(named));
    }

    #[test]
    fn no_letter_however_wrong_brings_it_down(
        letter in "(From: a\r\n|Content-Type: multipart/mixed; boundary=b\r\n|\r\n|--b\r\n|--b--\r\n|Content-Transfer-Encoding: base64\r\n|Content-Disposition: attachment\r\n|[ -~]{0,20}\r\n){0,30}",
    ) {
        let _ = out_of(letter.as_bytes(), 1 << 20, |_| true);
    }
}

/// A letter with one part of this head and content.
fn with_part(head: &str, content: &str) -> String {
    format!(
        "From: a@b.example\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=x\n\n--x\n{head}\n\n{content}\n--x--\n"
    )
}

#[test]
fn what_has_a_name_is_a_file_and_the_full_name_counts() {
    for (head, name) in [
        ("Content-Type: application/pdf; name=sheet.pdf\nContent-Disposition: inline\nContent-ID: <1>", "sheet.pdf"),
        (
            "Content-Disposition: attachment; filename=\"m_rker.txt\"; filename*=utf-8''m%C3%A6rker.txt",
            "m\u{e6}rker.txt",
        ),
        (
            "Content-Disposition: attachment; filename*=utf-8''m%C3%A6rker.txt; filename=\"m_rker.txt\"",
            "m\u{e6}rker.txt",
        ),
        ("Content-Disposition: attachment; filename=.wetbank-1", "wetbank-1"),
    ] {
        let (taken, _) = all(&with_part(head, "x")).unwrap();
        let names: Vec<_> = taken.attachments.iter().map(|one| one.name.as_str()).collect();
        assert_eq!(names, [name], "{head}");
    }
    let long = format!("Content-Disposition: attachment; filename=\"{}.csv\"", "n".repeat(300));
    let name = all(&with_part(&long, "x")).unwrap().0.attachments[0].name.clone();
    assert!(name.len() == 200 && name.ends_with("nn.csv"), "{name}");
}

#[test]
fn what_unix_once_wrote_into_letters_is_read_and_what_is_not_known_is_told() {
    let head = "Content-Disposition: attachment; filename=cat.txt\nContent-Transfer-Encoding: x-uuencode";
    let (_, contents) = all(&with_part(head, "begin 644 cat.txt\n#0V%T\n`\nend")).unwrap();
    assert_eq!(contents[0], b"Cat");
    assert!(all(&with_part(head, "begin 644 cat.txt\n#0V%T")).is_err(), "it has no end");
    let unknown = head.replace("x-uuencode", "x-yenc");
    let error = all(&with_part(&unknown, "x")).unwrap_err();
    assert!(error.to_string().contains("x-yenc"), "{error}");
}

#[test]
fn a_letter_within_a_letter_is_one_file_and_its_own_attachments_stay_in_it() {
    let inner =
        with_part("Content-Disposition: attachment; filename=a.csv", "1").replace("=x", "=y").replace("--x", "--y");
    let (taken, contents) = all(&with_part("Content-Type: message/rfc822", &inner)).unwrap();
    assert_eq!(taken.attachments.len(), 1);
    assert!(taken.attachments[0].name.ends_with(".eml") && contents[0].starts_with(b"From: a@b.example"));
}
