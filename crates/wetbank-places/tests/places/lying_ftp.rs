//! FTP servers that lie or break off: never followed, never believed.

use std::path::Path;

use crate::support::{ftp_spec, path, read, write};
use futures_util::StreamExt;
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
};
use wetbank_core::{FtpSecurity, Name, RelPath};
use wetbank_places::{Depth, Entry, EntryKind, Ftp, Place, PlaceError, PlaceErrorKind};

/// What a server says where it matters.
#[derive(Clone)]
struct Lies {
    /// The lines of every listing.
    listing: Vec<u8>,
    /// The content of every file.
    content: Vec<u8>,
    /// Bytes of a file that it takes before it closes the data connection.
    takes: u64,
    /// What it says after a data connection.
    last_word: &'static str,
    /// The size that it tells of every file.
    size: u64,
}

impl Default for Lies {
    fn default() -> Self {
        Self { listing: Vec::new(), content: b"levels".to_vec(), takes: u64::MAX, last_word: "226 done", size: 6 }
    }
}

async fn session(stream: TcpStream, lies: Lies) -> std::io::Result<()> {
    let (commands, mut replies) = stream.into_split();
    let mut commands = BufReader::new(commands).lines();
    let mut passive: Option<TcpListener> = None;
    replies.write_all(b"220 welcome\r\n").await?;
    while let Some(line) = commands.next_line().await? {
        let verb = line.split(' ').next().unwrap_or_default().to_ascii_uppercase();
        let reply = match verb.as_str() {
            "USER" => "331 password".to_owned(),
            "PASS" => "230 in".to_owned(),
            "FEAT" => "211-features\r\n MLST type*;size*;modify*;\r\n EPSV\r\n SIZE\r\n211 end".to_owned(),
            "PWD" => "257 \"/\" here".to_owned(),
            "EPSV" => {
                let listener = TcpListener::bind("127.0.0.1:0").await?;
                let reply = format!("229 passive (|||{}|)", listener.local_addr()?.port());
                passive = Some(listener);
                reply
            }
            "MLST" => {
                let is_root = line.len() < 7 || line.ends_with(" /") || line == "MLST";
                let kind = if is_root { "dir" } else { "file" };
                format!("250-facts\r\n type={kind};size={};modify=20260314060000; /x\r\n250 end", lies.size)
            }
            "SIZE" => format!("213 {}", lies.size),
            "MLSD" | "RETR" | "STOR" => {
                replies.write_all(b"150 here\r\n").await?;
                let (mut data, _) = passive.take().unwrap().accept().await?;
                let said = match verb.as_str() {
                    "MLSD" => lies.listing.as_slice(),
                    "RETR" => lies.content.as_slice(),
                    _ => b"",
                };
                data.write_all(said).await?;
                if verb == "STOR" {
                    tokio::io::copy(&mut (&mut data).take(lies.takes), &mut tokio::io::sink()).await?;
                }
                drop(data);
                lies.last_word.to_owned()
            }
            "DELE" => "550 no such file".to_owned(),
            _ => "200 fine".to_owned(),
        };
        if reply.is_empty() {
            return Ok(());
        }
        replies.write_all(format!("{reply}\r\n").as_bytes()).await?;
    }
    Ok(())
}

async fn server(lies: Lies) -> Ftp {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            tokio::spawn(session(stream, lies.clone()));
        }
    });
    let spec = ftp_spec(port, FtpSecurity::None, Path::new("/"));
    Ftp::new(Name::new("server").unwrap(), spec, "any".into())
}

async fn list(lies: Lies) -> Vec<Result<Entry, PlaceError>> {
    server(lies).await.list(&RelPath::root(), Depth::One).take(50).collect().await
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_lead_out_of_the_folder_are_left_out() {
    let long = "n".repeat(10_000);
    let mut listing = Vec::new();
    for name in ["..", ".", "../etc/passwd", "/etc/passwd", "a/b", "nul\0", &long, "fine.csv"] {
        listing.extend_from_slice(format!("type=file;size=7;modify=20260314060000; {name}\r\n").as_bytes());
    }
    listing.extend_from_slice(b"type=cdir; /\r\nrubbish\r\n\r\ntype=file;size=none; half\r\n");
    let told: Vec<Entry> = list(Lies { listing, ..Lies::default() }).await.into_iter().map(Result::unwrap).collect();
    for entry in &told {
        let name = entry.path.name();
        assert!(!name.is_empty() && name != b".." && !name.contains(&b'/') && !name.contains(&0), "{entry:?}");
        assert_eq!(entry.path.parts().count(), 1);
    }
    assert!(told.iter().any(|e| e.path == path("fine.csv") && e.kind == EntryKind::File && e.fingerprint.size == 7));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listing_or_a_file_that_was_not_confirmed_to_be_whole_is_no_shorter_one() {
    let listing = b"type=file;size=7; a.csv\r\n".to_vec();
    for last_word in ["426 the connection broke", "451 it failed", ""] {
        let told = list(Lies { listing: listing.clone(), last_word, ..Lies::default() }).await;
        assert!(told.last().unwrap().is_err(), "{last_word}: {told:?}");
        let place = server(Lies { last_word, ..Lies::default() }).await;
        assert!(read(&place, "a.csv").await.is_err(), "{last_word}");
        assert!(write(&place, ".wetbank-1", &path("a"), b"levels").await.is_err(), "{last_word}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_server_says_of_a_lack_of_room_is_understood() {
    for last_word in ["452 sorry", "552 sorry", "550 Disk full.", "451 quota is used up"] {
        let place = server(Lies { last_word, ..Lies::default() }).await;
        let error = write(&place, ".wetbank-1", &path("a"), b"levels").await.unwrap_err();
        assert_eq!(error.kind, PlaceErrorKind::NoSpace, "{error}");
    }
    let place = server(Lies { last_word: "451 Input/output error", ..Lies::default() }).await;
    let error = write(&place, ".wetbank-1", &path("a"), b"levels").await.unwrap_err();
    assert!(error.to_string().contains("Input/output error; the server's disk may be full"), "{error}");
    assert!(!read(&place, "a.csv").await.unwrap_err().to_string().contains("full"), "reading fills no disk");
}

#[tokio::test(flavor = "multi_thread")]
async fn why_a_server_breaks_off_in_mid_file_is_heard() {
    let content = vec![7; 16 << 20];
    for (last_word, kind) in [
        ("552 The allowance is used up", PlaceErrorKind::NoSpace),
        ("426 Going down", PlaceErrorKind::Interrupted),
        ("226 done", PlaceErrorKind::Interrupted),
        ("", PlaceErrorKind::Interrupted),
    ] {
        let place = server(Lies { takes: 100_000, last_word, ..Lies::default() }).await;
        let error = write(&place, ".wetbank-1", &path("a"), &content).await.unwrap_err();
        assert_eq!(error.kind, kind, "{last_word:?}: {error}");
    }
    let place = server(Lies { last_word: "552 The allowance is used up", takes: 0, ..Lies::default() }).await;
    let mut staged = place.stage(&path(".wetbank-1"), &path("a"), None).await.unwrap();
    while staged.write(content.clone().into()).await.is_ok() {}
    let again = staged.write(b"more"[..].into()).await.unwrap_err();
    assert_eq!(again.kind, PlaceErrorKind::Interrupted, "what broke stays broken: {again}");
    assert!(staged.finish().await.is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_says_stored_and_has_less_is_not_believed() {
    let place = server(Lies { size: 3, ..Lies::default() }).await;
    let error = write(&place, ".wetbank-1", &path("a"), b"levels").await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Interrupted, "{error}");
    assert!(error.detail.contains("3 of 6 bytes"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_without_end_is_given_up() {
    let told = list(Lies { listing: vec![b'x'; 200_000], ..Lies::default() }).await;
    assert!(told[0].as_ref().unwrap_err().detail.contains("64 KiB"), "{told:?}");
}
