//! A small FTP server: one user, one password, one folder; passive connections, not secured.

mod session;

use std::{io, net::SocketAddr, path::PathBuf, sync::Arc};

use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

use crate::guests::serve_all;

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
        let options = Arc::new(options);
        serve_all(listener, stop.clone(), move |stream| {
            let options = options.clone();
            async move {
                if let Err(error) = session::serve(stream, &options).await {
                    tracing::debug!(%error, "an FTP connection broke");
                }
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
