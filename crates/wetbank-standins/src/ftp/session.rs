//! One control connection (RFC 959, with RFC 2428 and RFC 3659).

use std::{
    ffi::OsStr,
    io,
    net::IpAddr,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
};

use jiff::Timestamp;
use tokio::{
    fs::{self, OpenOptions},
    io::{AsyncBufReadExt, AsyncReadExt, AsyncSeekExt, AsyncWriteExt, BufReader},
    net::{
        TcpListener, TcpStream,
        tcp::{OwnedReadHalf, OwnedWriteHalf},
    },
};

use super::FtpStandinOptions;
use crate::guests::passes_link;

/// A command is at most so long.
const LONGEST_COMMAND: u64 = 8192;

struct Session<'a> {
    options: &'a FtpStandinOptions,
    replies: OwnedWriteHalf,
    ip: IpAddr,
    user: Option<String>,
    is_signed_in: bool,
    /// Below the root, without a slash at either end.
    folder: String,
    passive: Option<TcpListener>,
    offset: u64,
    renamed: Option<PathBuf>,
}

/// Answers commands until the client goes.
pub(super) async fn serve(stream: TcpStream, options: &FtpStandinOptions) -> io::Result<()> {
    let ip = stream.local_addr()?.ip();
    let (commands, replies) = stream.into_split();
    let mut session = Session {
        options,
        replies,
        ip,
        user: None,
        is_signed_in: false,
        folder: String::new(),
        passive: None,
        offset: 0,
        renamed: None,
    };
    let mut commands = BufReader::new(commands);
    session.reply(220, "a stand-in").await?;
    while let Some(line) = next(&mut commands).await? {
        let (verb, rest) = line.split_once(' ').unwrap_or((&line, ""));
        if verb.eq_ignore_ascii_case("QUIT") {
            return session.reply(221, "goodbye").await;
        }
        session.answer(&verb.to_ascii_uppercase(), rest).await?;
    }
    Ok(())
}

/// Names are bytes; as a text, every byte is one character.
fn text(bytes: &[u8]) -> String {
    bytes.iter().map(|&byte| char::from(byte)).collect()
}

fn bytes(text: &str) -> Vec<u8> {
    text.chars().map(|character| u8::try_from(u32::from(character)).unwrap_or(b'?')).collect()
}

async fn next(commands: &mut BufReader<OwnedReadHalf>) -> io::Result<Option<String>> {
    let mut line = Vec::new();
    commands.take(LONGEST_COMMAND).read_until(b'\n', &mut line).await?;
    if !line.ends_with(b"\n") {
        return Ok(None);
    }
    Ok(Some(text(&line).trim_end_matches(['\r', '\n']).to_owned()))
}

/// What a failed call means in FTP's words.
fn refusal(error: &io::Error) -> (u16, &'static str) {
    match error.kind() {
        io::ErrorKind::NotFound => (550, "no such file or folder"),
        io::ErrorKind::PermissionDenied => (550, "permission denied"),
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => (452, "no space left"),
        io::ErrorKind::InvalidFilename => (553, "no such name is possible"),
        _ => (550, "it failed"),
    }
}

impl Session<'_> {
    async fn reply(&mut self, code: u16, words: &str) -> io::Result<()> {
        self.replies.write_all(format!("{code} {words}\r\n").as_bytes()).await
    }

    async fn outcome(&mut self, outcome: io::Result<()>, code: u16, words: &str) -> io::Result<()> {
        let (code, words) = match &outcome {
            Ok(()) => (code, words),
            Err(error) => refusal(error),
        };
        self.reply(code, words).await
    }

    /// The path below the root that an argument means; `..` goes up, but never out.
    fn below(&self, argument: &str) -> String {
        let start = if argument.starts_with('/') { "" } else { self.folder.as_str() };
        let mut parts: Vec<&str> = start.split('/').filter(|part| !part.is_empty()).collect();
        for part in argument.split('/') {
            match part {
                "" | "." => {}
                ".." => drop(parts.pop()),
                part => parts.push(part),
            }
        }
        parts.join("/")
    }

    fn path(&self, argument: &str) -> PathBuf {
        self.options.root.join(OsStr::from_bytes(&bytes(&self.below(argument))))
    }

    async fn answer(&mut self, verb: &str, rest: &str) -> io::Result<()> {
        match verb {
            "USER" => {
                self.user = Some(rest.to_owned());
                return self.reply(331, "now the password").await;
            }
            "PASS" => {
                let fits = self.user.as_ref().map(|user| bytes(user)).as_deref() == Some(self.options.user.as_bytes())
                    && bytes(rest) == self.options.password.as_bytes();
                self.is_signed_in = fits;
                let (code, words) = if fits { (230, "signed in") } else { (530, "sign-in refused") };
                return self.reply(code, words).await;
            }
            "FEAT" => {
                let features = "211-features\r\n UTF8\r\n MLST type*;size*;modify*;\r\n SIZE\r\n EPSV\r\n REST STREAM\r\n211 end\r\n";
                return self.replies.write_all(features.as_bytes()).await;
            }
            "AUTH" => return self.reply(502, "it cannot be secured").await,
            "NOOP" | "OPTS" | "TYPE" | "MODE" | "STRU" => return self.reply(200, "fine").await,
            "SYST" => return self.reply(215, "UNIX Type: L8").await,
            _ if !self.is_signed_in => return self.reply(530, "sign in first").await,
            _ if passes_link(&self.options.root, &self.path(rest)) => {
                return self.reply(550, "permission denied").await;
            }
            _ => {}
        }
        match verb {
            "PWD" => {
                let folder = format!("\"/{}\" is where you are", self.folder);
                self.replies.write_all(&bytes(&format!("257 {folder}\r\n"))).await
            }
            "CWD" | "CDUP" => {
                let argument = if verb == "CDUP" { ".." } else { rest };
                if fs::metadata(self.path(argument)).await.is_ok_and(|told| told.is_dir()) {
                    self.folder = self.below(argument);
                    self.reply(250, "there you are").await
                } else {
                    self.reply(550, "no such folder").await
                }
            }
            "EPSV" | "PASV" => self.listen(verb == "EPSV").await,
            "REST" => {
                self.offset = rest.trim().parse().unwrap_or(0);
                self.reply(350, "from there").await
            }
            "SIZE" => match fs::metadata(self.path(rest)).await {
                Ok(told) if told.is_file() => self.reply(213, &told.len().to_string()).await,
                _ => self.reply(550, "no such file").await,
            },
            "MLST" => match facts(&self.path(rest)).await {
                Ok(facts) => {
                    let text = format!("250-facts\r\n {facts} /{}\r\n250 end\r\n", self.below(rest));
                    self.replies.write_all(&bytes(&text)).await
                }
                Err(error) => self.outcome(Err(error), 0, "").await,
            },
            "MLSD" | "NLST" => self.list(rest, verb == "MLSD").await,
            "RETR" => self.send(rest).await,
            "STOR" => self.store(rest).await,
            "DELE" => {
                let outcome = fs::remove_file(self.path(rest)).await;
                self.outcome(outcome, 250, "removed").await
            }
            "MKD" => {
                let outcome = fs::create_dir(self.path(rest)).await;
                self.outcome(outcome, 257, "made").await
            }
            "RMD" => {
                let outcome = fs::remove_dir(self.path(rest)).await;
                self.outcome(outcome, 250, "removed").await
            }
            "RNFR" => {
                let path = self.path(rest);
                let is_there = fs::symlink_metadata(&path).await.is_ok();
                self.renamed = is_there.then_some(path);
                let (code, words) = if is_there { (350, "to what name?") } else { (550, "no such file or folder") };
                self.reply(code, words).await
            }
            "RNTO" => match self.renamed.take() {
                Some(from) => {
                    let outcome = fs::rename(from, self.path(rest)).await;
                    self.outcome(outcome, 250, "renamed").await
                }
                None => self.reply(503, "RNFR first").await,
            },
            _ => self.reply(502, "not known here").await,
        }
    }

    async fn listen(&mut self, is_extended: bool) -> io::Result<()> {
        let listener = TcpListener::bind((self.ip, 0)).await?;
        let port = listener.local_addr()?.port();
        self.passive = Some(listener);
        match (is_extended, self.ip) {
            (false, IpAddr::V4(ip)) => {
                let [a, b, c, d] = ip.octets();
                let words = format!("entering passive mode ({a},{b},{c},{d},{},{})", port >> 8, port & 255);
                self.reply(227, &words).await
            }
            _ => self.reply(229, &format!("entering extended passive mode (|||{port}|)")).await,
        }
    }

    /// The data connection that the client opened.
    async fn data(&mut self) -> io::Result<Option<TcpStream>> {
        let Some(listener) = self.passive.take() else {
            self.reply(425, "no data connection: EPSV first").await?;
            return Ok(None);
        };
        self.reply(150, "here it comes").await?;
        Ok(Some(listener.accept().await?.0))
    }

    async fn list(&mut self, rest: &str, with_facts: bool) -> io::Result<()> {
        let folder = self.path(if rest.starts_with('-') { "" } else { rest });
        let mut entries = match fs::read_dir(folder).await {
            Ok(entries) => entries,
            Err(error) => return self.outcome(Err(error), 0, "").await,
        };
        let Some(mut data) = self.data().await? else { return Ok(()) };
        while let Some(entry) = entries.next_entry().await? {
            let name = text(entry.file_name().as_bytes());
            let line = match (with_facts, facts(&entry.path()).await) {
                (true, Ok(facts)) => format!("{facts} {name}\r\n"),
                (false, _) => format!("{name}\r\n"),
                (true, Err(_)) => continue,
            };
            data.write_all(&bytes(&line)).await?;
        }
        data.shutdown().await?;
        self.reply(226, "that was all").await
    }

    /// A file opened at the offset that REST named, and the data connection; nothing if the client
    /// was told why not.
    async fn transfer(&mut self, rest: &str, how: &OpenOptions) -> io::Result<Option<(fs::File, TcpStream)>> {
        let offset = std::mem::take(&mut self.offset);
        let opened = async {
            let mut file = how.open(self.path(rest)).await?;
            file.seek(io::SeekFrom::Start(offset)).await?;
            Ok::<_, io::Error>(file)
        };
        match opened.await {
            Ok(file) => Ok(self.data().await?.map(|data| (file, data))),
            Err(error) => self.outcome(Err(error), 0, "").await.map(|()| None),
        }
    }

    async fn send(&mut self, rest: &str) -> io::Result<()> {
        let Some((mut file, mut data)) = self.transfer(rest, OpenOptions::new().read(true)).await? else {
            return Ok(());
        };
        let sent = tokio::io::copy(&mut file, &mut data).await;
        let ended = data.shutdown().await;
        self.outcome(sent.and(ended), 226, "that was all").await
    }

    async fn store(&mut self, rest: &str) -> io::Result<()> {
        let how = OpenOptions::new().write(true).create(true).truncate(self.offset == 0).to_owned();
        let Some((mut file, mut data)) = self.transfer(rest, &how).await? else { return Ok(()) };
        let begin = file.stream_position().await?;
        file.set_len(begin).await?;
        let stored = tokio::io::copy(&mut data, &mut file).await;
        let ended = file.sync_data().await;
        self.outcome(stored.and(ended), 226, "stored").await
    }
}

/// What MLST and MLSD tell of an entry (RFC 3659, section 7.5).
async fn facts(path: &Path) -> io::Result<String> {
    let told = fs::metadata(path).await?;
    let modified = Timestamp::try_from(told.modified()?).unwrap_or_default().strftime("%Y%m%d%H%M%S");
    let kind = if told.is_dir() { "dir" } else { "file" };
    Ok(format!("type={kind};size={};modify={modified};", told.len()))
}
