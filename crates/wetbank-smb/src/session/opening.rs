//! From a fresh connection to one on which somebody is signed in, one message at a time.

use std::{fmt, time::Duration};

use aws_lc_rs::rand;
use secrecy::{ExposeSecret, SecretString};
use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt};

use super::{framed, next_frame};
use crate::{
    Error, Malformed, Status,
    message::{Answer, Dialect, Negotiated, ROOM, Request, SetUp, negotiate, session_setup},
    ntlm,
    protect::{AES_256, Keys, SEALED_HEADER, Said},
    wire::Fields,
};

/// Who signs in.
#[derive(Debug, Clone)]
pub struct Account {
    /// The domain or the server's own name; empty for whatever the server takes.
    pub domain: String,
    /// The user.
    pub user: String,
    /// The password.
    pub password: SecretString,
}

/// How a connection must be protected, at least.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Protection {
    /// Nobody on the way can read or change anything.
    Encrypted,
    /// Nobody on the way can change anything.
    Signed,
}

/// How a connection is protected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Secured {
    /// The version of the protocol, as in `3.1.1`.
    pub version: &'static str,
    /// With what it can be encrypted, if it can.
    pub cipher: Option<&'static str>,
}

impl fmt::Display for Secured {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SMB {}, ", self.version)?;
        match self.cipher {
            Some(cipher) => write!(f, "{cipher}"),
            None => f.write_str("the server cannot encrypt"),
        }
    }
}

/// A connection on which somebody is signed in.
pub(crate) struct Opened<S> {
    pub stream: S,
    pub negotiated: Negotiated,
    pub keys: Keys,
    pub session: u64,
    pub is_sealed: bool,
    pub next_id: u64,
    pub credits: usize,
}

/// A connection whose version and protection are agreed on.
pub(crate) struct Greeted<S> {
    stream: S,
    negotiated: Negotiated,
    said: Said,
    next_id: u64,
    credits: usize,
}

fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    rand::fill(&mut bytes).expect("the system has random numbers");
    bytes
}

/// Ends after this time without an answer.
async fn within<T>(silence: Duration, work: impl Future<Output = Result<T, Error>>) -> Result<T, Error> {
    tokio::time::timeout(silence, work).await.map_err(|_| Error::TimedOut(silence))?
}

impl<S: AsyncRead + AsyncWrite + Unpin> Greeted<S> {
    /// Says hello. Nothing of the server is believed yet, but what it says is kept in mind: if
    /// anybody changes it, the keys of both ends differ.
    pub async fn start(stream: S, silence: Duration) -> Result<Self, Error> {
        let nothing = Negotiated {
            dialect: Dialect::Smb21,
            signing: 0,
            cipher: None,
            has_credits: false,
            longest_read: 0,
            longest_write: 0,
            time: 0,
        };
        let mut greeted = Self { stream, negotiated: nothing, said: Said::default(), next_id: 0, credits: 0 };
        let (answer, _) = within(silence, greeted.exchange(negotiate(&random(), &random()), 0)).await?;
        if answer.status.is_error() {
            return Err(Error::Status(answer.status));
        }
        greeted.said.add(&answer.message);
        greeted.negotiated = Negotiated::read(&answer)?;
        Ok(greeted)
    }

    pub fn secured(&self) -> Secured {
        let version = match self.negotiated.dialect {
            Dialect::Smb21 => "2.1",
            Dialect::Smb30 => "3.0",
            Dialect::Smb311 => "3.1.1",
        };
        let cipher = self.negotiated.cipher.map(|cipher| if cipher == AES_256 { "AES-256-GCM" } else { "AES-128-GCM" });
        Secured { version, cipher }
    }

    /// Sends a request that is not protected, and waits for the answer, which is kept as it came.
    async fn exchange(&mut self, request: Request, session: u64) -> Result<(Answer, bytes::BytesMut), Error> {
        let message = request.finish(self.next_id, 0, session, false, self.negotiated.has_credits);
        self.said.add(&message[ROOM..]);
        let id = self.next_id;
        self.next_id += 1;
        self.credits = self.credits.saturating_sub(1);
        self.stream.write_all(&framed(message, SEALED_HEADER)).await?;
        self.stream.flush().await?;
        loop {
            let frame = next_frame(&mut self.stream).await?;
            let answer = Answer::read(bytes::Bytes::copy_from_slice(&frame))?;
            self.credits += usize::from(answer.credits);
            if answer.id != id {
                return Err(Malformed("an answer to something else").into());
            }
            if answer.status != Status::PENDING {
                return Ok((answer, frame));
            }
        }
    }

    /// Signs in.
    pub async fn sign_in(
        mut self,
        account: &Account,
        server: &str,
        protection: Protection,
        silence: Duration,
    ) -> Result<Opened<S>, Error> {
        if protection == Protection::Encrypted && self.negotiated.cipher.is_none() {
            return Err(Error::NoEncryption);
        }
        let hello = ntlm::hello();
        let (answer, _) = within(silence, self.exchange(session_setup(&hello), 0)).await?;
        if answer.status != Status::MORE_PROCESSING_REQUIRED {
            return Err(Error::Status(answer.status));
        }
        self.said.add(&answer.message);
        let challenge = SetUp::read(&answer)?.token;
        let session = answer.session;
        // The server's own clock, because it refuses answers of another day.
        let moment = ntlm::Moment { time: self.negotiated.time, challenge: random() };
        let credentials = ntlm::Credentials {
            domain: &account.domain,
            user: &account.user,
            password: account.password.expose_secret(),
        };
        let (token, key) = ntlm::answer(credentials, &hello, &challenge, server, moment)?;
        let (answer, mut frame) = within(silence, self.exchange(session_setup(&token), session)).await?;
        if answer.status != Status::SUCCESS {
            return Err(Error::Status(answer.status));
        }
        let set_up = SetUp::read(&answer)?;
        if set_up.is_guest {
            return Err(Error::Unfit("the server does not know the user and would let us in as a guest"));
        }
        let Negotiated { dialect, signing, cipher, .. } = self.negotiated;
        let keys = Keys::new(&key, dialect, signing, cipher, &self.said);
        // Only who knows the password can sign this.
        if frame.u32_at(16)? & 8 == 0 || !keys.is_signed(&mut frame)? {
            return Err(Error::Unfit("the server did not prove that it knows the password"));
        }
        let is_sealed = protection == Protection::Encrypted || set_up.must_encrypt;
        if is_sealed && !keys.can_seal() {
            return Err(Error::Unfit("the server demands an encryption that it does not offer"));
        }
        let Self { stream, negotiated, next_id, credits, .. } = self;
        Ok(Opened { stream, negotiated, keys, session, is_sealed, next_id, credits })
    }
}
