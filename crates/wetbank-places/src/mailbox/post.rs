//! Handing letters in (RFC 5321, RFC 6409).

use std::io;

use lettre::{
    Address,
    address::Envelope,
    transport::smtp::{
        authentication::{Credentials, Mechanism},
        client::{AsyncSmtpConnection, AsyncTokioStream},
        extension::ClientId,
    },
};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader},
    time::timeout,
};
use wetbank_core::{MailSecurity, MailServer};

use super::{
    Post,
    connection::{Line, Pool},
};
use crate::{PlaceError, PlaceErrorKind, bounded::Lines, place::Result};

/// A line of an answer is never longer.
const LONGEST_LINE: u64 = 4096;
/// Nor has an answer more lines, or more bytes.
const MOST_LINES: usize = 200;
const LONGEST_ANSWER: usize = 256 << 10;

/// A line on which the greeting was already read, and is heard again by who comes next.
#[derive(Debug)]
struct Greeted {
    greeting: io::Cursor<&'static [u8]>,
    line: Lines<Line>,
    peer: std::net::SocketAddr,
    /// Bytes that came since something was said.
    answered: usize,
}

impl tokio::io::AsyncRead for Greeted {
    fn poll_read(
        mut self: std::pin::Pin<&mut Self>,
        cx: &mut std::task::Context<'_>,
        buffer: &mut tokio::io::ReadBuf<'_>,
    ) -> std::task::Poll<io::Result<()>> {
        let at = usize::try_from(self.greeting.position()).unwrap_or(usize::MAX);
        let rest = self.greeting.get_ref().get(at..).unwrap_or_default();
        if rest.is_empty() {
            if self.answered > LONGEST_ANSWER {
                return std::task::Poll::Ready(Err(io::Error::new(
                    io::ErrorKind::InvalidData,
                    "the server answers without end",
                )));
            }
            let before = buffer.filled().len();
            let read = std::pin::Pin::new(&mut self.line).poll_read(cx, buffer);
            self.answered += buffer.filled().len() - before;
            return read;
        }
        let taken = rest.len().min(buffer.remaining());
        buffer.put_slice(&rest[..taken]);
        self.greeting.set_position((at + taken) as u64);
        std::task::Poll::Ready(Ok(()))
    }
}

impl tokio::io::AsyncWrite for Greeted {
    fn poll_write(
        mut self: std::pin::Pin<&mut Self>,
        cx: &mut std::task::Context<'_>,
        buffer: &[u8],
    ) -> std::task::Poll<io::Result<usize>> {
        self.answered = 0;
        std::pin::Pin::new(&mut self.line).poll_write(cx, buffer)
    }

    fn poll_flush(
        mut self: std::pin::Pin<&mut Self>,
        cx: &mut std::task::Context<'_>,
    ) -> std::task::Poll<io::Result<()>> {
        std::pin::Pin::new(&mut self.line).poll_flush(cx)
    }

    fn poll_shutdown(
        mut self: std::pin::Pin<&mut Self>,
        cx: &mut std::task::Context<'_>,
    ) -> std::task::Poll<io::Result<()>> {
        std::pin::Pin::new(&mut self.line).poll_shutdown(cx)
    }
}

impl AsyncTokioStream for Greeted {
    fn peer_addr(&self) -> io::Result<std::net::SocketAddr> {
        Ok(self.peer)
    }
}

/// The name of this machine, if it can be one in mail (RFC 5321, section 4.1.2).
pub fn host_name() -> Option<String> {
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    let is_part =
        |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
    name.split('.').all(is_part).then_some(name)
}

/// Who we say that we are (RFC 5321, section 4.1.1.1): this machine's name, or its address where that is no name.
fn who(local: Option<std::net::IpAddr>) -> ClientId {
    if let Some(name) = host_name() {
        return ClientId::Domain(name);
    }
    match local {
        Some(std::net::IpAddr::V6(address)) => ClientId::Ipv6(address),
        Some(std::net::IpAddr::V4(address)) => ClientId::Ipv4(address),
        None => ClientId::Ipv4(std::net::Ipv4Addr::LOCALHOST),
    }
}

impl Pool {
    /// Reaches the server for sending, securely as the book asks.
    pub(super) async fn reach_to_send(&self, server: &MailServer) -> Result<AsyncSmtpConnection> {
        let line = self.open_line(server).await?;
        let (greeting, line): (&'static [u8], Line) = match server.security {
            MailSecurity::Tls => (b"220 secured\r\n", self.soon(server, self.start_tls(server, line)).await??),
            MailSecurity::TlsFromStart | MailSecurity::None => (b"", line),
        };
        let (peer, local) = (line.peer, line.local);
        let line = Box::new(Greeted { greeting: io::Cursor::new(greeting), line: Lines::of(line), peer, answered: 0 });
        let opened = self.soon(server, AsyncSmtpConnection::connect_with_transport(line, &who(local))).await?;
        opened.map_err(|error| self.post_failed("reach", &error))
    }

    /// Asks the server to go on within TLS (RFC 3207).
    async fn start_tls(&self, server: &MailServer, line: Line) -> Result<Line> {
        let broken = |error: io::Error| self.fail(PlaceErrorKind::Unreachable, "reach", error.to_string());
        let mut line = BufReader::new(line);
        answer(&mut line).await.map_err(broken)?;
        let hello = format!("EHLO {}\r\n", who(line.get_ref().local));
        line.write_all(hello.as_bytes()).await.map_err(broken)?;
        answer(&mut line).await.map_err(broken)?;
        line.write_all(b"STARTTLS\r\n").await.map_err(broken)?;
        let said = answer(&mut line).await.map_err(broken)?;
        // Whatever was said after the answer was said in clear, by whoever is in between.
        if !said.starts_with("220") || !line.buffer().is_empty() {
            let detail = format!(
                "{}:{} refuses to be secured ({}); send-security = \"none\" would send password and letters in clear",
                server.host,
                server.port,
                said.trim()
            );
            return Err(self.fail(PlaceErrorKind::Unsupported, "secure", detail));
        }
        self.over_tls(server, line.into_inner()).await
    }

    async fn sign_in_to_send(&self) -> Result<AsyncSmtpConnection> {
        let Some(server) = &self.spec().send else {
            let detail = "this mailbox does not send; say send-by = \"HOST\" and sender = \"ADDRESS\"".to_owned();
            return Err(self.fail(PlaceErrorKind::Unsupported, "send by", detail));
        };
        let mut connection = self.reach_to_send(server).await?;
        if let Some((user, password)) = self.sign_in() {
            let credentials = Credentials::new(user.to_owned(), password.to_owned());
            let signing = connection.auth(&[Mechanism::Plain, Mechanism::Login], &credentials);
            self.soon(server, signing).await?.map_err(|error| match error.is_permanent() || error.is_client() {
                true => self.refused(),
                false => self.post_failed("sign in to", &error),
            })?;
        }
        Ok(connection)
    }

    fn post_failed(&self, call: &'static str, error: &lettre::transport::smtp::Error) -> PlaceError {
        use std::error::Error as _;
        let said = error.source().map_or_else(|| error.to_string(), ToString::to_string);
        let said: String = said.chars().filter(|c| !c.is_control()).take(300).collect();
        let kind = if error.is_permanent() {
            PlaceErrorKind::Denied
        } else if error.is_transient() {
            PlaceErrorKind::Busy
        } else if call == "reach" {
            PlaceErrorKind::Unreachable
        } else {
            PlaceErrorKind::Interrupted
        };
        self.fail(kind, call, said)
    }
}

/// Reads an answer of one line or several; answers the last.
async fn answer(line: &mut BufReader<Line>) -> io::Result<String> {
    for _ in 0..MOST_LINES {
        let mut text = String::new();
        (&mut *line).take(LONGEST_LINE).read_line(&mut text).await?;
        if text.is_empty() {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "the server closed the connection"));
        }
        if text.as_bytes().get(3) != Some(&b'-') {
            return Ok(text);
        }
    }
    Err(io::Error::new(io::ErrorKind::InvalidData, "the server answers without end"))
}

/// Signs in and says goodbye.
pub(super) async fn greet(pool: &Pool) -> Result<()> {
    let mut connection = pool.sign_in_to_send().await?;
    let _ = timeout(pool.spec().silence, connection.quit()).await;
    Ok(())
}

/// Hands a letter in.
pub(super) async fn send(pool: &Pool, post: &Post) -> Result<()> {
    let address = |text: &String| {
        text.trim()
            .parse::<Address>()
            .map_err(|_| pool.fail(PlaceErrorKind::Denied, "send by", format!("\"{text}\" is no mail address")))
    };
    let from = address(&post.from)?;
    let to = post.to.iter().map(address).collect::<Result<Vec<_>>>()?;
    let envelope = Envelope::new(Some(from), to)
        .map_err(|error| pool.fail(PlaceErrorKind::Denied, "send by", error.to_string()))?;
    let mut connection = pool.sign_in_to_send().await?;
    // A large letter takes its time; what counts is that the server does not fall silent for long.
    let patience = pool.spec().silence * 4;
    let sent = timeout(patience, connection.send(&envelope, &post.letter)).await;
    match sent {
        Ok(Ok(_)) => {
            let _ = timeout(pool.spec().silence, connection.quit()).await;
            Ok(())
        }
        Ok(Err(error)) => Err(pool.post_failed("send by", &error)),
        Err(_) => {
            let detail = format!("the server did not take the letter within {} s", patience.as_secs());
            Err(pool.fail(PlaceErrorKind::Interrupted, "send by", detail))
        }
    }
}
