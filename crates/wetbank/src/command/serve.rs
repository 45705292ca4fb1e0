use std::{
    io,
    net::SocketAddr,
    path::{Path, PathBuf},
};

use anyhow::{Context, Result};
use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;
use wetbank_engine::{Engine, EngineOptions};
use wetbank_service::{Server, Token};

use crate::{End, connect::DEFAULT_LISTEN};

#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Where to listen; only this machine can reach the default.
    #[arg(long, default_value = DEFAULT_LISTEN, value_name = "ADDRESS")]
    pub listen: SocketAddr,
    /// The programs that rules may run; programs.toml in the data folder if not said
    #[arg(long, value_name = "FILE")]
    pub programs: Option<PathBuf>,
    /// Make a new vault.key if it is lost: every secret and own key must be given again
    #[arg(long)]
    pub new_vault_key: bool,
}

pub(crate) async fn run(args: Args, data: PathBuf) -> Result<End> {
    let stop = CancellationToken::new();
    stop_on_signal(stop.clone())?;
    let service = Service::start(&data, args.listen, args.programs, args.new_vault_key).await?;
    eprintln!("Wetbank serves {} from {}", service.url, data.display());
    eprintln!("Open {}", service.link);
    service.run(stop).await?;
    Ok(End::Done)
}

/// Cancels the token at the first wish to end.
pub(crate) fn stop_on_signal(stop: CancellationToken) -> Result<()> {
    let mut terminate = signal(SignalKind::terminate())?;
    let mut interrupt = signal(SignalKind::interrupt())?;
    tokio::spawn(async move {
        tokio::select! {
            _ = terminate.recv() => {}
            _ = interrupt.recv() => {}
        }
        stop.cancel();
    });
    Ok(())
}

/// An engine and the server over it.
pub(crate) struct Service {
    pub engine: Engine,
    pub url: String,
    pub link: String,
    server: Server,
    address_file: PathBuf,
}

/// Leaves the address where commands look for it, in one step: nobody reads half of it.
fn tell(file: &Path, address: SocketAddr) -> io::Result<()> {
    let aside = file.with_extension("new");
    std::fs::write(&aside, address.to_string())?;
    std::fs::rename(aside, file)
}

impl Service {
    pub async fn start(
        data: &Path,
        listen: SocketAddr,
        programs: Option<PathBuf>,
        new_vault_key: bool,
    ) -> Result<Self> {
        let engine = Engine::start(EngineOptions { data: data.to_owned(), programs, new_vault_key }).await?;
        let token = Token::open(data)?;
        let server = match Server::bind(engine.clone(), token, listen).await {
            Ok(server) => server,
            Err(error) => {
                engine.stop().await;
                return Err(error.into());
            }
        };
        let address_file = data.join("address");
        tell(&address_file, server.address())
            .with_context(|| format!("{} cannot be written", address_file.display()))?;
        Ok(Self {
            engine,
            url: format!("http://{}", server.address()),
            link: server.sign_in_link(),
            server,
            address_file,
        })
    }

    /// Serves until told to stop, then comes to a safe end.
    pub async fn run(self, stop: CancellationToken) -> Result<()> {
        self.server.run(stop).await;
        let _ = std::fs::remove_file(&self.address_file);
        self.engine.stop().await;
        Ok(())
    }
}
