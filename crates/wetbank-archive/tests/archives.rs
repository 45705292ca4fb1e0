//! Archives go round whole, and hostile ones stay out.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{
    fs::{self, File},
    io::{Cursor, Read, Write},
    path::Path,
    process::Command,
};

use jiff::Timestamp;
use proptest::prelude::*;
use tempfile::TempDir;
use wetbank_archive::{
    ArchiveError, Compression, Format, Limits, Member, Packing, Taking, Unpacked, compress, expand, pack, unpack,
};
use wetbank_core::RelPath;
use zip::{ZipWriter, write::SimpleFileOptions};

fn member(name: &str, content: &[u8]) -> Result<(Member, Cursor<Vec<u8>>), ArchiveError> {
    let modified = "2026-03-14T06:00:00Z".parse().unwrap();
    let name = RelPath::parse(name).unwrap();
    Ok((Member { name, size: content.len() as u64, modified }, Cursor::new(content.to_vec())))
}

fn packed(format: Format, passphrase: Option<&str>, files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut archive = Cursor::new(Vec::new());
    let members = files.iter().map(|(name, content)| member(name, content));
    assert_eq!(pack(format, &mut archive, &Packing { passphrase }, members).unwrap(), files.len());
    archive.into_inner()
}

fn taken(archive: &[u8], passphrase: Option<&str>, limits: Limits) -> Result<Vec<(String, Vec<u8>)>, ArchiveError> {
    let folder = TempDir::new().unwrap();
    let out = folder.path().join("out");
    fs::create_dir(&out).unwrap();
    fs::write(folder.path().join("archive"), archive).unwrap();
    let file = File::open(folder.path().join("archive")).unwrap();
    let result = unpack(file, &out, Taking { passphrase, limits, mode: 0o600, stop: &|| false });
    // Whatever came, nothing was written anywhere else.
    let mut beside: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    beside.sort();
    assert_eq!(beside, ["archive", "out"]);
    let read = |file: Unpacked| {
        let content = fs::read(&file.path).unwrap();
        assert_eq!(content.len() as u64, file.size);
        (file.name.to_string(), content)
    };
    Ok(result?.into_iter().map(read).collect())
}

fn plain(archive: &[u8]) -> Result<Vec<(String, Vec<u8>)>, ArchiveError> {
    taken(archive, None, Limits::default())
}

/// A zip as somebody else may make it.
fn foreign_zip(names: &[&str]) -> Vec<u8> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for name in names {
        zip.start_file(*name, SimpleFileOptions::default()).unwrap();
        zip.write_all(b"reading").unwrap();
    }
    zip.finish().unwrap().into_inner()
}

/// A tape archive with a header of our choice.
fn foreign_tar(name: &[u8], kind: tar::EntryType) -> Vec<u8> {
    let mut header = tar::Header::new_ustar();
    header.as_mut_bytes()[..name.len()].copy_from_slice(name);
    header.set_entry_type(kind);
    header.set_size(7);
    header.set_cksum();
    let mut tar = tar::Builder::new(Vec::new());
    tar.append(&header, &b"reading"[..]).unwrap();
    tar.into_inner().unwrap()
}

const FILES: [(&str, &[u8]); 3] =
    [("gauge-07.csv", b"06:00;1.20\n"), ("boats/sounding-B12.xyz", b""), ("gr\u{fc}\u{df}e.txt", b"three")];

#[test]
fn what_is_packed_is_taken_out_the_same() {
    for format in [Format::Zip, Format::TarGz] {
        let out = plain(&packed(format, None, &FILES)).unwrap();
        let expected: Vec<_> = FILES.iter().map(|(name, content)| ((*name).to_owned(), content.to_vec())).collect();
        assert_eq!(out, expected, "{format:?}");
    }
}

#[test]
fn other_programs_read_what_is_packed_and_what_they_pack_is_read() {
    let folder = TempDir::new().unwrap();
    let run = |program: &str, words: &[&str]| {
        let output = Command::new(program).args(words).current_dir(folder.path()).output().unwrap();
        assert!(output.status.success(), "{program}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    fs::write(folder.path().join("ours.zip"), packed(Format::Zip, None, &FILES)).unwrap();
    fs::write(folder.path().join("ours.tar.gz"), packed(Format::TarGz, None, &FILES)).unwrap();
    let listed =
        run("python3", &["-c", "import zipfile; z = zipfile.ZipFile('ours.zip'); print(z.testzip(), z.namelist())"]);
    assert_eq!(listed.trim(), "None ['gauge-07.csv', 'boats/sounding-B12.xyz', 'gr\u{fc}\u{df}e.txt']");
    assert!(run("tar", &["-tzf", "ours.tar.gz"]).starts_with("gauge-07.csv\nboats/sounding-B12.xyz\n"));
    fs::create_dir(folder.path().join("in")).unwrap();
    fs::write(folder.path().join("in/a.csv"), "one").unwrap();
    run("tar", &["-czf", "theirs.tar.gz", "-C", "in", "."]);
    run("tar", &["-cf", "theirs.tar", "in"]);
    run(
        "python3",
        &[
            "-c",
            "import zipfile; z = zipfile.ZipFile('theirs.zip', 'w', zipfile.ZIP_DEFLATED); z.write('in', 'in'); z.write('in/a.csv')",
        ],
    );
    for (name, inside) in [("theirs.tar.gz", "a.csv"), ("theirs.tar", "in/a.csv"), ("theirs.zip", "in/a.csv")] {
        let out = plain(&fs::read(folder.path().join(name)).unwrap()).unwrap();
        assert_eq!(out, [(inside.to_owned(), b"one".to_vec())], "{name}");
    }
}

#[test]
fn an_encrypted_zip_opens_with_its_passphrase_only() {
    let archive = packed(Format::Zip, Some("grey heron"), &FILES[..1]);
    assert!(!archive.windows(5).any(|part| part == b"06:00"));
    assert_eq!(taken(&archive, Some("grey heron"), Limits::default()).unwrap()[0].1, FILES[0].1);
    assert!(matches!(taken(&archive, Some("white heron"), Limits::default()), Err(ArchiveError::WrongPassphrase(_))));
    assert!(matches!(plain(&archive), Err(ArchiveError::Locked(name)) if name == "gauge-07.csv"));
    // A byte of the content changed: the seal does not fit any more.
    let mut changed = archive.clone();
    let at = changed.windows(12).position(|part| part == b"gauge-07.csv").unwrap() + 12 + 11 + 18 + 4;
    changed[at] ^= 1;
    assert!(taken(&changed, Some("grey heron"), Limits::default()).is_err());
}

#[test]
fn no_name_leads_out_and_none_comes_twice() {
    for name in
        ["../escape.csv", "/etc/escape", "a/../../escape", "a//b", "C:/escape", "..\\escape", "a/./b", "nul\0l", ".."]
    {
        let error = plain(&foreign_zip(&[name])).unwrap_err();
        assert!(matches!(error, ArchiveError::Name { .. }), "zip {name:?}: {error}");
        let error = plain(&foreign_tar(name.as_bytes(), tar::EntryType::Regular));
        // A tape archive's names end at NUL.
        assert!(matches!(error, Err(ArchiveError::Name { .. })) || name.contains('\0'), "tar {name:?}: {error:?}");
    }
    let mut many = foreign_zip(&["aa", "bb"]);
    while let Some(at) = many.windows(2).position(|part| part == b"bb") {
        many[at..at + 2].copy_from_slice(b"aa");
    }
    assert!(matches!(plain(&many), Err(ArchiveError::Twice(_)) | Err(ArchiveError::Damaged(_))));
    for kind in [tar::EntryType::Symlink, tar::EntryType::Link, tar::EntryType::Char, tar::EntryType::Fifo] {
        assert!(matches!(plain(&foreign_tar(b"link", kind)), Err(ArchiveError::NotAFile(_))), "{kind:?}");
    }
    let two = [member("a.csv", b"1"), member("a.csv", b"2")];
    let error = pack(Format::Zip, Cursor::new(Vec::new()), &Packing::default(), two.into_iter());
    assert!(matches!(error, Err(ArchiveError::Twice(name)) if name == "a.csv"));
}

#[test]
fn a_bomb_is_stopped_before_it_fills_the_disk() {
    let zeros = vec![0; 3_000_000];
    let files: Vec<_> = (0..120).map(|number| format!("{number}.csv")).collect();
    let named: Vec<(&str, &[u8])> = files.iter().map(|name| (name.as_str(), zeros.as_slice())).collect();
    let archive = packed(Format::Zip, None, &named);
    assert!(matches!(plain(&archive), Err(ArchiveError::Bomb(250))));
    let limits = |files, bytes| Limits { files, bytes, ratio: u64::MAX };
    assert!(matches!(taken(&archive, None, limits(119, u64::MAX)), Err(ArchiveError::TooMany(119))));
    assert!(matches!(taken(&archive, None, limits(200, 300_000_000)), Err(ArchiveError::TooLarge(_))));
    assert_eq!(taken(&archive, None, limits(120, 360_000_000)).unwrap().len(), 120);
    let mut bomb = Vec::new();
    compress(std::io::repeat(0).take(400_000_000), &mut bomb, Compression::Gzip).unwrap();
    let size = bomb.len() as u64;
    assert!(matches!(expand(&bomb[..], std::io::sink(), size, Limits::default()), Err(ArchiveError::Bomb(_))));
}

#[test]
fn compressed_files_expand_to_themselves_and_damaged_ones_are_told() {
    let text = "06:00;1.20\n".repeat(50_000).into_bytes();
    for with in [Compression::Gzip, Compression::Zstd] {
        let mut small = Vec::new();
        compress(&text[..], &mut small, with).unwrap();
        assert!(small.len() * 10 < text.len());
        let mut back = Vec::new();
        assert_eq!(expand(&small[..], &mut back, small.len() as u64, Limits::default()).unwrap(), with);
        assert_eq!(back, text);
        // Two one after the other are one file.
        let twice = [small.clone(), small.clone()].concat();
        let mut back = Vec::new();
        expand(&twice[..], &mut back, twice.len() as u64, Limits::default()).unwrap();
        assert_eq!(back.len(), text.len() * 2);
        for cut in [small.len() / 2, small.len() - 3] {
            let error = expand(&small[..cut], std::io::sink(), cut as u64, Limits::default()).unwrap_err();
            assert!(matches!(error, ArchiveError::Damaged(_)), "{with:?} {cut}: {error:?}");
        }
        let mut changed = small.clone();
        let middle = changed.len() / 2;
        changed[middle] ^= 0x55;
        assert!(expand(&changed[..], std::io::sink(), 1, Limits::default()).is_err());
    }
    assert!(matches!(
        expand(&b"plain text"[..], std::io::sink(), 10, Limits::default()),
        Err(ArchiveError::Damaged(_))
    ));
}

#[test]
fn what_is_no_archive_is_told_and_not_guessed_at() {
    for content in
        [&b"plain text that is long enough to be something, but is no archive at all"[..], b"PK\x03\x04", b"\x1f\x8b"]
    {
        assert!(matches!(plain(content), Err(ArchiveError::Damaged(_))), "{content:?}");
    }
    let whole = packed(Format::Zip, None, &FILES);
    assert!(plain(&whole[..whole.len() - 30]).is_err());
}

fn folder_of(path: &Path) -> usize {
    fs::read_dir(path).map_or(0, Iterator::count)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Whatever bytes come, reading them ends, and nothing is written beside the folder.
    #[test]
    fn noise_is_read_to_an_end(mut noise in prop::collection::vec(any::<u8>(), 0..3000), start in 0usize..4) {
        let starts: [&[u8]; 4] = [b"PK\x03\x04", b"\x1f\x8b\x08\x00", b"\x28\xb5\x2f\xfd", b""];
        noise.splice(0..0, starts[start].iter().copied());
        let _ = plain(&noise);
        let _ = expand(&noise[..], std::io::sink(), noise.len() as u64, Limits::default());
        prop_assert_eq!(folder_of(Path::new("out")), 0);
    }

    /// A good archive with some bytes changed gives an error or files, never a file outside.
    #[test]
    fn a_changed_archive_does_no_harm(at in 0usize..400, with in any::<u8>(), format in prop::sample::select(vec![Format::Zip, Format::TarGz])) {
        let mut archive = packed(format, None, &FILES);
        let at = at % archive.len();
        archive[at] ^= with;
        let _ = plain(&archive);
    }
}

#[test]
fn times_before_zips_began_do_no_harm() {
    let old = Member { name: RelPath::parse("old").unwrap(), size: 0, modified: Timestamp::UNIX_EPOCH };
    let mut archive = Cursor::new(Vec::new());
    pack(Format::Zip, &mut archive, &Packing::default(), std::iter::once(Ok((old, std::io::empty())))).unwrap();
    assert_eq!(plain(&archive.into_inner()).unwrap().len(), 1);
}

/// A tape archive whose extended header or long name has this size.
fn tar_with_header(kind: tar::EntryType, content: &[u8]) -> Vec<u8> {
    let mut header = tar::Header::new_ustar();
    header.set_path("header").unwrap();
    header.set_entry_type(kind);
    header.set_size(content.len() as u64);
    header.set_cksum();
    let mut tar = tar::Builder::new(Vec::new());
    tar.append(&header, content).unwrap();
    let mut file = tar::Header::new_ustar();
    file.set_path("a.csv").unwrap();
    file.set_size(7);
    file.set_cksum();
    tar.append(&file, &b"reading"[..]).unwrap();
    tar.into_inner().unwrap()
}

#[test]
fn a_header_of_a_tape_archive_takes_no_memory_that_no_honest_one_needs() {
    for kind in [tar::EntryType::XHeader, tar::EntryType::XGlobalHeader, tar::EntryType::GNULongName] {
        let archive = tar_with_header(kind, &vec![b'a'; 1 << 20]);
        let error = plain(&archive).unwrap_err();
        assert!(matches!(&error, ArchiveError::Damaged(why) if why.contains("64 KiB")), "{kind:?}: {error}");
    }
}

#[test]
fn a_size_that_an_extended_header_tells_is_followed() {
    let folder = TempDir::new().unwrap();
    let script = "import tarfile, io\nt = tarfile.open('pax.tar', 'w', format=tarfile.PAX_FORMAT)\n\
        for name, data in [('n' * 150 + '.csv', b'one'), ('b.csv', b'two' * 9000)]:\n\
        \x20   i = tarfile.TarInfo(name); i.size = len(data); i.pax_headers = {'size': str(len(data)), 'comment': 'x' * 3000}\n\
        \x20   t.addfile(i, io.BytesIO(data))\nt.close()\n";
    let made = Command::new("python3").args(["-c", script]).current_dir(folder.path()).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let out = plain(&fs::read(folder.path().join("pax.tar")).unwrap()).unwrap();
    let expected = [("n".repeat(150) + ".csv", b"one".to_vec()), ("b.csv".to_owned(), b"two".repeat(9000))];
    assert_eq!(out, expected);
}

#[test]
fn nothing_is_taken_out_of_an_archive_whose_names_contradict_each_other() {
    for names in [&["x", "x/y"][..], &["x/y", "x"], &["a/b/c", "a/b"]] {
        let error = plain(&foreign_zip(names)).unwrap_err();
        assert!(matches!(error, ArchiveError::FileAndFolder(_)), "{names:?}: {error}");
    }
    let long = "n".repeat(304);
    for name in [long.as_str(), ".wetbank-1", "boats/.wetbank-x/a.csv"] {
        let error = plain(&foreign_zip(&[name])).unwrap_err();
        assert!(matches!(error, ArchiveError::Name { .. }), "{name}: {error}");
    }
    let mut two = foreign_zip(&["a.csv"]);
    let at = two.windows(5).position(|bytes| bytes == b"a.csv").unwrap();
    two[at] = b'b';
    assert!(matches!(plain(&two).unwrap_err(), ArchiveError::TwoNames(_)));
}

#[test]
fn names_of_old_programs_and_what_stands_before_a_zip_are_understood() {
    let mut old = foreign_zip(&["grXn.csv"]);
    // The code page 437 has "\u{fc}" as 0x81.
    for at in 0..old.len() - 8 {
        if &old[at..at + 8] == b"grXn.csv" {
            old[at + 2] = 0x81;
        }
    }
    assert_eq!(plain(&old).unwrap(), [("gr\u{fc}n.csv".to_owned(), b"reading".to_vec())]);
    let before = [&b"#!/bin/sh\nexec unzip $0\n"[..], &foreign_zip(&["a.csv"])].concat();
    assert_eq!(plain(&before).unwrap()[0].0, "a.csv");
    let slash = packed(Format::TarGz, None, &[("back\\\\slash.txt", b"x")]);
    let folder = TempDir::new().unwrap();
    fs::write(folder.path().join("a.tar.gz"), slash).unwrap();
    let listed = Command::new("tar")
        .args(["--quoting-style=literal", "-tzf", "a.tar.gz"])
        .current_dir(folder.path())
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&listed.stdout).trim(), "back\\slash.txt");
}

#[test]
fn files_with_holes_come_whole_from_every_form_of_archive_and_keep_their_holes() {
    use std::os::unix::fs::{FileExt, MetadataExt};
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("survey.raw");
    let file = File::create(&path).unwrap();
    // More pieces than the header of the older form holds.
    for at in 0..40_u64 {
        file.write_all_at(format!("sounding {at}").as_bytes(), at << 20).unwrap();
    }
    file.set_len(64 << 20).unwrap();
    let content = fs::read(&path).unwrap();
    let room = |path: &Path| fs::metadata(path).unwrap().blocks() * 512;
    assert!(room(&path) < 4 << 20, "the file system knows no holes");
    for form in ["--format=gnu", "--format=posix", "--format=posix --sparse-version=0.1", "--format=ustar"] {
        let archive = folder.path().join("archive.tar");
        let words = form.split(' ').chain(if form.ends_with("ustar") { None } else { Some("--sparse") });
        let mut tar = Command::new("tar");
        let made = tar.args(words).arg("-cf").arg(&archive).arg("-C").arg(folder.path());
        let made = made.args(["survey.raw", "archive.tar.note"]);
        fs::write(folder.path().join("archive.tar.note"), "what comes after it").unwrap();
        assert!(made.status().unwrap().success(), "{form}");
        let out = folder.path().join("out");
        fs::create_dir(&out).unwrap();
        let result = unpack(File::open(&archive).unwrap(), &out, Taking::default());
        if form.ends_with("0.1") {
            let error = result.unwrap_err();
            assert!(matches!(&error, ArchiveError::Damaged(why) if why.contains("without them")), "{error}");
        } else {
            let files = result.unwrap();
            let names: Vec<_> = files.iter().map(|file| file.name.to_string()).collect();
            assert_eq!(names, ["survey.raw", "archive.tar.note"], "{form}");
            assert!(fs::read(&files[0].path).unwrap() == content, "{form}");
            assert!(room(&files[0].path) < 4 << 20, "{form}: {}", room(&files[0].path));
            assert_eq!(fs::read(&files[1].path).unwrap(), b"what comes after it", "{form}");
        }
        fs::remove_dir_all(&out).unwrap();
    }
}

#[test]
fn a_flipped_bit_is_damage_and_a_wrong_passphrase_is_that() {
    let content: Vec<u8> = (0..20_000u32).flat_map(|n| n.to_le_bytes()).collect();
    let whole = packed(Format::Zip, Some("grey heron"), &[("a.csv", &content)]);
    for at in [whole.len() / 3, whole.len() / 2] {
        let mut flipped = whole.clone();
        flipped[at] ^= 1;
        let error = taken(&flipped, Some("grey heron"), Limits::default()).unwrap_err();
        assert!(matches!(&error, ArchiveError::Damaged(why) if why.contains("a.csv")), "{error}");
    }
    let error = taken(&whole, Some("bittern"), Limits::default()).unwrap_err();
    assert!(matches!(error, ArchiveError::WrongPassphrase(_)), "{error}");
}
