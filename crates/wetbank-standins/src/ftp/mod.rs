//! A small FTP server: one user, one password, one folder; passive connections, not secured.

mod session;

use std::{io, net::SocketAddr, path::PathBuf, sync::Arc};

use tokio::net::TcpListener;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

/// How a stand-in is set up.
#[derive(Debug, Clone)]
pub struct FtpStandinOptions {
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
pub struct FtpStandin {
    address: SocketAddr,
    stop: CancellationToken,
}

impl FtpStandin {
    /// Starts to listen.
    ///
    /// # Errors
    /// If it cannot listen there.
    pub async fn start(options: FtpStandinOptions) -> io::Result<Self> {
        let listener = TcpListener::bind(options.listen).await?;
        let address = listener.local_addr()?;
        let stop = CancellationToken::new();
        let (stopped, options) = (stop.clone(), Arc::new(options));
        tokio::spawn(async move {
            let connections = TaskTracker::new();
            loop {
                let accepted = tokio::select! {
                    accepted = listener.accept() => accepted,
                    () = stopped.cancelled() => return,
                };
                let Ok((stream, _)) = accepted else { continue };
                let (options, stopped) = (options.clone(), stopped.clone());
                connections.spawn(async move {
                    tokio::select! {
                        ended = session::serve(stream, &options) => {
                            if let Err(error) = ended {
                                tracing::debug!(%error, "an FTP connection broke");
                            }
                        }
                        () = stopped.cancelled() => {}
                    }
                });
            }
        });
        Ok(Self { address, stop })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

impl Drop for FtpStandin {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}
