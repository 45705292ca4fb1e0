//! Our own SFTP server.

mod files;

use std::{
    collections::HashMap,
    io,
    net::{IpAddr, SocketAddr},
    os::fd::AsFd,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicUsize, Ordering::Relaxed},
    },
    time::Duration,
};

use bytes::Bytes;
use parking_lot::{Mutex, RwLock};
use russh::{
    Channel, ChannelId, ChannelMsg, ChannelReadHalf, ChannelWriteHalf, MethodKind, MethodSet, Preferred, SshId, cipher,
    kex,
    keys::{Algorithm, HashAlg},
    mac,
    server::{self, Auth, ChannelOpenHandle, Msg, PublicKeyOffer, Response, Session, VerifiedPublicKey},
};
use secrecy::SecretString;
use tokio::net::{TcpListener, TcpStream};
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_sftp::{Incoming, Outgoing, serve as serve_files};

use crate::{Desk, HostKeys, Proven, View, Way};
use files::SeenFiles;

/// Who has not signed in by then is cut off.
const TO_SIGN_IN: Duration = Duration::from_secs(30);
/// Connections that have not signed in yet, from everywhere and from one address.
const STRANGERS: usize = 200;
const STRANGERS_OF_ONE: usize = 40;
/// A refusal takes so long at least, whatever it was for.
const REFUSAL: Duration = Duration::from_millis(300);
/// A guest that says nothing is asked whether it is there; after three times it is gone.
const ASKED: Duration = Duration::from_secs(60);
/// Bytes on their way to us in one channel.
const WINDOW: u32 = 4 << 20;
/// Bytes in one packet.
const PACKET: u32 = 64 << 10;
/// Channels of one connection.
const CHANNELS: usize = 16;
/// A host that stops waits so long for uploads to come to a safe point.
const STOP_WITHIN: Duration = Duration::from_secs(5);

/// How the server is set up.
#[derive(Debug, Clone, Default)]
pub struct SftpOptions {
    /// What everybody is told before signing in.
    pub banner: Option<String>,
}

/// What every connection needs.
struct Shared {
    desk: Desk,
    keys: Arc<RwLock<HostKeys>>,
    options: SftpOptions,
    strangers: Mutex<HashMap<IpAddr, usize>>,
    guests: TaskTracker,
}

/// What we speak: nothing that is known to be weak.
fn preferred() -> Preferred {
    Preferred {
        kex: vec![
            kex::MLKEM768X25519_SHA256,
            kex::CURVE25519,
            kex::CURVE25519_PRE_RFC_8731,
            kex::DH_G18_SHA512,
            kex::DH_G16_SHA512,
            kex::DH_G14_SHA256,
            kex::EXTENSION_SUPPORT_AS_SERVER,
            kex::EXTENSION_OPENSSH_STRICT_KEX_AS_SERVER,
        ]
        .into(),
        key: vec![
            Algorithm::Ed25519,
            Algorithm::Rsa { hash: Some(HashAlg::Sha512) },
            Algorithm::Rsa { hash: Some(HashAlg::Sha256) },
        ]
        .into(),
        cipher: vec![
            cipher::AES_256_GCM,
            cipher::AES_128_GCM,
            cipher::CHACHA20_POLY1305,
            cipher::AES_256_CTR,
            cipher::AES_128_CTR,
        ]
        .into(),
        mac: vec![mac::HMAC_SHA512_ETM, mac::HMAC_SHA256_ETM, mac::HMAC_SHA512, mac::HMAC_SHA256].into(),
        ..Preferred::DEFAULT
    }
}

fn config(keys: &HostKeys) -> server::Config {
    let mut methods = MethodSet::empty();
    for method in [MethodKind::PublicKey, MethodKind::Password, MethodKind::KeyboardInteractive] {
        methods.push(method);
    }
    server::Config {
        server_id: SshId::Standard("SSH-2.0-Wetbank".into()),
        methods,
        auth_rejection_time: REFUSAL,
        auth_rejection_time_initial: Some(Duration::ZERO),
        keys: keys.keys().to_vec(),
        window_size: WINDOW,
        maximum_packet_size: PACKET,
        channel_buffer_size: 32,
        preferred: preferred(),
        max_auth_attempts: 6,
        inactivity_timeout: None,
        keepalive_interval: Some(ASKED),
        keepalive_max: 3,
        nodelay: true,
        ..server::Config::default()
    }
}

/// Serves guests until told to stop.
pub async fn serve(
    listener: TcpListener,
    desk: Desk,
    keys: Arc<RwLock<HostKeys>>,
    options: SftpOptions,
    stop: CancellationToken,
) {
    let guests = TaskTracker::new();
    let shared = Arc::new(Shared { desk, keys, options, strangers: Mutex::default(), guests: guests.clone() });
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = stop.cancelled() => break,
        };
        match accepted {
            Ok((stream, from)) => {
                let (shared, stop) = (shared.clone(), stop.clone());
                guests.spawn(async move { shared.receive(stream, from, stop).await });
            }
            // Out of files or memory: others may end meanwhile.
            Err(error) => {
                tracing::warn!(%error, "a connection over SSH could not be taken");
                tokio::time::sleep(Duration::from_millis(200)).await;
            }
        }
    }
    guests.close();
    let _ = tokio::time::timeout(STOP_WITHIN, guests.wait()).await;
}

/// A place among those who have not signed in.
struct Stranger {
    shared: Arc<Shared>,
    address: IpAddr,
}

impl Drop for Stranger {
    fn drop(&mut self) {
        let mut strangers = self.shared.strangers.lock();
        if let Some(count) = strangers.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                strangers.remove(&self.address);
            }
        }
    }
}

impl Shared {
    fn stranger(self: &Arc<Self>, address: IpAddr) -> Option<Stranger> {
        let mut strangers = self.strangers.lock();
        let all: usize = strangers.values().sum();
        let own = strangers.entry(address).or_default();
        if all >= STRANGERS || *own >= STRANGERS_OF_ONE {
            if *own == 0 {
                strangers.remove(&address);
            }
            return None;
        }
        *own += 1;
        Some(Stranger { shared: self.clone(), address })
    }

    async fn receive(self: Arc<Self>, stream: TcpStream, from: SocketAddr, stop: CancellationToken) {
        let address = from.ip().to_canonical();
        let Some(stranger) = self.stranger(address) else { return };
        let _ = stream.set_nodelay(true);
        let Some(cut) = Cut::of(&stream) else { return };
        let config = Arc::new(config(&self.keys.read()));
        let state = Arc::new(State {
            address,
            is_in: AtomicBool::new(false),
            ended: Mutex::new(None),
            channels: AtomicUsize::new(0),
            name: Mutex::new(None),
        });
        let guest = Guest {
            shared: self.clone(),
            state: state.clone(),
            stranger: Some(stranger),
            view: None,
            channels: HashMap::new(),
            choosing: None,
        };
        let began = tokio::time::timeout(TO_SIGN_IN, server::run_stream(config, stream, guest)).await;
        let session = match began {
            Ok(Ok(session)) => session,
            Ok(Err(error)) => return tracing::debug!(%address, %error, "a guest went during the handshake"),
            Err(_) => return,
        };
        let late = async {
            tokio::time::sleep(TO_SIGN_IN).await;
            if state.is_in.load(Relaxed) {
                std::future::pending::<()>().await;
            }
        };
        let sent_away = async {
            loop {
                let ended = state.ended.lock().clone();
                match ended {
                    Some(ended) => return ended.cancelled().await,
                    None => tokio::time::sleep(Duration::from_millis(200)).await,
                }
            }
        };
        tokio::select! {
            ended = session => if let Err(error) = ended {
                tracing::debug!(%address, %error, "a guest went");
            },
            () = late => {}
            () = sent_away => {}
            () = stop.cancelled() => {}
        }
        drop(cut);
        let name = state.name.lock().take();
        if let Some(name) = name.filter(|_| !state.is_in.load(Relaxed)) {
            self.desk.refused(&name, address).await;
        }
    }
}

/// Cuts a connection when it is dropped: a session goes on in a task of its own, whoever waits for it.
struct Cut(std::net::TcpStream);

impl Cut {
    fn of(stream: &TcpStream) -> Option<Self> {
        Some(Self(stream.as_fd().try_clone_to_owned().ok()?.into()))
    }
}

impl Drop for Cut {
    fn drop(&mut self) {
        let _ = self.0.shutdown(std::net::Shutdown::Both);
    }
}

/// What is known of a connection.
struct State {
    address: IpAddr,
    is_in: AtomicBool,
    ended: Mutex<Option<CancellationToken>>,
    channels: AtomicUsize,
    /// With which name it was last tried to sign in.
    name: Mutex<Option<String>>,
}

struct Guest {
    shared: Arc<Shared>,
    state: Arc<State>,
    stranger: Option<Stranger>,
    view: Option<View>,
    channels: HashMap<ChannelId, Channel<Msg>>,
    /// The one-time password of whoever is asked for another one.
    choosing: Option<SecretString>,
}

impl Guest {
    fn tries(&self, user: &str) {
        *self.state.name.lock() = Some(user.chars().take(64).collect());
    }

    /// Lets the guest in.
    async fn enter(&mut self, user: &str, how: String) -> Auth {
        let from = (Way::Sftp, self.state.address);
        match self.shared.desk.enter(user, from, how, "").await {
            Ok(guest) => {
                *self.state.ended.lock() = Some(guest.ended());
                self.state.is_in.store(true, Relaxed);
                self.stranger = None;
                self.view = Some(View::new(guest));
                Auth::Accept
            }
            Err(error) => {
                tracing::warn!(account = user, %error, "somebody who may come cannot be let in");
                Auth::reject()
            }
        }
    }

    async fn proven(&mut self, user: &str, password: &SecretString) -> Option<Proven> {
        self.tries(user);
        match self.shared.desk.prove(user, password, self.state.address).await {
            Ok(proven) => Some(proven),
            Err(error) => {
                tracing::debug!(account = user, %error, "not let in");
                None
            }
        }
    }
}

fn asked(instructions: &'static str, prompts: &'static [&'static str]) -> Auth {
    let prompts: Vec<_> = prompts.iter().map(|prompt| ((*prompt).into(), false)).collect();
    Auth::Partial { name: "".into(), instructions: instructions.into(), prompts: prompts.into() }
}

const CHOOSE: &str = "This password counts once. Choose one of your own, of 12 characters at least.";

impl server::Handler for Guest {
    type Error = russh::Error;

    async fn authentication_banner(&mut self) -> Result<Option<String>, Self::Error> {
        Ok(self.shared.options.banner.clone().map(|banner| format!("{}\n", banner.trim_end())))
    }

    async fn auth_publickey_offered(&mut self, user: &str, offer: PublicKeyOffer<'_>) -> Result<Auth, Self::Error> {
        self.tries(user);
        let key = offer.public_key.to_bytes().unwrap_or_default();
        let fits = self.shared.desk.opens_with(user, &key, self.state.address).is_some();
        Ok(if fits && *offer.algorithm != (Algorithm::Rsa { hash: None }) { Auth::Accept } else { Auth::reject() })
    }

    async fn auth_publickey(&mut self, user: &str, key: VerifiedPublicKey<'_>) -> Result<Auth, Self::Error> {
        self.tries(user);
        // What is signed with SHA-1 proves nothing any more.
        if *key.algorithm == (Algorithm::Rsa { hash: None }) {
            return Ok(Auth::reject());
        }
        let bytes = key.public_key.to_bytes().unwrap_or_default();
        match self.shared.desk.opens_with(user, &bytes, self.state.address) {
            Some(fingerprint) => Ok(self.enter(user, fingerprint).await),
            None => Ok(Auth::reject()),
        }
    }

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, Self::Error> {
        match self.proven(user, &password.into()).await {
            Some(Proven::In) => Ok(self.enter(user, "password".to_owned()).await),
            // Another one is asked for in a dialogue.
            Some(Proven::Once) | None => Ok(Auth::reject()),
        }
    }

    async fn auth_keyboard_interactive<'a>(
        &'a mut self,
        user: &str,
        _submethods: &str,
        response: Option<Response<'a>>,
    ) -> Result<Auth, Self::Error> {
        let Some(mut response) = response else {
            self.choosing = None;
            return Ok(asked("", &["Password: "]));
        };
        let mut next =
            || response.next().and_then(|bytes| String::from_utf8(bytes.to_vec()).ok()).map(SecretString::from);
        let first = next();
        let second = next();
        let Some(first) = first else { return Ok(Auth::reject()) };
        let Some(once) = self.choosing.take() else {
            return Ok(match self.proven(user, &first).await {
                Some(Proven::In) => self.enter(user, "password".to_owned()).await,
                Some(Proven::Once) => {
                    self.choosing = Some(first);
                    asked(CHOOSE, &["New password: ", "The same again: "])
                }
                None => Auth::reject(),
            });
        };
        use secrecy::ExposeSecret;
        if second.is_none_or(|second| second.expose_secret() != first.expose_secret()) {
            self.choosing = Some(once);
            return Ok(asked("These two are not the same.", &["New password: ", "The same again: "]));
        }
        match self.shared.desk.choose(user, &once, &first).await {
            Ok(()) => Ok(self.enter(user, "password".to_owned()).await),
            Err(error) => {
                tracing::info!(account = user, %error, "a password was not taken");
                self.choosing = Some(once);
                Ok(asked(
                    "It is too easy to guess: three or four words make a good one.",
                    &["New password: ", "The same again: "],
                ))
            }
        }
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _session: &mut Session,
    ) -> Result<(), Self::Error> {
        if self.channels.len() + self.state.channels.load(Relaxed) >= CHANNELS {
            return Ok(());
        }
        self.channels.insert(channel.id(), channel);
        reply.accept().await;
        Ok(())
    }

    async fn channel_close(&mut self, channel: ChannelId, _session: &mut Session) -> Result<(), Self::Error> {
        self.channels.remove(&channel);
        Ok(())
    }

    async fn exec_request(&mut self, id: ChannelId, _data: &[u8], session: &mut Session) -> Result<(), Self::Error> {
        session.channel_failure(id)
    }

    async fn shell_request(&mut self, id: ChannelId, session: &mut Session) -> Result<(), Self::Error> {
        session.channel_success(id)?;
        session.data(id, Bytes::from_static(b"This server speaks SFTP only: use an SFTP client.\r\n"))?;
        session.exit_status_request(id, 1)?;
        session.close(id)
    }

    async fn subsystem_request(&mut self, id: ChannelId, name: &str, session: &mut Session) -> Result<(), Self::Error> {
        let channel = self.channels.remove(&id);
        let (Some(channel), Some(view), "sftp") = (channel, self.view.clone(), name) else {
            return session.channel_failure(id);
        };
        session.channel_success(id)?;
        let (read, write) = channel.split();
        let (state, files, handle) = (self.state.clone(), Arc::new(SeenFiles(view)), session.handle());
        state.channels.fetch_add(1, Relaxed);
        // A task of its own keeps draining the channel, so that a large download cannot block the window updates that it
        // waits for.
        self.shared.guests.spawn(async move {
            if let Err(error) = serve_files(files, FromGuest(read), ToGuest(write)).await {
                tracing::debug!(%error, "a guest went");
            }
            state.channels.fetch_sub(1, Relaxed);
            // OpenSSH's client waits for the server to close what it is done with (RFC 4254, section 5.3).
            let _ = handle.exit_status_request(id, 0).await;
            let _ = handle.eof(id).await;
            let _ = handle.close(id).await;
        });
        Ok(())
    }
}

struct FromGuest(ChannelReadHalf);

impl Incoming for FromGuest {
    async fn next(&mut self) -> io::Result<Option<Bytes>> {
        loop {
            match self.0.wait().await {
                Some(ChannelMsg::Data { data }) => return Ok(Some(data)),
                Some(ChannelMsg::Eof | ChannelMsg::Close) | None => return Ok(None),
                Some(_) => {}
            }
        }
    }
}

struct ToGuest(ChannelWriteHalf<Msg>);

impl Outgoing for ToGuest {
    async fn send(&mut self, bytes: Bytes) -> io::Result<()> {
        self.0.data_bytes(bytes).await.map_err(|e| io::Error::other(e.to_string()))
    }
}
