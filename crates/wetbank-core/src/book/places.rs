//! From the book's shape to places.

use std::time::Duration;

use toml::Spanned;

use super::{
    raw,
    raw::{SecretRef, Text},
    resolve::{At, Checked, Mistake, secret_name},
};
use crate::{
    AgreedSpec, BucketAddressing, BucketSpec, FtpSecurity, FtpSpec, HostAddress, MailSecurity, MailServer, MailboxSpec,
    PlaceSpec, SILENCE, SftpSignIn, SftpSpec, ShareSpec, WebSignIn, WebdavSpec, parse_duration, typed_folder,
    typed_url, typed_user,
};

/// Connections to one server unless the book says otherwise: enough to keep small files moving,
/// few enough for the limits that servers commonly set.
const CONNECTIONS: u8 = 4;
/// Web servers and object stores are made for many requests at once.
const REQUESTS: u8 = 12;
/// The region that object stores without regions answer to.
const REGION: &str = "us-east-1";
/// Every kind with the keys it knows besides `kind`.
const KINDS: [(&str, &[&str]); 7] = [
    ("folder", &["root", "mount"]),
    ("sftp", &["host", "port", "user", "password", "key", "host-key", "root", "staged", "connections", "timeout"]),
    (
        "ftp",
        &[
            "host",
            "port",
            "user",
            "password",
            "security",
            "active",
            "certificate",
            "root",
            "staged",
            "connections",
            "timeout",
        ],
    ),
    ("share", &["host", "port", "share", "user", "password", "security", "root", "connections", "timeout"]),
    ("webdav", &["url", "user", "password", "agreement", "certificate", "connections", "timeout"]),
    (
        "bucket",
        &[
            "url",
            "bucket",
            "region",
            "addressing",
            "access-key",
            "secret-key",
            "certificate",
            "root",
            "connections",
            "timeout",
        ],
    ),
    (
        "mailbox",
        &[
            "host",
            "port",
            "user",
            "password",
            "security",
            "send-by",
            "send-security",
            "sender",
            "certificate",
            "send-certificate",
            "connections",
            "timeout",
        ],
    ),
];

/// The keys that a place of this kind has besides `kind`, in the order people write them; nothing
/// for a kind that there is not.
pub fn place_keys(kind: &str) -> Option<&'static [&'static str]> {
    KINDS.iter().find(|(known, _)| *known == kind).map(|(_, keys)| *keys)
}

struct Reader<'a>(&'a Spanned<raw::Place>);

pub(super) fn resolve_place(spanned: &Spanned<raw::Place>) -> Checked<PlaceSpec> {
    let reader = Reader(spanned);
    reader.check_keys()?;
    match reader.kind() {
        "folder" => reader.folder(),
        "sftp" => reader.sftp(),
        "ftp" => reader.ftp(),
        "share" => reader.share(),
        "webdav" => reader.webdav(),
        "mailbox" => reader.mailbox(),
        _ => reader.bucket(),
    }
}

impl<'a> Reader<'a> {
    fn raw(&self) -> &'a raw::Place {
        self.0.as_ref()
    }

    fn kind(&self) -> &'a str {
        self.raw().kind.str()
    }

    fn mistake(&self, words: String) -> Mistake {
        Mistake(self.0.span(), words)
    }

    /// The kind is known, and every key belongs to it.
    fn check_keys(&self) -> Checked<()> {
        let place = self.raw();
        let Some(known) = place_keys(self.kind()) else {
            let kinds = KINDS.map(|(kind, _)| format!("\"{kind}\"")).join(", ");
            let words = format!("unknown kind \"{}\"; there are {kinds}", self.kind());
            return Err(Mistake(place.kind.0.span(), words));
        };
        let given = [
            ("root", place.root.is_some()),
            ("mount", place.mount.is_some()),
            ("host", place.host.is_some()),
            ("port", place.port.is_some()),
            ("user", place.user.is_some()),
            ("password", place.password.is_some()),
            ("key", place.key.is_some()),
            ("host-key", place.host_key.is_some()),
            ("security", place.security.is_some()),
            ("active", place.active.is_some()),
            ("certificate", place.certificate.is_some()),
            ("url", place.url.is_some()),
            ("bucket", place.bucket.is_some()),
            ("region", place.region.is_some()),
            ("addressing", place.addressing.is_some()),
            ("access-key", place.access_key.is_some()),
            ("secret-key", place.secret_key.is_some()),
            ("share", place.share.is_some()),
            ("agreement", place.agreement.is_some()),
            ("send-by", place.send_by.is_some()),
            ("send-security", place.send_security.is_some()),
            ("sender", place.sender.is_some()),
            ("send-certificate", place.send_certificate.is_some()),
            ("staged", place.staged.is_some()),
            ("connections", place.connections.is_some()),
            ("timeout", place.timeout.is_some()),
        ];
        match given.iter().find(|(key, given)| *given && !known.contains(key)) {
            Some((key, _)) => Err(self.mistake(format!(
                "a place of kind \"{}\" has no key \"{key}\"; it has {}",
                self.kind(),
                known.join(", ")
            ))),
            None => Ok(()),
        }
    }

    fn need<T>(&self, key: &str, value: &'a Option<T>) -> Checked<&'a T> {
        value
            .as_ref()
            .ok_or_else(|| self.mistake(format!("a place of kind \"{}\" needs the key \"{key}\"", self.kind())))
    }

    /// Host and port; a port that stands with the host counts where no other is given.
    fn address(&self, default: u16) -> Checked<(String, u16)> {
        let host = self.need("host", &self.raw().host)?;
        let address = HostAddress::parse(host.str()).at(host)?;
        Ok((address.host, self.raw().port.or(address.port).unwrap_or(default)))
    }

    fn root(&self) -> String {
        self.raw().root.as_ref().map(|root| typed_folder(root.str())).unwrap_or_default()
    }

    /// The root; the folder of a pasted address where no other is given.
    fn root_or_pasted(&self) -> String {
        let pasted = self.raw().host.as_ref().filter(|_| self.raw().root.is_none());
        let below = pasted.and_then(|host| host.str().split_once("://")?.1.split_once('/'));
        match below {
            Some((_, folder)) if !folder.trim().trim_matches('/').is_empty() => typed_folder(&format!("/{folder}")),
            _ => self.root(),
        }
    }

    fn connections(&self, default: u8) -> usize {
        self.raw().connections.unwrap_or(default).max(1).into()
    }

    fn silence(&self) -> Checked<Duration> {
        let Some(text) = &self.raw().timeout else { return Ok(SILENCE) };
        let silence = parse_duration(text.str()).at(text)?;
        if silence < Duration::from_secs(1) {
            return Err(Mistake(text.0.span(), "timeout must be a second or longer".to_owned()));
        }
        Ok(silence)
    }

    fn fingerprint(&self, key: &str, value: Option<&Text>) -> Checked<Option<String>> {
        match value {
            Some(text) if !text.str().trim().starts_with("SHA256:") => {
                Err(Mistake(text.0.span(), format!("{key} must be a fingerprint that begins with SHA256:")))
            }
            value => Ok(value.map(|text| text.str().trim().to_owned())),
        }
    }

    fn folder(&self) -> Checked<PlaceSpec> {
        let root = self.need("root", &self.raw().root)?;
        if !root.str().starts_with('/') {
            let words = format!("root \"{}\" must be an absolute folder, as in \"/srv/office\"", root.str());
            return Err(Mistake(root.0.span(), words));
        }
        let root = root.str().to_owned();
        let mount = match &self.raw().mount {
            Some(text) => {
                let mount = text.str().trim_end_matches('/');
                if !mount.starts_with('/') || !(root == mount || root.starts_with(&format!("{mount}/"))) {
                    let words = format!("mount \"{}\" must be an absolute folder that holds the root", text.str());
                    return Err(Mistake(text.0.span(), words));
                }
                Some(mount.to_owned())
            }
            None => None,
        };
        Ok(PlaceSpec::Folder { root, mount })
    }

    fn sftp(&self) -> Checked<PlaceSpec> {
        let place = self.raw();
        let (host, port) = self.address(22)?;
        let passphrase = |key: &SecretRef| key.passphrase.as_ref().map(|p| secret_name(&p.secret)).transpose();
        let sign_in = match (&place.password, &place.key) {
            (Some(password), None) => SftpSignIn::Password(secret_name(&password.secret)?),
            (password, Some(key)) => SftpSignIn::Key {
                key: secret_name(&key.secret)?,
                passphrase: passphrase(key)?,
                password: password.as_ref().map(|password| secret_name(&password.secret)).transpose()?,
            },
            (None, None) => {
                let words = "needs password = { secret = \"…\" } or key = { secret = \"…\" }, or both if the server asks for both";
                return Err(self.mistake(words.to_owned()));
            }
        };
        Ok(PlaceSpec::Sftp(SftpSpec {
            host,
            port,
            user: self.need("user", &place.user)?.str().trim().to_owned(),
            sign_in,
            host_key: self.fingerprint("host-key", place.host_key.as_ref())?,
            root: self.root_or_pasted(),
            staged: place.staged.unwrap_or(true),
            connections: self.connections(CONNECTIONS),
            silence: self.silence()?,
        }))
    }

    fn ftp(&self) -> Checked<PlaceSpec> {
        let place = self.raw();
        let security = match place.security.as_ref().map(|text| (text, text.str())) {
            None | Some((_, "tls")) => FtpSecurity::Tls,
            Some((_, "tls-from-start")) => FtpSecurity::TlsFromStart,
            Some((_, "none")) => FtpSecurity::None,
            Some((text, other)) => {
                let words = format!("unknown security \"{other}\"; there are \"tls\", \"tls-from-start\" and \"none\"");
                return Err(Mistake(text.0.span(), words));
            }
        };
        let (host, port) = self.address(if security == FtpSecurity::TlsFromStart { 990 } else { 21 })?;
        Ok(PlaceSpec::Ftp(FtpSpec {
            host,
            port,
            user: self.need("user", &place.user)?.str().trim().to_owned(),
            password: secret_name(&self.need("password", &place.password)?.secret)?,
            security,
            active: place.active.unwrap_or(false),
            certificate: self.fingerprint("certificate", place.certificate.as_ref())?,
            root: self.root_or_pasted(),
            staged: place.staged.unwrap_or(true),
            connections: self.connections(CONNECTIONS),
            silence: self.silence()?,
        }))
    }

    fn share(&self) -> Checked<PlaceSpec> {
        let place = self.raw();
        let (host, port) = self.address(445)?;
        // A pasted \\server\share\folder tells all three at once.
        let pasted = place.host.as_ref().map_or("", |text| text.str().trim());
        let pasted = typed_folder(pasted.split_once("://").map_or(pasted, |(_, rest)| rest));
        let pasted = pasted.trim_start_matches('/');
        let pasted = pasted.split_once('/').map_or("", |(_, below)| below);
        let named = place.share.as_ref().map(|text| typed_folder(text.str())).unwrap_or_default();
        let below = format!("{}/{}", if named.is_empty() { pasted } else { &named }, self.root());
        let below = typed_folder(below.trim_start_matches('/'));
        let (share, root) = below.split_once('/').unwrap_or((below.as_str(), ""));
        if share.is_empty() || (named.is_empty() && pasted.is_empty()) {
            return Err(self.mistake("needs the share's name: share = \"survey\"".to_owned()));
        }
        let (domain, user) = typed_user(self.need("user", &place.user)?.str());
        let encrypted = match place.security.as_ref().map(|text| (text, text.str())) {
            None | Some((_, "encrypted")) => true,
            Some((_, "signed")) => false,
            Some((text, other)) => {
                let words = format!("unknown security \"{other}\"; there are \"encrypted\" and \"signed\"");
                return Err(Mistake(text.0.span(), words));
            }
        };
        Ok(PlaceSpec::Share(ShareSpec {
            host,
            port,
            share: share.to_owned(),
            domain,
            user,
            password: secret_name(&self.need("password", &place.password)?.secret)?,
            encrypted,
            root: root.to_owned(),
            connections: self.connections(CONNECTIONS),
            silence: self.silence()?,
        }))
    }

    fn webdav(&self) -> Checked<PlaceSpec> {
        let place = self.raw();
        let url = self.need("url", &place.url)?;
        let sign_in = match (&place.user, &place.password, &place.agreement) {
            (Some(user), Some(password), None) => {
                WebSignIn::Password(user.str().trim().to_owned(), secret_name(&password.secret)?)
            }
            (None, None, Some(agreement)) => WebSignIn::Agreed(agreed(agreement)?),
            (None, None, None) => WebSignIn::Open,
            _ => {
                let words = "needs either both user and password, or an agreement, or none of them";
                return Err(self.mistake(words.to_owned()));
            }
        };
        Ok(PlaceSpec::Webdav(WebdavSpec {
            url: typed_url(url.str()).at(url)?,
            sign_in,
            certificate: self.fingerprint("certificate", place.certificate.as_ref())?,
            connections: self.connections(REQUESTS),
            silence: self.silence()?,
        }))
    }

    fn bucket(&self) -> Checked<PlaceSpec> {
        let place = self.raw();
        let url = self.need("url", &place.url)?;
        let bucket = self.need("bucket", &place.bucket)?;
        let name = bucket.str().trim().trim_matches('/');
        if name.is_empty() || !name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._".contains(&b)) {
            let words = format!("\"{}\" is no bucket's name: it has letters, digits, - . and _ only", bucket.str());
            return Err(Mistake(bucket.0.span(), words));
        }
        let addressing = match place.addressing.as_ref().map(|text| (text, text.str())) {
            None | Some((_, "path")) => BucketAddressing::Path,
            Some((_, "host")) => BucketAddressing::Host,
            Some((text, other)) => {
                let words = format!("unknown addressing \"{other}\"; there are \"path\" and \"host\"");
                return Err(Mistake(text.0.span(), words));
            }
        };
        let sign_in = match (&place.access_key, &place.secret_key) {
            (Some(access), Some(secret)) => Some((access.str().trim().to_owned(), secret_name(&secret.secret)?)),
            (None, None) => None,
            _ => return Err(self.mistake("needs both access-key and secret-key, or neither".to_owned())),
        };
        Ok(PlaceSpec::Bucket(BucketSpec {
            url: typed_url(url.str()).at(url)?,
            bucket: name.to_owned(),
            region: place.region.as_ref().map_or(REGION, |region| region.str().trim()).to_owned(),
            addressing,
            sign_in,
            root: self.root().trim_matches('/').to_owned(),
            certificate: self.fingerprint("certificate", place.certificate.as_ref())?,
            connections: self.connections(REQUESTS),
            silence: self.silence()?,
        }))
    }
}

impl Reader<'_> {
    fn mail_security(&self, text: Option<&Text>, default: MailSecurity) -> Checked<MailSecurity> {
        match text.map(|text| (text, text.str())) {
            None => Ok(default),
            Some((_, "tls-from-start")) => Ok(MailSecurity::TlsFromStart),
            Some((_, "tls")) => Ok(MailSecurity::Tls),
            Some((_, "none")) => Ok(MailSecurity::None),
            Some((text, other)) => {
                let words = format!("unknown security \"{other}\"; there are \"tls-from-start\", \"tls\" and \"none\"");
                Err(Mistake(text.0.span(), words))
            }
        }
    }

    fn mailbox(&self) -> Checked<PlaceSpec> {
        let place = self.raw();
        let security = self.mail_security(place.security.as_ref(), MailSecurity::TlsFromStart)?;
        let certificate = self.fingerprint("certificate", place.certificate.as_ref())?;
        let read = match &place.host {
            Some(_) => {
                let usual = if security == MailSecurity::TlsFromStart { 993 } else { 143 };
                let (host, port) = self.address(usual)?;
                Some(MailServer { host, port, security, certificate: certificate.clone() })
            }
            None => None,
        };
        let send = match &place.send_by {
            Some(text) => {
                let address = HostAddress::parse(text.str()).at(text)?;
                let as_told = match address.port {
                    Some(587) => MailSecurity::Tls,
                    _ => security,
                };
                let security = self.mail_security(place.send_security.as_ref(), as_told)?;
                let usual = match security {
                    MailSecurity::TlsFromStart => 465,
                    MailSecurity::Tls => 587,
                    MailSecurity::None => 25,
                };
                let own = self.fingerprint("send-certificate", place.send_certificate.as_ref())?;
                // One certificate for both is usual.
                let certificate = own.or(certificate);
                Some(MailServer { host: address.host, port: address.port.unwrap_or(usual), security, certificate })
            }
            None => None,
        };
        if read.is_none() && send.is_none() {
            let words = "needs host (where letters are read), send-by (where they are handed in), or both";
            return Err(self.mistake(words.to_owned()));
        }
        let sender = match (&place.sender, &send) {
            (Some(text), _) if !is_mail_address(text.str()) => {
                let words = format!("\"{}\" is no mail address, as in \"office@merrow.example\"", text.str());
                return Err(Mistake(text.0.span(), words));
            }
            (None, Some(_)) => {
                return Err(self.mistake("needs \"sender\", the address that mails come from".to_owned()));
            }
            (sender, _) => sender.as_ref().map(|text| text.str().trim().to_owned()),
        };
        let sign_in = match (&place.user, &place.password) {
            (Some(user), Some(password)) => Some((user.str().trim().to_owned(), secret_name(&password.secret)?)),
            (None, None) if read.is_none() => None,
            _ => {
                return Err(
                    self.mistake("needs both user and password; one that only sends may have neither".to_owned())
                );
            }
        };
        Ok(PlaceSpec::Mailbox(MailboxSpec {
            read,
            send,
            sender,
            sign_in,
            connections: self.connections(CONNECTIONS),
            silence: self.silence()?,
        }))
    }
}

/// Whether a text looks like one mail address (RFC 5321, section 2.3.11), without a name before it.
pub(super) fn is_mail_address(text: &str) -> bool {
    let fits = |part: &str| {
        !part.is_empty() && part.chars().all(|c| c.is_alphanumeric() || "!#$%&'*+-/=?^_`{|}~.".contains(c))
    };
    text.trim().rsplit_once('@').is_some_and(|(user, host)| fits(user) && fits(host))
}

fn agreed(raw: &raw::Agreement) -> Checked<AgreedSpec> {
    let rights: Vec<String> = raw.rights.iter().map(|right| right.str().trim().to_owned()).collect();
    if let Some((text, _)) = raw.rights.iter().zip(&rights).find(|(_, right)| !is_right(right)) {
        let words = format!("\"{}\" is no right: it is one word without blanks or quotes", text.str());
        return Err(Mistake(text.0.span(), words));
    }
    Ok(AgreedSpec {
        server: typed_url(raw.server.str()).at(&raw.server)?,
        client: raw.client.str().trim().to_owned(),
        client_secret: raw.client_secret.as_ref().map(|secret| secret_name(&secret.secret)).transpose()?,
        rights,
        grant: secret_name(&raw.grant.secret)?,
    })
}

/// Whether a text is one scope (RFC 6749, section 3.3).
fn is_right(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|b| b.is_ascii_graphic() && b != b'"' && b != b'\\')
}
