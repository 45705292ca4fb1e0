use std::{
    io,
    net::{IpAddr, SocketAddr},
    path::{Path, PathBuf},
    sync::Arc,
};

use anyhow::{Context, Result, bail};
use jiff::Timestamp;
use parking_lot::RwLock;
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;
use wetbank_engine::{Engine, EngineOptions};
use wetbank_people::People;
use wetbank_reception::{Desk, HostKeys, SftpOptions, serve_sftp};
use wetbank_service::{Authority, CertificateSource, Listening, Reception, Renewed, Server, Sftp, Shown, Token};

use crate::{End, connect::DEFAULT_LISTEN};

#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The programs that rules may run; programs.toml in the data folder if not said
    #[arg(long, value_name = "FILE")]
    pub programs: Option<PathBuf>,
    /// Make a new vault.key if it is lost: every secret and own key must be given again
    #[arg(long)]
    pub new_vault_key: bool,
    // Last: its heading counts for all that follows.
    #[command(flatten)]
    pub listening: Listen,
}

/// How the service is to be reached.
#[derive(Debug, clap::Args)]
#[command(next_help_heading = "On the network")]
pub(crate) struct Listen {
    /// Where to listen; only this machine can reach the default. Beyond it a certificate is needed
    #[arg(long, default_value = DEFAULT_LISTEN, value_name = "ADDRESS")]
    pub listen: SocketAddr,
    /// Show this certificate and those above it, as PEM; it may be changed while the service runs
    #[arg(long, value_name = "FILE", requires = "certificate_key", conflicts_with = "own_certificate")]
    pub certificate: Option<PathBuf>,
    /// The private key of the certificate, as PEM
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub certificate_key: Option<PathBuf>,
    /// For a trial: show a certificate of our own making, which no authority vouches for
    #[arg(long)]
    pub own_certificate: bool,
    /// Ask the authority with this directory (ACME) for a certificate for the names, and renew it; one agrees to its terms.
    /// It looks for the proof over http on port 80 of each name: let --redirect listen there
    #[arg(long, value_name = "URL", requires = "names", requires = "redirect", conflicts_with_all = ["certificate", "own_certificate"])]
    pub acme: Option<String>,
    /// Where the authority writes to, such as mailto:office@merrow.example
    #[arg(long, value_name = "ADDRESS", requires = "acme")]
    pub acme_contact: Option<String>,
    /// Who vouches for the authority's own server, if it is one of your own; PEM
    #[arg(long, value_name = "FILE", requires = "acme")]
    pub acme_root: Option<PathBuf>,
    /// A host name under which people come, besides those of the certificate; may be given again
    #[arg(long = "name", value_name = "HOST")]
    pub names: Vec<String>,
    /// A proxy that says for whom it asks (X-Forwarded-For, X-Forwarded-Proto); may be given again
    #[arg(long = "proxy", value_name = "ADDRESS")]
    pub proxies: Vec<IpAddr>,
    /// Receive partners here over SFTP: they sign in with accounts of the book
    #[arg(long, value_name = "ADDRESS")]
    pub sftp: Option<SocketAddr>,
    /// What everybody is told over SSH before signing in
    #[arg(long, value_name = "TEXT", requires = "sftp")]
    pub sftp_banner: Option<String>,
    /// Listen here, too, and send everybody to the same page in private
    #[arg(long, value_name = "ADDRESS")]
    pub redirect: Option<SocketAddr>,
    /// Listen beyond this machine in clear: whoever is on the way can read passwords and files
    #[arg(long)]
    pub others_may_read_along: bool,
}

impl Listen {
    /// In clear, for this machine.
    pub fn here(listen: SocketAddr) -> Self {
        let (names, proxies) = (Vec::new(), Vec::new());
        Self {
            listen,
            certificate: None,
            certificate_key: None,
            own_certificate: false,
            acme: None,
            acme_contact: None,
            acme_root: None,
            names,
            proxies,
            sftp: None,
            sftp_banner: None,
            redirect: None,
            others_may_read_along: false,
        }
    }

    /// Opens the certificate, if one is to be shown; one of our own lies in the data folder.
    fn open(self, data: &Path) -> Result<Listening> {
        let source = match (self.certificate, self.certificate_key) {
            (Some(chain), Some(key)) => Some(CertificateSource::Files { chain, key }),
            _ if self.own_certificate => {
                let here = ["localhost", "127.0.0.1", "::1"].map(str::to_owned);
                let ip = Some(self.listen.ip()).filter(|ip| !ip.is_unspecified() && !ip.is_loopback());
                let names = here.into_iter().chain(ip.map(|ip| ip.to_string())).chain(self.names.iter().cloned());
                Some(CertificateSource::Own { folder: data.join("tls"), names: names.collect() })
            }
            _ => self.acme.map(|directory| CertificateSource::Given {
                folder: data.join("tls"),
                names: self.names.clone(),
                authority: Authority { directory, contact: self.acme_contact, root: self.acme_root },
            }),
        };
        if source.is_none() && self.redirect.is_some() {
            bail!(
                "--redirect sends people to where a certificate is shown; give --certificate or --own-certificate, too"
            );
        }
        Ok(Listening {
            address: self.listen,
            certificate: source.map(Renewed::open).transpose()?,
            names: self.names,
            proxies: self.proxies.into_iter().map(|proxy| proxy.to_canonical()).collect(),
            redirect: self.redirect,
            others_may_read_along: self.others_may_read_along,
        })
    }
}

pub(crate) async fn run(args: Args, data: PathBuf) -> Result<End> {
    let stop = CancellationToken::new();
    stop_on_signal(stop.clone())?;
    let service = Service::start(&data, args.listening, args.programs, args.new_vault_key).await?;
    eprintln!("Wetbank serves {} from {}", service.url, data.display());
    if let Some(sftp) = &service.reception.sftp {
        eprintln!("Partners come over SFTP at {}; its host keys are shown by: wetbank reception show", sftp.address);
    }
    if let Some(shown) = &service.shown {
        eprintln!("Its certificate is {}, until {}", shown.fingerprint, shown.ends.strftime("%F"));
    }
    match &service.link {
        Some(link) => eprintln!("Open {link}\nIt opens once. `wetbank link` makes another one"),
        None => eprintln!("Open {}", service.url),
    }
    service.run(stop).await?;
    Ok(End::Done)
}

/// Takes the address for partners who come over SFTP, and reads our host keys; at the first start they are made.
async fn listen_for_sftp(desk: &Desk, address: SocketAddr, banner: Option<String>) -> Result<(Sftp, TcpListener)> {
    let folder = desk.folder().to_owned();
    let keys = tokio::task::spawn_blocking(move || HostKeys::open(&folder)).await?;
    let keys = keys.with_context(|| format!("the host keys in {} cannot be used", desk.folder().display()))?;
    let taken = || format!("cannot listen on {address}; choose another address with --sftp");
    let listener = TcpListener::bind(address).await.with_context(taken)?;
    let address = listener.local_addr()?;
    Ok((Sftp { address, keys: Arc::new(RwLock::new(keys)), banner }, listener))
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
    pub people: People,
    pub url: String,
    /// Opens once, if nobody has a name here yet.
    pub link: Option<String>,
    pub shown: Option<Shown>,
    pub reception: Reception,
    server: Server,
    address_file: PathBuf,
    /// Where partners come over SSH.
    ssh: Option<TcpListener>,
}

/// Leaves the address where commands look for it, and the certificates that they trust there, in one step: nobody reads
/// half of it.
fn tell(file: &Path, listening: &Listening, shown: &[&Shown]) -> io::Result<()> {
    let aside = file.with_extension("new");
    let text = if shown.is_empty() {
        listening.address.to_string()
    } else {
        let trusted = shown.iter().map(|shown| shown.fingerprint.clone());
        std::iter::once(listening.local()).chain(trusted).collect::<Vec<_>>().join(" ")
    };
    std::fs::write(&aside, text)?;
    std::fs::rename(aside, file)
}

impl Service {
    pub async fn start(data: &Path, listen: Listen, programs: Option<PathBuf>, new_vault_key: bool) -> Result<Self> {
        let engine = Engine::start(EngineOptions { data: data.to_owned(), programs, new_vault_key }).await?;
        let bound = async {
            let desk = Desk::open(engine.clone(), data).await?;
            let (sftp, ssh) = match listen.sftp {
                Some(address) => {
                    let (sftp, listener) = listen_for_sftp(&desk, address, listen.sftp_banner.clone()).await?;
                    (Some(sftp), Some(listener))
                }
                None => (None, None),
            };
            let (token, listening) = (Token::open(data)?, listen.open(data)?);
            let people = People::open(engine.journal().clone(), engine.vault()).await?;
            // Nobody could come in yet.
            let first = match people.users().is_empty() {
                true => Some(people.new_link(None, Timestamp::now()).await?.0),
                false => None,
            };
            let reception = Reception { desk, sftp };
            let server = Server::bind(engine.clone(), people.clone(), token, listening, reception.clone()).await?;
            Ok::<_, anyhow::Error>((server, people, first, reception, ssh))
        };
        let (server, people, first, reception, ssh) = match bound.await {
            Ok(bound) => bound,
            Err(error) => {
                engine.stop().await;
                return Err(error);
            }
        };
        let (address_file, shown) = (data.join("address"), server.listening().shown());
        tell(&address_file, server.listening(), &shown.iter().collect::<Vec<_>>())
            .with_context(|| format!("{} cannot be written", address_file.display()))?;
        let (url, link) = (server.listening().link(""), first.map(|link| server.link(&link)));
        Ok(Self { engine, people, url, link, shown, server, address_file, reception, ssh })
    }

    /// Serves until told to stop, then comes to a safe end.
    pub async fn run(self, stop: CancellationToken) -> Result<()> {
        let (file, listening) = (self.address_file.clone(), self.server.listening().clone());
        let renewed = move |shown: &[&Shown]| {
            if let Err(error) = tell(&file, &listening, shown) {
                tracing::warn!(file = %file.display(), %error, "commands do not know the new certificate");
            }
        };
        let desk = self.reception.desk.clone();
        let tended = tokio::spawn({
            let (desk, stop) = (desk.clone(), stop.clone());
            async move { desk.tend(stop).await }
        });
        let received = self.ssh.zip(self.reception.sftp).map(|(listener, sftp)| {
            let options = SftpOptions { banner: sftp.banner };
            tokio::spawn(serve_sftp(listener, desk, sftp.keys, options, stop.clone()))
        });
        self.server.run(renewed, stop).await;
        if let Some(received) = received {
            let _ = received.await;
        }
        let _ = tended.await;
        let _ = std::fs::remove_file(&self.address_file);
        self.engine.stop().await;
        Ok(())
    }
}
