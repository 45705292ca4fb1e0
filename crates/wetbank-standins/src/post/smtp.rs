//! Letters that are handed in (RFC 5321, RFC 4954).

use std::io;

use base64::{Engine, engine::general_purpose::STANDARD};
use tokio::{
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader},
    net::TcpStream,
};

use super::{INBOX, Office, SENT, line};

/// A larger letter is not taken.
const LARGEST: usize = 64 << 20;

pub(super) async fn serve(stream: TcpStream, office: &Office) -> io::Result<()> {
    let mut stream = BufReader::new(stream);
    let (mut signed_in, mut recipients, mut has_sender) = (false, Vec::new(), false);
    stream.write_all(b"220 post stand-in\r\n").await?;
    while let Some(command) = line(&mut stream).await? {
        let (verb, rest) = command.split_once(' ').unwrap_or((&command, ""));
        let answer = match verb.to_ascii_uppercase().as_str() {
            "EHLO" => format!("250-post stand-in\r\n250-SIZE {LARGEST}\r\n250 AUTH PLAIN"),
            "HELO" | "NOOP" => "250 fine".to_owned(),
            "AUTH" => {
                let digits = match rest.split_once(' ') {
                    Some((_, digits)) => digits.to_owned(),
                    // Who does not say it at once is asked (RFC 4954, section 4).
                    None => {
                        stream.write_all(b"334 \r\n").await?;
                        line(&mut stream).await?.unwrap_or_default()
                    }
                };
                let said = STANDARD.decode(digits).unwrap_or_default();
                let mut parts = said.split(|byte| *byte == 0).skip(1).map(String::from_utf8_lossy);
                let (user, password) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
                signed_in = office.lets_in(&user, &password);
                if signed_in { "235 signed in" } else { "535 wrong user or password" }.to_owned()
            }
            "MAIL" if signed_in => {
                (has_sender, recipients) = (true, Vec::new());
                "250 fine".to_owned()
            }
            "MAIL" => "530 sign in first".to_owned(),
            "RCPT" if has_sender => {
                let address =
                    rest.split_once('<').and_then(|(_, rest)| rest.split_once('>')).map_or("", |(one, _)| one);
                recipients.push(address.to_owned());
                "250 fine".to_owned()
            }
            "DATA" if !recipients.is_empty() => {
                stream.write_all(b"354 go on\r\n").await?;
                match letter(&mut stream).await? {
                    Some(letter) => {
                        let own = |to: &&String| to.eq_ignore_ascii_case(&office.options.address);
                        if recipients.iter().any(|to| own(&to)) {
                            office.put(INBOX, &letter)?;
                        }
                        if recipients.iter().any(|to| !own(&to)) {
                            office.put(SENT, &letter)?;
                        }
                        (has_sender, recipients) = (false, Vec::new());
                        "250 taken".to_owned()
                    }
                    None => "552 too large".to_owned(),
                }
            }
            "RSET" => {
                (has_sender, recipients) = (false, Vec::new());
                "250 fine".to_owned()
            }
            "QUIT" => {
                stream.write_all(b"221 goodbye\r\n").await?;
                return Ok(());
            }
            "RCPT" | "DATA" => "503 not now".to_owned(),
            _ => "502 not here".to_owned(),
        };
        stream.write_all(format!("{answer}\r\n").as_bytes()).await?;
    }
    Ok(())
}

/// All of a letter up to the line with a dot; nothing if it is too large.
async fn letter(stream: &mut BufReader<TcpStream>) -> io::Result<Option<Vec<u8>>> {
    let (mut letter, mut is_too_large) = (Vec::new(), false);
    loop {
        let mut line = Vec::new();
        if stream.read_until(b'\n', &mut line).await? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        if line == b".\r\n" {
            return Ok((!is_too_large).then_some(letter));
        }
        let line = line.strip_prefix(b".").unwrap_or(&line);
        is_too_large |= letter.len() + line.len() > LARGEST;
        if !is_too_large {
            letter.extend_from_slice(line);
        }
    }
}
