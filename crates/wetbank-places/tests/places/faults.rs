//! The connection cut, a disk that is full, a server that lies.

use std::{net::SocketAddr, sync::Arc, time::Duration};

use crate::support::{Sshd, fresh_key, path, sftp_spec};
use bytes::Bytes;
use tempfile::TempDir;
use tokio::{
    io::copy_bidirectional,
    net::{TcpListener, TcpStream},
};
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_core::Name;
use wetbank_places::{Place, PlaceErrorKind, Sftp, SftpCredentials};

/// Stands between us and a server, and can cut every connection.
struct Cutter {
    address: SocketAddr,
    cut: Arc<std::sync::Mutex<CancellationToken>>,
}

impl Cutter {
    async fn before(server: SocketAddr) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let cut = Arc::new(std::sync::Mutex::new(CancellationToken::new()));
        let current = cut.clone();
        tokio::spawn(async move {
            let tracker = TaskTracker::new();
            while let Ok((mut client, _)) = listener.accept().await {
                let cut = current.lock().unwrap().clone();
                tracker.spawn(async move {
                    let Ok(mut server) = TcpStream::connect(server).await else { return };
                    tokio::select! {
                        _ = copy_bidirectional(&mut client, &mut server) => {}
                        () = cut.cancelled() => {}
                    }
                });
            }
        });
        Self { address, cut }
    }

    fn cut(&self) {
        let old = std::mem::take(&mut *self.cut.lock().unwrap());
        old.cancel();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_cut_in_mid_file_is_told_at_once_and_the_next_one_resumes() {
    let (sshd, root) = (Sshd::start(), TempDir::new().unwrap());
    let cutter = Cutter::before(sshd.address).await;
    let key = fresh_key(&sshd, &["ed25519"], "");
    let mut spec = sftp_spec(&sshd, root.path());
    spec.port = cutter.address.port();
    let place =
        Sftp::new(Name::new("server").unwrap(), spec, SftpCredentials::Key { key, passphrase: None, password: None });
    let piece = Bytes::from(vec![7u8; 1 << 20]);
    let mut staged = place.stage(&path(".wetbank-1"), &path("whole"), None).await.unwrap();
    for _ in 0..4 {
        staged.write(piece.clone()).await.unwrap();
    }
    cutter.cut();
    let broken = async {
        loop {
            if let Err(error) = staged.write(piece.clone()).await {
                return error;
            }
        }
    };
    let error = tokio::time::timeout(Duration::from_secs(10), broken).await.expect("it is told, it does not hang");
    assert_eq!(error.kind, PlaceErrorKind::Interrupted, "{error}");
    let there = place.stat(&path(".wetbank-1")).await.unwrap().fingerprint.size;
    let mut staged = place.stage(&path(".wetbank-1"), &path("whole"), Some(there)).await.unwrap();
    staged.write(Bytes::from_static(b"the end")).await.unwrap();
    assert_eq!(staged.finish().await.unwrap().fingerprint.size, there + 7);
}
