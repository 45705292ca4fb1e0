//! A small SFTP server: one user, one password, one folder.

use std::{collections::HashMap, io, net::SocketAddr, os::fd::AsFd, path::PathBuf, sync::Arc};

use bytes::Bytes;
use russh::{
    Channel, ChannelId, ChannelMsg, ChannelReadHalf, ChannelWriteHalf,
    keys::{Algorithm, HashAlg, PrivateKey},
    server::{self, Auth, ChannelOpenHandle, Msg, Session},
};
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::CancellationToken;
use wetbank_sftp::{Incoming, Outgoing, serve};

use crate::{files::FolderFiles, guests::serve_all};

/// How a stand-in is set up.
#[derive(Debug, Clone)]
pub struct SftpStandinOptions {
    /// Where it listens; port 0 takes a free one.
    pub listen: SocketAddr,
    /// The folder that it serves.
    pub root: PathBuf,
    /// Its one user.
    pub user: String,
    /// The user's password.
    pub password: String,
}

/// A running stand-in. Dropping it stops it and cuts its connections.
#[derive(Debug)]
pub struct SftpStandin {
    address: SocketAddr,
    fingerprint: String,
    stop: CancellationToken,
}

impl SftpStandin {
    /// Starts with a host key made for the occasion.
    pub async fn start(options: SftpStandinOptions) -> io::Result<Self> {
        let key = PrivateKey::random(&mut rand10::rng(), Algorithm::Ed25519).map_err(io::Error::other)?;
        let fingerprint = key.public_key().fingerprint(HashAlg::Sha256).to_string();
        let config = Arc::new(server::Config {
            keys: vec![key],
            nodelay: true,
            window_size: 16 << 20,
            maximum_packet_size: 64 << 10,
            auth_rejection_time: std::time::Duration::from_millis(200),
            auth_rejection_time_initial: Some(std::time::Duration::ZERO),
            ..server::Config::default()
        });
        let listener = TcpListener::bind(options.listen).await?;
        let address = listener.local_addr()?;
        let stop = CancellationToken::new();
        let options = Arc::new(options);
        serve_all(listener, stop.clone(), move |stream| {
            let handler = Guest { options: options.clone(), channels: HashMap::new() };
            let config = config.clone();
            async move {
                let _cut = Cut::of(&stream);
                match server::run_stream(config, stream, handler).await {
                    Ok(session) => drop(session.await),
                    Err(error) => tracing::debug!(%error, "a guest went during the handshake"),
                }
            }
        });
        Ok(Self { address, fingerprint, stop })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The fingerprint of its host key.
    pub fn fingerprint(&self) -> &str {
        &self.fingerprint
    }
}

impl Drop for SftpStandin {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}

/// Cuts a connection when it is dropped: a session goes on in a task of its own, whoever waits for it.
struct Cut(Option<std::net::TcpStream>);

impl Cut {
    fn of(stream: &TcpStream) -> Self {
        Self(stream.as_fd().try_clone_to_owned().ok().map(Into::into))
    }
}

impl Drop for Cut {
    fn drop(&mut self) {
        if let Some(stream) = &self.0 {
            let _ = stream.shutdown(std::net::Shutdown::Both);
        }
    }
}

struct Guest {
    options: Arc<SftpStandinOptions>,
    channels: HashMap<ChannelId, Channel<Msg>>,
}

impl server::Handler for Guest {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, Self::Error> {
        if user == self.options.user && password == self.options.password {
            return Ok(Auth::Accept);
        }
        Ok(Auth::reject())
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _session: &mut Session,
    ) -> Result<(), Self::Error> {
        self.channels.insert(channel.id(), channel);
        reply.accept().await;
        Ok(())
    }

    async fn subsystem_request(&mut self, id: ChannelId, name: &str, session: &mut Session) -> Result<(), Self::Error> {
        let channel = self.channels.remove(&id);
        let Some(channel) = channel.filter(|_| name == "sftp") else {
            return session.channel_failure(id);
        };
        session.channel_success(id)?;
        let files = Arc::new(FolderFiles::new(self.options.root.clone()));
        let (read, write) = channel.split();
        // A task of its own keeps draining the channel, so that a large download cannot block
        // the window updates it waits for.
        tokio::spawn(async move {
            if let Err(error) = serve(files, FromGuest(read), ToGuest(write)).await {
                tracing::debug!(%error, "a guest went");
            }
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
