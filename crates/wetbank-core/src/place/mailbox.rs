//! The kind of place `mailbox`.

use std::{ops::Range, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{
    Kind,
    connection::{CONNECTIONS, address, certificate, connections, lacks, silence, trimmed},
};
use crate::{
    HostAddress, SecretName,
    address::mail_address,
    shape::{At, Checked, SecretRef, Text, holds, secret},
};

/// A mailbox: letters are read with IMAP and handed in with SMTP. It may only read, or only send.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(
    title = "A mailbox",
    extend("dependentRequired" = { "user": ["password"], "password": ["user"] })
)]
pub(crate) struct Shape {
    /// Where letters are read, as in `imap.merrow.example`; left out if it only sends.
    #[schemars(title = "Letters are read at")]
    host: Option<Text<holds::Host>>,
    /// The port there; 143 unless it is secured from the start.
    #[schemars(title = "Port", extend("default" = 993))]
    port: Option<u16>,
    /// The name one signs in with, the same for both servers.
    #[schemars(title = "User")]
    user: Option<Text>,
    /// The password, the same for both servers.
    #[schemars(title = "Password")]
    password: Option<SecretRef>,
    /// When a connection becomes secure.
    #[schemars(title = "Secured by", extend("default" = "tls-from-start"))]
    security: Option<MailSecurity>,
    /// Where letters are handed in, as in `smtp.merrow.example:587`; left out if it only reads.
    #[schemars(title = "Letters are handed in at")]
    send_by: Option<Text<holds::Host>>,
    /// When that connection becomes secure: at port 587 `tls`, else as the other.
    #[schemars(title = "There secured by", extend("seldom" = true))]
    send_security: Option<MailSecurity>,
    /// An address of its own that letters come from, as in `office@merrow.example`.
    #[schemars(title = "They come from")]
    sender: Option<Text<holds::MailAddress>>,
    /// What the server where letters are read proves itself with, only where no trusted authority vouches for it. It is
    /// written when it is confirmed, and then the only one that is trusted.
    #[schemars(title = "Certificate", extend("seldom" = true))]
    certificate: Option<Text<holds::Fingerprint>>,
    /// The same of the server where letters are handed in, where it has its own.
    #[schemars(title = "Certificate of the other", extend("seldom" = true))]
    send_certificate: Option<Text<holds::Fingerprint>>,
    /// Connections at once, at most.
    #[schemars(title = "Connections", extend("default" = CONNECTIONS), extend("seldom" = true))]
    connections: Option<u8>,
    /// How long a server may be silent.
    #[schemars(title = "Time-out", extend("default" = "30s"), extend("seldom" = true))]
    timeout: Option<Text<holds::Duration>>,
}

/// When a connection to a mail server becomes secure.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MailSecurity {
    /// TLS from the first byte (RFC 8314).
    TlsFromStart,
    /// TLS before anything is told (RFC 2595, RFC 3207).
    Tls,
    /// Not at all: password and letters can be read on the way.
    None,
}

/// One of the two servers of a mailbox.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailServer {
    /// Host name or address.
    pub host: String,
    /// TCP port.
    pub port: u16,
    /// When the connection becomes secure.
    pub security: MailSecurity,
    /// Its confirmed certificate, `SHA256:…`; without it, one that a trusted authority vouches for.
    pub certificate: Option<String>,
}

/// A mailbox, its sign-in and its limits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailboxSpec {
    /// Where its letters are read (IMAP); nothing if it only sends.
    pub read: Option<MailServer>,
    /// Where letters are handed in to be sent (SMTP); nothing if it only reads.
    pub send: Option<MailServer>,
    /// Who sends them.
    pub sender: Option<String>,
    /// User name and password, the same for both.
    pub sign_in: Option<(String, SecretName)>,
    /// Connections at once, at most.
    pub connections: usize,
    /// How long a server may be silent while we wait for it.
    pub silence: Duration,
}

impl MailboxSpec {
    /// Its servers: where letters are read, and where they are handed in.
    pub fn servers(&self) -> impl Iterator<Item = &MailServer> {
        self.read.iter().chain(&self.send)
    }

    /// The server by which it is known.
    pub fn server(&self) -> Option<&MailServer> {
        self.read.as_ref().or(self.send.as_ref())
    }
}

impl Shape {
    fn security(&self) -> MailSecurity {
        self.security.unwrap_or(MailSecurity::TlsFromStart)
    }

    fn read(&self) -> Checked<Option<MailServer>> {
        let Some(host) = &self.host else { return Ok(None) };
        let security = self.security();
        let usual = if security == MailSecurity::TlsFromStart { 993 } else { 143 };
        let (host, port) = address(host, self.port, usual)?;
        let certificate = certificate(self.certificate.as_ref())?;
        Ok(Some(MailServer { host, port, security, certificate }))
    }

    fn send(&self) -> Checked<Option<MailServer>> {
        let Some(text) = &self.send_by else { return Ok(None) };
        let address = HostAddress::parse(text.str()).at(text)?;
        let as_told = if address.port == Some(587) { MailSecurity::Tls } else { self.security() };
        let security = self.send_security.unwrap_or(as_told);
        let usual = match security {
            MailSecurity::TlsFromStart => 465,
            MailSecurity::Tls => 587,
            MailSecurity::None => 25,
        };
        // One certificate for both is usual.
        let own = certificate(self.send_certificate.as_ref())?;
        let certificate = own.or(certificate(self.certificate.as_ref())?);
        Ok(Some(MailServer { host: address.host, port: address.port.unwrap_or(usual), security, certificate }))
    }
}

impl Kind for MailboxSpec {
    type Shape = Shape;

    const EXAMPLE: &'static str = r#"kind     = "mailbox"
host     = "imap.merrow.example"
user     = "office"
password = { secret = "post" }
send-by  = "smtp.merrow.example:587"
sender   = "office@merrow.example""#;

    fn resolve(shape: &Shape, at: Range<usize>) -> Checked<Self> {
        let (read, send) = (shape.read()?, shape.send()?);
        if read.is_none() && send.is_none() {
            let words = "needs host (where letters are read), send-by (where they are handed in), or both";
            return Err(lacks(&at, words));
        }
        let sender = match &shape.sender {
            Some(text) => Some(mail_address(text.str()).at(text)?),
            None if send.is_some() => {
                return Err(lacks(&at, "needs \"sender\", the address that mails come from"));
            }
            None => None,
        };
        let sign_in = match (&shape.user, secret(shape.password.as_ref())?) {
            (Some(user), Some(password)) => Some((trimmed(user), password)),
            (None, None) if read.is_none() => None,
            _ => {
                return Err(lacks(&at, "needs both user and password; one that only sends may have neither"));
            }
        };
        Ok(Self {
            read,
            send,
            sender,
            sign_in,
            connections: connections(shape.connections, CONNECTIONS),
            silence: silence(shape.timeout.as_ref())?,
        })
    }

    fn address(&self) -> String {
        let user = self.sign_in.as_ref().map(|(user, _)| format!("{user} at ")).unwrap_or_default();
        let server = |server: &MailServer| format!("{}:{}", server.host, server.port);
        match (&self.read, &self.send) {
            (Some(read), Some(send)) => format!("{user}{}, sent by {}", server(read), server(send)),
            (Some(one), None) | (None, Some(one)) => format!("{user}{}", server(one)),
            (None, None) => user,
        }
    }

    fn secrets(&self) -> Vec<&SecretName> {
        self.sign_in.iter().map(|(_, secret)| secret).collect()
    }
}
