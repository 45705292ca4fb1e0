//! Against the real GnuPG: it reads what we write, we read what it writes, and keys that it
//! would not use we do not use either.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{
    fs,
    io::{Cursor, Write},
    path::PathBuf,
    process::{Command, Stdio},
};

use jiff::{Timestamp, ToSpan};
use tempfile::TempDir;
use wetbank_crypt::{
    CryptError, KeyError, Opened, Opening, PgpKey, Sealing, decrypt, encrypt,
    policy::{Unfit, Use},
};

/// A GnuPG home of this test's own.
struct Gnupg(TempDir);

impl Drop for Gnupg {
    fn drop(&mut self) {
        let _ = Command::new("gpgconf").env("GNUPGHOME", self.0.path()).args(["--kill", "all"]).status();
    }
}

impl Gnupg {
    /// One for which a passphrase costs little: else making and using keys takes most of a test's time.
    fn new() -> Self {
        let home = Self::guarded();
        fs::write(home.file("gpg-agent.conf"), "s2k-count 65536\n").unwrap();
        home
    }

    /// One that makes each use of a passphrase as slow as it does for people.
    fn guarded() -> Self {
        use std::os::unix::fs::PermissionsExt;
        let home = TempDir::new().unwrap();
        fs::set_permissions(home.path(), fs::Permissions::from_mode(0o700)).unwrap();
        Self(home)
    }

    fn file(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn try_run(&self, words: &[&str], input: &[u8]) -> Result<Vec<u8>, String> {
        let mut child = Command::new("gpg")
            .env("GNUPGHOME", self.0.path())
            .args(["--batch", "--yes", "--quiet", "--no-tty", "--pinentry-mode", "loopback", "--passphrase", "heron"])
            .args(["--trust-model", "always"])
            .args(words)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("gpg is installed");
        let mut stdin = child.stdin.take().unwrap();
        let input = input.to_owned();
        let writer = std::thread::spawn(move || stdin.write_all(&input));
        let output = child.wait_with_output().unwrap();
        let _ = writer.join();
        if output.status.success() {
            Ok(output.stdout)
        } else {
            Err(String::from_utf8_lossy(&output.stderr).into_owned())
        }
    }

    fn run(&self, words: &[&str], input: &[u8]) -> Vec<u8> {
        self.try_run(words, input).unwrap_or_else(|e| panic!("gpg {words:?}: {e}"))
    }

    /// Makes a key and gives it as we import it, secret part included.
    fn key(&self, name: &str, algorithm: &str, usage: &str, expire: &str) -> PgpKey {
        self.run(&["--quick-generate-key", name, algorithm, usage, expire], b"");
        self.import(name)
    }

    /// A key with an encryption subkey, as people have them.
    fn usual_key(&self, name: &str) -> PgpKey {
        self.key(name, "default", "default", "never")
    }

    fn import(&self, name: &str) -> PgpKey {
        let export = self.run(&["--armor", "--export-secret-keys", name], b"");
        PgpKey::import(name, &export, Some(&"heron".into())).unwrap()
    }

    fn public(&self, name: &str) -> PgpKey {
        PgpKey::import(name, &self.run(&["--export", name], b""), None).unwrap()
    }
}

fn now() -> Timestamp {
    Timestamp::now()
}

fn seal(content: &[u8], sealing: &Sealing<'_>) -> Result<Vec<u8>, CryptError> {
    let mut sealed = Vec::new();
    encrypt(content, &mut sealed, sealing, now()).map(|()| sealed)
}

fn open(sealed: &[u8], opening: &Opening<'_>) -> Result<(Vec<u8>, Opened), CryptError> {
    let mut plain = Vec::new();
    let opened = decrypt(Cursor::new(sealed.to_vec()), &mut plain, opening, now())?;
    Ok((plain, opened))
}

fn content() -> Vec<u8> {
    (0..700_000u32).map(|n| (n % 251) as u8).collect()
}

#[test]
fn gnupg_reads_what_we_encrypt_to_one_and_to_several() {
    let gnupg = Gnupg::new();
    let (harbour, archive) = (gnupg.usual_key("harbour"), gnupg.key("archive", "rsa2048", "sign,encrypt", "never"));
    for recipients in [vec![&harbour], vec![&archive], vec![&harbour, &archive]] {
        for armour in [false, true] {
            let sealed =
                seal(&content(), &Sealing { recipients: recipients.clone(), armour, ..Sealing::default() }).unwrap();
            assert_eq!(armour, sealed.starts_with(b"-----BEGIN PGP MESSAGE-----"));
            assert!(gnupg.run(&["--decrypt"], &sealed) == content());
        }
    }
}

#[test]
fn gnupg_reads_what_we_encrypt_to_a_passphrase_and_verifies_what_we_sign() {
    let gnupg = Gnupg::new();
    let merrow = gnupg.usual_key("merrow");
    let passphrase = "heron".into();
    let sealed = seal(&content(), &Sealing { passphrase: Some(&passphrase), ..Sealing::default() }).unwrap();
    assert!(gnupg.run(&["--decrypt"], &sealed) == content());
    let sealing = Sealing { recipients: vec![&merrow], signer: Some(&merrow), ..Sealing::default() };
    let sealed = seal(&content(), &sealing).unwrap();
    let status =
        gnupg.run(&["--status-fd", "1", "--output", gnupg.file("out").to_str().unwrap(), "--decrypt"], &sealed);
    assert!(String::from_utf8_lossy(&status).contains("GOODSIG"));
}

#[test]
fn we_read_what_gnupg_writes() {
    let gnupg = Gnupg::new();
    let (merrow, lab) = (gnupg.usual_key("merrow"), gnupg.key("lab", "rsa3072", "sign,encrypt", "never"));
    let keys = || Opening { keys: vec![&merrow, &lab], ..Opening::default() };
    for words in [
        &["--encrypt", "-r", "merrow"][..],
        &["--encrypt", "-r", "lab"],
        &["--encrypt", "-r", "merrow", "-r", "lab", "--armor"],
        &["--encrypt", "-r", "merrow", "-z", "0"],
        &["--encrypt", "-r", "merrow", "--compress-algo", "zlib"],
        &["--encrypt", "--hidden-recipient", "merrow"],
    ] {
        let sealed = gnupg.run(words, &content());
        let (plain, _) = open(&sealed, &keys()).unwrap_or_else(|e| panic!("{words:?}: {e}"));
        assert!(plain == content(), "{words:?}");
    }
    let sealed = gnupg.run(&["--symmetric"], &content());
    let passphrase = "heron".into();
    assert!(open(&sealed, &Opening { passphrases: vec![&passphrase], ..Opening::default() }).unwrap().0 == content());
    let wrong = "bittern".into();
    assert!(open(&sealed, &Opening { passphrases: vec![&wrong], ..Opening::default() }).is_err());
}

#[test]
fn a_signature_is_checked_whoever_asks_and_required_when_asked() {
    let gnupg = Gnupg::new();
    let (merrow, lab, stranger) = (gnupg.usual_key("merrow"), gnupg.usual_key("lab"), gnupg.usual_key("stranger"));
    let signed = gnupg.run(&["--encrypt", "--sign", "-u", "lab", "-r", "merrow"], &content());
    let (plain, opened) =
        open(&signed, &Opening { keys: vec![&merrow, &lab], signed_by: vec![&lab], ..Opening::default() }).unwrap();
    assert!(plain == content());
    assert_eq!(opened.signed_by, ["lab"]);
    let wanted = Opening { keys: vec![&merrow, &lab], signed_by: vec![&stranger], ..Opening::default() };
    assert!(matches!(open(&signed, &wanted), Err(CryptError::Signature(_))));
    let unsigned = gnupg.run(&["--encrypt", "-r", "merrow"], &content());
    let wanted = Opening { keys: vec![&merrow], signed_by: vec![&lab], ..Opening::default() };
    assert!(matches!(open(&unsigned, &wanted), Err(CryptError::Signature(_))));
}

#[test]
fn nothing_damaged_cut_off_or_lengthened_is_accepted() {
    let gnupg = Gnupg::new();
    let merrow = gnupg.usual_key("merrow");
    let opening = || Opening { keys: vec![&merrow], ..Opening::default() };
    let ours = seal(&content(), &Sealing { recipients: vec![&merrow], ..Sealing::default() }).unwrap();
    let theirs = gnupg.run(&["--encrypt", "-r", "merrow"], &content());
    for sealed in [ours, theirs] {
        open(&sealed, &opening()).unwrap();
        for at in [sealed.len() / 2, sealed.len() - 30, sealed.len() - 1] {
            let mut damaged = sealed.clone();
            damaged[at] ^= 1;
            assert!(open(&damaged, &opening()).is_err(), "flipped at {at} of {}", sealed.len());
        }
        for length in [0, 1, 100, sealed.len() / 2, sealed.len() - 1] {
            assert!(open(&sealed[..length], &opening()).is_err(), "cut to {length}");
        }
        let mut longer = sealed.clone();
        longer.extend_from_slice(b"more behind it");
        assert!(open(&longer, &opening()).is_err(), "something trails");
        let mut twice = sealed.clone();
        twice.extend_from_slice(&sealed);
        assert!(open(&twice, &opening()).is_err(), "a second message trails");
    }
}

#[test]
fn what_is_wrong_with_a_message_is_told_apart() {
    let gnupg = Gnupg::new();
    let merrow = gnupg.usual_key("merrow");
    let opening = || Opening { keys: vec![&merrow], ..Opening::default() };
    assert!(matches!(open(&content(), &opening()), Err(CryptError::NoMessage)));
    assert!(matches!(open(b"", &opening()), Err(CryptError::NoMessage)));
    for words in [&["--store"][..], &["--sign", "-u", "merrow"], &["--sign", "-z", "0", "-u", "merrow"]] {
        let readable = gnupg.run(words, b"in clear");
        assert!(matches!(open(&readable, &opening()), Err(CryptError::NotEncrypted(_))), "{words:?}");
    }
    let sealed = gnupg.run(&["--symmetric"], &content());
    let (wrong, right) = ("bittern".into(), "heron".into());
    let with = |passphrase| Opening { passphrases: vec![passphrase], ..opening() };
    assert!(matches!(open(&sealed, &with(&wrong)), Err(CryptError::WrongPassphrase)));
    assert!(open(&sealed, &with(&right)).is_ok());
    let armoured = String::from_utf8(gnupg.run(&["--armor", "--encrypt", "-r", "merrow"], &content())).unwrap();
    assert!(open(armoured.as_bytes(), &opening()).is_ok());
    let at = armoured.rfind("\n=").unwrap() + 2;
    let other = if &armoured[at..=at] == "A" { "B" } else { "A" };
    let changed = format!("{}{other}{}", &armoured[..at], &armoured[at + 1..]);
    assert!(matches!(open(changed.as_bytes(), &opening()), Err(CryptError::Damaged)), "the checksum counts");
}

#[test]
fn what_gnupg_compresses_is_read_whichever_way() {
    let gnupg = Gnupg::new();
    let merrow = gnupg.usual_key("merrow");
    for way in ["zip", "zlib", "bzip2", "none"] {
        let sealed = gnupg.run(&["--compress-algo", way, "--encrypt", "-r", "merrow"], &content());
        let opened = open(&sealed, &Opening { keys: vec![&merrow], ..Opening::default() });
        assert!(opened.unwrap_or_else(|e| panic!("{way}: {e}")).0 == content());
    }
}

#[test]
fn a_signer_is_a_certificate_whatever_it_is_called_here() {
    let gnupg = Gnupg::new();
    let (merrow, lab) = (gnupg.usual_key("merrow"), gnupg.usual_key("lab"));
    let again = PgpKey::import("laboratory", &gnupg.run(&["--export", "lab"], b""), None).unwrap();
    let signed = gnupg.run(&["--encrypt", "--sign", "-u", "lab", "-r", "merrow"], &content());
    let opening = Opening { keys: vec![&merrow, &lab, &again], signed_by: vec![&again], ..Opening::default() };
    assert!(open(&signed, &opening).is_ok());
}

#[test]
fn a_revocation_is_never_undone_by_an_older_copy() {
    let gnupg = Gnupg::new();
    let mut key = gnupg.usual_key("gone");
    let older = gnupg.public("gone");
    let text = fs::read(gnupg.file(&format!("openpgp-revocs.d/{}.rev", key.fingerprint()))).unwrap();
    assert!(matches!(key.revoke_by(&text), Err(KeyError::HeldBack)));
    let text = String::from_utf8(text).unwrap().replace(":-----BEGIN", "-----BEGIN");
    assert!(key.revoke_by(text.as_bytes()).unwrap());
    key.learn(&older);
    assert_eq!(key.fitness(Use::Encrypt, now()), Err(Unfit::Revoked));
    let mut copy = gnupg.public("gone");
    copy.learn(&key);
    assert_eq!(copy.fitness(Use::Encrypt, now()), Err(Unfit::Revoked));
    let mut other = gnupg.usual_key("other");
    assert!(matches!(other.revoke_by(text.as_bytes()), Err(KeyError::RevokesAnother(_))));
    assert!(!other.revoke_by(b"no key").unwrap());
}

#[test]
fn a_key_whose_primary_part_is_kept_elsewhere_opens_what_is_for_it() {
    let gnupg = Gnupg::new();
    gnupg.usual_key("merrow");
    let export = gnupg.run(&["--armor", "--export-secret-subkeys", "merrow"], b"");
    assert!(matches!(PgpKey::import("x", &export, Some(&"bittern".into())), Err(KeyError::WrongPassphrase)));
    let key = PgpKey::import("merrow", &export, Some(&"heron".into())).unwrap();
    let sealed = gnupg.run(&["--encrypt", "-r", "merrow"], &content());
    assert!(open(&sealed, &Opening { keys: vec![&key], ..Opening::default() }).unwrap().0 == content());
}

#[test]
fn a_message_to_somebody_else_is_told_as_such() {
    let gnupg = Gnupg::new();
    let (merrow, _) = (gnupg.usual_key("merrow"), gnupg.usual_key("other"));
    let sealed = gnupg.run(&["--encrypt", "-r", "other"], &content());
    let error = open(&sealed, &Opening { keys: vec![&merrow], ..Opening::default() }).unwrap_err();
    let CryptError::NoKey(told) = &error else { panic!("{error}") };
    let ids = String::from_utf8(gnupg.run(&["--list-packets"], &sealed)).unwrap();
    let id = ids.split("keyid ").nth(1).unwrap().split_whitespace().next().unwrap().to_owned();
    assert!(told.contains(&id), "{told}: {id}");
}

#[test]
fn expired_revoked_and_unfit_keys_are_refused_with_their_reason() {
    let gnupg = Gnupg::new();
    let short = gnupg.key("short", "default", "default", "1d");
    assert!(short.fitness(Use::Encrypt, now()).unwrap().is_some());
    let later = now().checked_add(48.hours()).unwrap();
    assert!(matches!(short.fitness(Use::Encrypt, later), Err(Unfit::Expired(_))));
    let mut sealed = Vec::new();
    let refused = encrypt(&b"x"[..], &mut sealed, &Sealing { recipients: vec![&short], ..Sealing::default() }, later);
    assert!(refused.unwrap_err().to_string().contains("expired on"), "the reason is told");
    assert!(sealed.is_empty(), "not a byte was written");

    let signing_only = gnupg.key("signing", "ed25519", "sign", "never");
    assert_eq!(signing_only.fitness(Use::Encrypt, now()), Err(Unfit::NoSuchUse(Use::Encrypt)));
    assert!(signing_only.fitness(Use::Sign, now()).is_ok());

    let weak = gnupg.key("weak", "rsa1024", "sign,encrypt", "never");
    assert_eq!(weak.fitness(Use::Encrypt, now()), Err(Unfit::Weak));

    let gone = gnupg.usual_key("gone");
    let revocation = gnupg.file(&format!("openpgp-revocs.d/{}.rev", gone.fingerprint()));
    // GnuPG puts a colon before the block so that nobody imports it by mistake.
    let text = fs::read_to_string(revocation).unwrap().replace(":-----BEGIN", "-----BEGIN");
    gnupg.run(&["--import"], text.as_bytes());
    assert_eq!(gnupg.public("gone").fitness(Use::Encrypt, now()), Err(Unfit::Revoked));
}

#[test]
fn a_revoked_subkey_is_not_encrypted_to() {
    let gnupg = Gnupg::new();
    let key = gnupg.usual_key("merrow");
    let commands = "key 1\nrevkey\ny\n0\n\ny\nsave\n";
    let file = gnupg.file("commands");
    fs::write(&file, commands).unwrap();
    let edited =
        gnupg.try_run(&["--command-fd", "0", "--no-batch", "--edit-key", &key.fingerprint()], commands.as_bytes());
    edited.expect("gpg revokes the subkey");
    assert_eq!(gnupg.public("merrow").fitness(Use::Encrypt, now()), Err(Unfit::Revoked));
}

#[test]
fn an_import_takes_exactly_one_key_and_proves_its_passphrase() {
    let gnupg = Gnupg::new();
    let key = gnupg.usual_key("merrow");
    gnupg.usual_key("lab");
    let both = gnupg.run(&["--armor", "--export"], b"");
    assert!(matches!(PgpKey::import("x", &both, None), Err(KeyError::Several(2))));
    let secret = gnupg.run(&["--armor", "--export-secret-keys", "merrow"], b"");
    assert!(matches!(PgpKey::import("x", &secret, None), Err(KeyError::NeedsPassphrase)));
    assert!(matches!(PgpKey::import("x", &secret, Some(&"bittern".into())), Err(KeyError::WrongPassphrase)));
    assert!(matches!(PgpKey::import("x", b"no key", None), Err(KeyError::NotAKey)));
    let kept = PgpKey::from_kept("merrow", &key.certificate_text().unwrap(), key.to_keep()).unwrap();
    assert!(kept.secret.is_some());
    assert!(!format!("{kept:?}").contains("heron"));
}

#[test]
fn a_key_of_our_own_making_is_fit_and_gnupg_can_use_it() {
    let gnupg = Gnupg::new();
    let key = PgpKey::generate("merrow", "Merrow <desk@merrow.example>").unwrap();
    assert!(key.fitness(Use::Encrypt, now()).is_ok() && key.fitness(Use::Sign, now()).is_ok());
    gnupg.run(&["--import"], key.certificate_text().unwrap().as_bytes());
    let sealed = gnupg.run(&["--encrypt", "-r", "desk@merrow.example"], &content());
    assert!(open(&sealed, &Opening { keys: vec![&key], ..Opening::default() }).unwrap().0 == content());
}

#[test]
fn a_message_opens_wherever_we_stand_among_its_recipients() {
    let gnupg = Gnupg::new();
    let ours = gnupg.usual_key("merrow");
    let others = ["harbour", "archive"].map(|name| gnupg.usual_key(name).name);
    for place in 0..3 {
        let mut recipients: Vec<&str> = others.iter().map(String::as_str).collect();
        recipients.insert(place, "merrow");
        let words: Vec<&str> = recipients.iter().flat_map(|name| ["-r", *name]).chain(["--encrypt"]).collect();
        let sealed = gnupg.run(&words, &content());
        let (plain, _) = open(&sealed, &Opening { keys: vec![&ours], ..Opening::default() }).unwrap();
        assert!(plain == content(), "{recipients:?}");
    }
}

#[test]
fn a_secret_key_is_opened_only_for_what_needs_it_and_once_for_many() {
    let gnupg = Gnupg::guarded();
    let (merrow, spare, harbour) = (gnupg.usual_key("merrow"), gnupg.usual_key("spare"), gnupg.public("merrow"));
    let sealed = gnupg.run(&["--encrypt", "-r", "merrow"], b"tide");
    let took = |work: &dyn Fn()| {
        let began = std::time::Instant::now();
        work();
        began.elapsed()
    };
    // One that is not among the recipients is not opened: to open it would take as long as to open ours.
    let keys = || Opening { keys: vec![&spare, &merrow], ..Opening::default() };
    let first = took(&|| drop(open(&sealed, &keys()).unwrap()));
    let next = took(&|| (0..20).for_each(|_| drop(open(&sealed, &keys()).unwrap())));
    assert!(next < first, "twenty times after the first took {next:?}, the first {first:?}");
    let public = took(&|| {
        let sealing = Sealing { recipients: vec![&harbour, &spare], ..Sealing::default() };
        (0..20).for_each(|_| drop(seal(b"tide", &sealing).unwrap()));
    });
    assert!(public < first, "encrypting needs no secret key: {public:?} against {first:?}");
    // Forgotten, it is opened again.
    merrow.close_unused(std::time::Instant::now() + wetbank_crypt::KEPT_OPEN);
    let again = took(&|| drop(open(&sealed, &keys()).unwrap()));
    assert!(again > next / 20 * 5, "{again:?} against {next:?} for twenty");
}
