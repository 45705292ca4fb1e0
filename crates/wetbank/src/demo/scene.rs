//! Places, rules, keys and sample files of the demo.

use std::{
    fs, io,
    net::SocketAddr,
    path::{Path, PathBuf},
};

use anyhow::{Context, Result};
use jiff::Timestamp;
use secrecy::SecretString;
use wetbank_core::{Cause, twin::Choices};
use wetbank_crypt::{PgpKey, Sealing, encrypt};
use wetbank_engine::{Engine, SignalCall, signal_proof};
use wetbank_errands::{Enclosed, Letter, write_letter};
use wetbank_standins::{
    BucketStandin, BucketStandinOptions, DriveStandin, DriveStandinOptions, DriveUser, FtpStandin, FtpStandinOptions,
    PostStandin, PostStandinOptions, SftpStandin, SftpStandinOptions,
};

const BOOK: &str = include_str!("../../../../demo/merrow.toml");
const USER: &str = "merrow";

/// What is laid out on disk, and the stand-ins that serve it.
pub(crate) struct Scene {
    folder: PathBuf,
    harbour: SftpStandin,
    archive: BucketStandin,
    print_shop: FtpStandin,
    drive: DriveStandin,
    post: PostStandin,
    password: String,
    /// The harbour's own key: the demo plays its duty officer when it checks what arrived.
    pub harbour_key: PgpKey,
    pub merrow_key: PgpKey,
}

/// What should become of a sample file.
pub(crate) enum Expected {
    /// At the harbour, encrypted to its key.
    HarbourEncrypted,
    /// In the archive's bucket under this key, with the same content.
    Archived(&'static str),
    /// On the volunteers' drive under this path, and no more where it was put.
    Sorted(&'static str),
    /// In a zip below this folder of the office, with the others that came along.
    Packed(&'static str),
    /// Mailed to the wardens, and in this file of the office.
    Mailed(&'static str),
    /// In a parcel that was delivered to the archive, of which the office keeps a copy.
    InParcel,
    /// In this file of the office, with the same content.
    Here(&'static str),
    /// In this file of the office, encrypted to the office's own key.
    HereEncrypted(&'static str),
    /// In this file of the office, being the decrypted content.
    Decrypted(&'static str),
    /// Held, for a reason with this code.
    Held(&'static str),
}

/// What the paths of files on the volunteers' drive begin with.
const ON_DRIVE: &str = "drive:";
/// And of those that come by mail.
const BY_MAIL: &str = "post:";
/// What the drawing desk's system proves its signals with.
const DESK_SECRET: &str = "cormorant-on-the-third-pole";
/// The table of the office's readings.
const TABLE: &str = "CREATE TABLE reading (station TEXT NOT NULL, minute INTEGER NOT NULL, metres REAL NOT NULL);";
/// Whose files those are, and who agreed to us.
const VOLUNTEERS: (&str, &str) = ("merrow", "tove");

/// What lies on the drive that the volunteers share with the office, and who put it there.
pub(crate) const SHARED: [(&str, &str); 4] = [
    ("bulletins/bulletin-week11.pdf", "Tove Lind"),
    ("bulletins/landmarks-week11.csv", "Tove Lind"),
    ("gauges/gauge-11_2026-03-15T1200.csv", "Signe Aas"),
    ("to look at/sounding-B12 (final).xyz", "Signe Aas"),
];
/// What lies in the office's folder for them.
pub(crate) const AT_THE_OFFICE: [&str; 4] = [
    "bulletins/landmarks-week11.csv",
    "gauges/gauge-07_2026-03-16T0600.csv",
    "gauges/gauge-09_2026-03-15T1800.csv",
    "who is out when.txt",
];
/// Logbooks of the office; those of the first days are in the archive already.
const LOGBOOKS: usize = 9;
/// Notices that were on the board before one was written anew, one came and one was taken away.
const NOTICES: [&str; 4] = ["buoy B12 moved.txt", "dredging at Skerrow.txt", "low water 2026.txt", "regatta.txt"];

/// Charts there are; those of last year are moved away.
const CHARTS: usize = 40;

fn chart_at(chart: usize) -> String {
    let year = if chart <= 14 { 2025 } else { 2026 };
    format!("{year}/chart-{chart:02}.svg")
}

/// A sample file: where it is put, what should become of it.
pub(crate) struct Sample {
    pub path: &'static str,
    pub expected: Expected,
}

/// The sample files, one for each thing the demo shows.
pub(crate) fn samples() -> Vec<Sample> {
    let sample = |path, expected| Sample { path, expected };
    vec![
        sample("assays/out/assay-0411.csv", Expected::HarbourEncrypted),
        sample("assays/out/assay-0412.csv", Expected::HarbourEncrypted),
        sample("assays/out/assay-0413.csv", Expected::HarbourEncrypted),
        sample("assays/out/readme.txt", Expected::Held("asked")),
        sample("desk/bulletin-draft-week12.txt", Expected::HereEncrypted("desk/sealed/bulletin-draft-week12.txt.pgp")),
        sample("lab/in/assay-0398.csv.pgp", Expected::Decrypted("lab/plain/assay-0398.csv")),
        sample("lab/in/assay-0399.csv.pgp", Expected::Decrypted("lab/plain/assay-0399.csv")),
        sample("lab/in/assay-0400-broken.csv.pgp", Expected::Held("damaged")),
        sample(
            "gauges/gauge-07_2026-03-14T0600.csv",
            Expected::Archived("gauges/gauge-07/gauge-07_2026-03-14T0600.csv"),
        ),
        sample("bulletins/bulletin-week11.pdf", Expected::Mailed("archive/bulletins/bulletin-week11.pdf")),
        sample("bulletins/bulletin-week10.pdf", Expected::Held("exists")),
        sample("soundings/sounding-B12.xyz", Expected::Here("archive/soundings/large/sounding-B12.xyz")),
        sample("soundings/sounding-B13.xyz", Expected::Here("archive/soundings/sounding-B13.xyz")),
        sample("huts/hut-03_2026-03-14.csv", Expected::InParcel),
        sample("huts/hut-04_2026-03-14.csv", Expected::InParcel),
        sample("post:assay-0377.csv", Expected::Here("lab/plain/assay-0377.csv")),
        sample("tiles/T9/sounding-T9.xyz", Expected::Here("atlas/T9/sounding-T9.xyz")),
        sample("crossings/profile-1.csv", Expected::Packed("archive/crossings")),
        sample("crossings/profile-2.csv", Expected::Packed("archive/crossings")),
        sample("crossings/profile-3.csv", Expected::Packed("archive/crossings")),
        sample("drive:in/gauge 03 reread.csv", Expected::Sorted("gauges/gauge 03 reread.csv")),
        sample("drive:in/new sounding off B9.xyz", Expected::Sorted("soundings/new sounding off B9.xyz")),
        sample("drive:in/IMG_0212.jpg", Expected::Sorted("to look at/IMG_0212.jpg")),
    ]
}

/// Made-up content that differs from file to file and is the same at every run.
pub(crate) fn content(path: &str) -> Vec<u8> {
    let name = path.rsplit('/').next().unwrap_or(path);
    let lines = if name == "sounding-B12.xyz" { 60_000 } else { 400 };
    // Readings are loaded into a table, so their first line must name the columns.
    let mut text = match name.starts_with("gauge-") {
        true => String::new(),
        false => format!("# {name}: Merrow Estuary Survey Office, sample data\n"),
    };
    text.push_str("station,minute,metres\n");
    let mut state = name.bytes().fold(7u64, |sum, byte| sum.wrapping_mul(31).wrapping_add(byte.into()));
    for minute in 0..lines {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        text.push_str(&format!("{:02},{minute},{}.{:02}\n", state >> 59, (state >> 50) % 8, (state >> 40) % 100));
    }
    text.into_bytes()
}

/// Puts a file in place as a careful writer does: whole, under its name, at once.
fn put(path: &Path, content: &[u8]) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    let aside = path.with_file_name(".coming");
    fs::write(&aside, content)?;
    fs::rename(aside, path)
}

impl Scene {
    pub async fn lay_out(folder: &Path) -> Result<Self> {
        let folder = folder.to_owned();
        let office = folder.join("office");
        for name in [
            "assays/out",
            "huts",
            "desk",
            "lab/in",
            "lab/plain",
            "bulletins",
            "gauges",
            "soundings",
            "archive/bulletins",
            "crossings",
            "tiles",
            "volunteers/bulletins",
            "charts/2025",
            "archive/charts",
            "archive/logbooks",
            "archive/notices",
        ] {
            fs::create_dir_all(office.join(name)).with_context(|| format!("{} cannot be made", office.display()))?;
        }
        let harbour_root = folder.join("harbour");
        fs::create_dir_all(harbour_root.join("incoming"))?;
        // Last week's bulletin is in the archive already, with another content.
        put(&office.join("archive/bulletins/bulletin-week10.pdf"), b"the bulletin of week 10, first edition\n")?;
        let password = "grey-heron-at-low-tide".to_owned();
        let harbour = SftpStandin::start(SftpStandinOptions {
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            root: harbour_root,
            user: USER.to_owned(),
            password: password.clone(),
        })
        .await?;
        let archive = BucketStandin::start(BucketStandinOptions {
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            bucket: "survey".to_owned(),
            access_key: USER.to_owned(),
            secret_key: password.clone(),
        })
        .await?;
        let print_root = folder.join("print-shop");
        fs::create_dir_all(print_root.join("proofs"))?;
        put(&print_root.join("proofs/bulletin-week12-proof.pdf"), &content("bulletin-week12-proof.pdf"))?;
        let print_shop = FtpStandin::start(FtpStandinOptions {
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            root: print_root,
            user: USER.to_owned(),
            password: password.clone(),
        })
        .await?;
        let user = |tenant: &str, name: &str| DriveUser {
            tenant: tenant.to_owned(),
            name: name.to_owned(),
            password: password.clone(),
        };
        let users = vec![user(VOLUNTEERS.0, VOLUNTEERS.1), user("lindmoor", "rufus")];
        let drive = DriveStandin::start(DriveStandinOptions::new(users)).await?;
        drive.make_folder(VOLUNTEERS.0, "in");
        for (path, who) in SHARED {
            drive.put(VOLUNTEERS.0, format!("shared/{path}"), content(path), who);
        }
        for path in AT_THE_OFFICE {
            // What lies on both sides was changed at the desk.
            let mut text = content(path);
            text.truncate(text.len() - 40);
            text.extend_from_slice(b"11,400,5.04\n");
            put(&office.join("volunteers").join(path), &text)?;
        }
        for chart in 1..=CHARTS {
            let path = chart_at(chart);
            put(&office.join("charts").join(&path), &content(&path))?;
        }
        for day in 1..=LOGBOOKS {
            let path = format!("2026/logbook-03-{day:02}.txt");
            put(&office.join("logbooks").join(&path), &content(&path))?;
            if day <= 4 {
                put(&office.join("archive/logbooks").join(&path), &content(&path))?;
            }
        }
        for name in NOTICES {
            put(&office.join("notices").join(name), &content(name))?;
        }
        drive.put("lindmoor", "results/assay-0420.csv", content("assay-0420.csv"), "rufus");
        let post = PostStandin::start(PostStandinOptions {
            reading: SocketAddr::from(([127, 0, 0, 1], 0)),
            sending: SocketAddr::from(([127, 0, 0, 1], 0)),
            user: USER.to_owned(),
            password: password.clone(),
            address: "office@merrow.example".to_owned(),
            folder: folder.join("post"),
        })
        .await?;
        wetbank_errands::new_sqlite(&office.join("survey.db"), TABLE).await?;
        Ok(Self {
            folder,
            harbour,
            archive,
            print_shop,
            drive,
            post,
            password,
            harbour_key: PgpKey::generate("skerrow-harbour", "Skerrow Harbour Office <duty@skerrow.example>")?,
            merrow_key: PgpKey::generate("merrow", "Merrow Estuary Survey Office <desk@merrow.example>")?,
        })
    }

    pub fn data(&self) -> PathBuf {
        self.folder.join("data")
    }

    pub fn office(&self) -> PathBuf {
        self.folder.join("office")
    }

    pub fn harbour(&self) -> PathBuf {
        self.folder.join("harbour/incoming")
    }

    pub fn harbour_address(&self) -> SocketAddr {
        self.harbour.address()
    }

    /// The archive's object store.
    pub fn archive(&self) -> &BucketStandin {
        &self.archive
    }

    /// The office's mailbox.
    pub fn post(&self) -> &PostStandin {
        &self.post
    }

    /// A file on the volunteers' drive.
    pub fn on_drive(&self, path: &str) -> Option<Vec<u8>> {
        self.drive.get(VOLUNTEERS.0, path).map(|content| content.to_vec())
    }

    /// Gives the service its keys, secrets and book.
    pub async fn arrange(&self, engine: &Engine) -> Result<()> {
        engine.set_secret("skerrow-password", &SecretString::from(self.password.clone())).await?;
        engine.set_secret("tidewatch-secret-key", &SecretString::from(self.password.clone())).await?;
        engine.set_secret("post-password", &SecretString::from(self.password.clone())).await?;
        engine.set_secret("desk-signal", &SecretString::from(DESK_SECRET)).await?;
        engine.set_secret("print-shop-password", &SecretString::from("not-the-right-one")).await?;
        let grant = self.drive.grant(VOLUNTEERS.1, &["files.read", "files.write"]);
        engine.set_secret("volunteers-drive-grant", &SecretString::from(grant)).await?;
        for (name, key) in [("skerrow-harbour", &self.harbour_key), ("merrow", &self.merrow_key)] {
            if engine.keys().await?.iter().any(|known| known.name == name) {
                engine.remove_key(name).await?;
            }
            // The harbour gives its certificate only; our own key comes with its secret part.
            let export = match name {
                "merrow" => key.secret_text().context("our own key has a secret part")?,
                _ => key.certificate_text()?,
            };
            engine.import_key(name, export.as_bytes(), None).await?;
        }
        let book = BOOK
            .replace("@office@", &self.office().display().to_string())
            .replace("@imap-port@", &self.post.reading().port().to_string())
            .replace("@smtp-port@", &self.post.sending().port().to_string())
            .replace("@print-port@", &self.print_shop.address().port().to_string())
            .replace("@bucket@", &self.archive.url())
            .replace("@drive@", &self.drive.url())
            .replace("@soon@", &jiff::Zoned::now().date().saturating_add(jiff::Span::new().days(5)).to_string())
            .replace("@host@", &self.harbour_address().ip().to_string())
            .replace("@port@", &self.harbour_address().port().to_string())
            .replace("@host-key@", self.harbour.fingerprint());
        engine.apply_book(&[("merrow.toml".to_owned(), book)], true, "the demo").await.map_err(
            |error| match error {
                wetbank_engine::EngineError::Book(problems) => {
                    anyhow::anyhow!(problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
                }
                other => other.into(),
            },
        )?;
        Ok(())
    }

    /// Puts every sample file in its place.
    pub async fn feed_all(&self, engine: &Engine) -> Result<()> {
        for sample in samples() {
            self.put(sample.path)?;
        }
        self.signal(engine, "T9").await?;
        self.move_charts(engine).await
    }

    /// The charts have a copy; then those of last year are moved away, and the next pass would delete their copies.
    async fn move_charts(&self, engine: &Engine) -> Result<()> {
        let (twin, nothing) = (engine.twin("charts")?, Choices::default());
        engine.pass(&twin, Cause::Schedule, &nothing).await?;
        let (from, to) = (self.office().join("charts/2025"), self.office().join("charts of 2025"));
        if from.is_dir() && !to.exists() {
            fs::rename(from, to)?;
        }
        engine.pass(&twin, Cause::Schedule, &nothing).await?;
        self.change_notices(engine).await
    }

    /// The notices are on the board; then one is written anew, one comes, and one is taken away.
    async fn change_notices(&self, engine: &Engine) -> Result<()> {
        let twin = engine.twin("notices")?;
        engine.pass(&twin, Cause::Hand, &Choices::default()).await?;
        let at = |name: &str| self.office().join("notices").join(name);
        put(&at("tide staff 7 is out of use.txt"), b"Tide staff 7 is out of use until it was levelled anew.\n")?;
        let mut text = content(NOTICES[0]);
        text.extend_from_slice(b"It lies 40 m further north since 14 March.\n");
        put(&at(NOTICES[0]), &text)?;
        let old = at(NOTICES[3]);
        if old.exists() {
            fs::remove_file(old)?;
        }
        Ok(())
    }

    /// One more file, as the day brings them.
    pub async fn feed(&self, engine: &Engine, number: usize) -> Result<()> {
        let path = match number % 14 {
            0 => format!("lab/in/assay-{:04}.csv.pgp", 500 + number),
            3 => format!("soundings/sounding-C{number:02}.xyz"),
            5 => format!("desk/bulletin-draft-{number}.txt"),
            4 => format!("huts/hut-{:02}_2026-03-{:02}.csv", 1 + number % 12, 1 + number % 28),
            6 => format!("gauges/gauge-{:02}_2026-03-14T{:02}00.csv", 1 + number % 12, number % 24),
            7 => format!("drive:in/gauge-{:02} by hand.csv", 1 + number % 12),
            8 => format!("assays/out/notes-{number}.txt"),
            9 => format!("post:assay-{:04}.csv", 700 + number),
            10..=12 => format!("crossings/profile-{number}.csv"),
            13 => {
                let tile = format!("T{number}");
                self.put(&format!("tiles/{tile}/sounding-{tile}.xyz"))?;
                return self.signal(engine, &tile).await;
            }
            _ => format!("assays/out/assay-{:04}.csv", 600 + number),
        };
        self.put(&path)
    }

    /// The drawing desk's system says that a tile is ready.
    async fn signal(&self, engine: &Engine, tile: &str) -> Result<()> {
        let (time, body) = (Timestamp::now().as_second().to_string(), format!("{{\"tile\": \"{tile}\"}}"));
        let rule = "tile-ready";
        let proof = signal_proof(DESK_SECRET, rule, &time, body.as_bytes());
        let call = SignalCall { rule, time: &time, proof: &proof, body: body.as_bytes() };
        engine.signal(call).await?;
        Ok(())
    }

    /// A letter from the laboratory with a sheet.
    fn letter(name: &str) -> Result<Vec<u8>> {
        let sheet = Enclosed { name: name.to_owned(), content: content(&format!("{BY_MAIL}{name}")) };
        Ok(write_letter(Letter {
            from: "desk@lindmoor.example".to_owned(),
            to: vec!["office@merrow.example".to_owned()],
            subject: format!("Sheet {name}"),
            text: "Our drive is down, so here it is by mail.\n".to_owned(),
            files: vec![sheet],
            id: format!("{name}@lindmoor.example"),
            date: Timestamp::now(),
        })?)
    }

    fn put(&self, path: &str) -> Result<()> {
        if let Some(name) = path.strip_prefix(BY_MAIL) {
            return Ok(self.post.bring(&Self::letter(name)?)?);
        }
        match path.strip_prefix(ON_DRIVE) {
            Some(path) => self.drive.put(VOLUNTEERS.0, path, content(path), "Signe Aas"),
            None => put(&self.office().join(path), &self.arriving(path)?)?,
        }
        Ok(())
    }

    /// A file as its sender made it: sheets from the laboratory come encrypted to our key.
    fn arriving(&self, path: &str) -> Result<Vec<u8>> {
        let plain = content(path);
        if !path.starts_with("lab/in/") {
            return Ok(plain);
        }
        let mut sealed = Vec::new();
        let sealing = Sealing { recipients: vec![&self.merrow_key], ..Sealing::default() };
        encrypt(plain.as_slice(), &mut sealed, &sealing, Timestamp::now())?;
        if path.contains("broken") {
            sealed.truncate(sealed.len() - 200);
        }
        Ok(sealed)
    }
}
