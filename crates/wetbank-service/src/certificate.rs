//! Where the certificate comes from that the service shows, and how it is renewed.

use std::{
    fs, io,
    io::Write,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

use jiff::Timestamp;
use parking_lot::RwLock;
use tokio_util::sync::CancellationToken;
use wetbank_tls::{Served, Shown, Unfit};

use crate::acme::{self, Authority, Proofs};

/// How often it is looked whether the files were changed.
const LOOKS: Duration = Duration::from_secs(5);
/// An authority is asked again after this time at first, and after this time at most.
const SOON: Duration = Duration::from_secs(30);
const LATEST: Duration = Duration::from_secs(12 * 3600);
/// So long before it is shown it is told that another one will be.
const ANNOUNCED: Duration = Duration::from_secs(1);
/// How often it is looked whether it is time to ask.
const OFTEN: Duration = Duration::from_secs(6 * 3600);

/// Where a certificate and its key come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CertificateSource {
    /// Files that somebody keeps up to date, both PEM.
    Files {
        /// The certificate, and those above it.
        chain: PathBuf,
        /// Its private key.
        key: PathBuf,
    },
    /// One of our own, for which no authority vouches, kept in this folder.
    Own {
        /// The folder.
        folder: PathBuf,
        /// The names and addresses that it is for.
        names: Vec<String>,
    },
    /// One that an authority gives us, kept in this folder. Until it does, one of our own is shown.
    Given {
        /// The folder.
        folder: PathBuf,
        /// The host names that it is for.
        names: Vec<String>,
        /// The authority.
        authority: Authority,
    },
}

/// Why there is no certificate to show.
#[derive(Debug, Clone, thiserror::Error)]
pub enum CertificateError {
    /// A file cannot be read or written.
    #[error("{file} cannot be used: {why}")]
    File {
        /// The file.
        file: String,
        /// Why.
        why: String,
    },
    /// They cannot be shown.
    #[error("{files}: {why}")]
    Unfit {
        /// The files.
        files: String,
        /// Why.
        why: Unfit,
    },
    /// None can be made for these names.
    #[error("no certificate can be made for {names}: {why}")]
    Names {
        /// The names.
        names: String,
        /// Why.
        why: String,
    },
}

fn file(path: &Path) -> impl FnOnce(io::Error) -> CertificateError {
    let file = path.display().to_string();
    move |error| CertificateError::File { file, why: error.to_string() }
}

/// A certificate and its key, as PEM.
type Pair = (Vec<u8>, Vec<u8>);

fn read(chain: &Path, key: &Path) -> Result<Pair, CertificateError> {
    Ok((fs::read(chain).map_err(file(chain))?, fs::read(key).map_err(file(key))?))
}

/// Writes a file that only we read, in one step.
pub(crate) fn keep(path: &Path, text: &str) -> Result<(), CertificateError> {
    let aside = path.with_extension("new");
    let written = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&aside);
    written
        .and_then(|mut written| written.write_all(text.as_bytes()).and_then(|()| written.sync_all()))
        .and_then(|()| fs::rename(&aside, path))
        .map_err(file(path))
}

impl CertificateSource {
    fn paths(&self) -> (PathBuf, PathBuf) {
        match self {
            Self::Files { chain, key } => (chain.clone(), key.clone()),
            // In one file, so that they are changed in one step.
            Self::Own { folder, .. } => (folder.join("own.pem"), folder.join("own.pem")),
            Self::Given { folder, .. } => (folder.join("given.pem"), folder.join("given.pem")),
        }
    }

    fn unfit(&self, why: Unfit) -> CertificateError {
        let (chain, key) = self.paths();
        CertificateError::Unfit { files: format!("{} with {}", chain.display(), key.display()), why }
    }

    /// Reads the certificate; one of our own is made first, if there is none that serves.
    fn open(&self) -> Result<Served, CertificateError> {
        match self {
            Self::Files { chain, key } => {
                let (chain, key) = read(chain, key)?;
                Served::new(&chain, &key).map_err(|why| self.unfit(why))
            }
            Self::Own { folder, names } => {
                let kept = self.kept(names).filter(|kept| kept.shown().renewed() > Timestamp::now());
                kept.map_or_else(|| self.make(folder, names), Ok)
            }
            Self::Given { folder, names, .. } => match self.kept(names) {
                Some(given) => Ok(given),
                None => Self::Own { folder: folder.clone(), names: names.clone() }.open(),
            },
        }
    }

    /// What lies in the folder, if it is good and for these names.
    fn kept(&self, names: &[String]) -> Option<Served> {
        let (chain, key) = self.paths();
        let (chain, key) = read(&chain, &key).ok()?;
        let kept = Served::new(&chain, &key).ok()?;
        let shown = kept.shown();
        names.iter().all(|name| shown.names.contains(name)).then_some(kept)
    }

    fn make(&self, folder: &Path, names: &[String]) -> Result<Served, CertificateError> {
        let unnamed = |why| CertificateError::Names { names: names.join(", "), why };
        let (chain, key) = wetbank_tls::own(names, Timestamp::now()).map_err(unnamed)?;
        fs::create_dir_all(folder).map_err(file(folder))?;
        keep(&self.paths().0, &format!("{chain}{key}"))?;
        Served::new(chain.as_bytes(), key.as_bytes()).map_err(|why| self.unfit(why))
    }
}

/// The certificate that is shown, and what is the matter with the one that should be.
#[derive(Debug, Clone)]
pub struct Renewed {
    source: CertificateSource,
    served: Served,
    trouble: Arc<RwLock<Option<String>>>,
    proofs: Proofs,
}

impl Renewed {
    /// Shows what comes from there.
    ///
    /// # Errors
    ///
    /// If there is nothing that can be shown.
    pub fn open(source: CertificateSource) -> Result<Self, CertificateError> {
        let served = source.open()?;
        Ok(Self { source, served, trouble: Arc::default(), proofs: Proofs::default() })
    }

    /// What shows it.
    pub(crate) fn served(&self) -> &Served {
        &self.served
    }

    /// Why what lies there now is not shown.
    pub fn trouble(&self) -> Option<String> {
        self.trouble.read().clone()
    }

    /// Whether it is one of our own making.
    pub fn is_made(&self) -> bool {
        matches!(self.source, CertificateSource::Own { .. })
    }

    /// What an authority finds at our names under this token.
    pub(crate) fn proof(&self, token: &str) -> Option<String> {
        self.proofs.of(token)
    }

    /// Sees to it that a good certificate is shown until told to stop; tells which ones may be, whenever that changes.
    pub async fn follow(self, tell: impl Fn(&[&Shown]) + Send, stop: CancellationToken) {
        let asked = async {
            match &self.source {
                CertificateSource::Given { folder, names, authority } => {
                    self.ask(folder, names, authority, &stop).await;
                }
                CertificateSource::Files { .. } | CertificateSource::Own { .. } => {}
            }
        };
        tokio::join!(asked, self.look(tell, &stop));
    }

    /// Shows what comes to lie in the files. What cannot be shown is told once, and the one before stays.
    async fn look(&self, tell: impl Fn(&[&Shown]) + Send, stop: &CancellationToken) {
        let (chain, key) = self.source.paths();
        let is_asked_for = matches!(self.source, CertificateSource::Given { .. });
        let mut shown = read(&chain, &key).ok();
        loop {
            tokio::select! {
                () = tokio::time::sleep(LOOKS) => {}
                () = stop.cancelled() => return,
            }
            let found = match read(&chain, &key) {
                Ok(found) if shown.as_ref() == Some(&found) => {
                    if !is_asked_for {
                        *self.trouble.write() = None;
                    }
                    continue;
                }
                // It was not given yet.
                Err(_) if is_asked_for => continue,
                found => found,
            };
            let next = found.and_then(|(chain, key)| {
                let next = Served::new(&chain, &key).map_err(|why| self.source.unfit(why));
                next.map(|next| (next, (chain, key)))
            });
            match next {
                Ok((next, pair)) => {
                    let (before, now) = (self.served.shown(), next.shown());
                    // Who read before what to trust may ask only now.
                    tell(&[&now, &before]);
                    tokio::time::sleep(ANNOUNCED).await;
                    self.served.show_as(&next);
                    tell(&[&now]);
                    tracing::info!(fingerprint = now.fingerprint, ends = %now.ends, "another certificate is shown from now on");
                    (shown, *self.trouble.write()) = (Some(pair), None);
                }
                Err(error) => self.is_in_trouble(format!("the new certificate is not shown: {error}")),
            }
        }
    }

    fn is_in_trouble(&self, why: String) {
        let mut trouble = self.trouble.write();
        if trouble.as_ref() != Some(&why) {
            tracing::warn!(why, "the certificate before is shown");
        }
        *trouble = Some(why);
    }

    /// Asks an authority for a certificate whenever it is time for another one.
    async fn ask(&self, folder: &Path, names: &[String], authority: &Authority, stop: &CancellationToken) {
        let mut pause = SOON;
        loop {
            let given = self.source.kept(names).map(|given| given.shown());
            let is_due = given.is_none_or(|given| given.renewed() < Timestamp::now());
            let wait = if is_due {
                let asked = tokio::select! {
                    asked = acme::order(authority, names, folder, &self.proofs) => asked,
                    () = stop.cancelled() => return,
                };
                match asked.and_then(|text| Ok(keep(&self.source.paths().0, &text)?)) {
                    Ok(()) => {
                        *self.trouble.write() = None;
                        pause = SOON;
                        OFTEN
                    }
                    Err(error) => {
                        let directory = &authority.directory;
                        self.is_in_trouble(format!(
                            "no certificate from {directory}: {}; it is asked again",
                            acme::told(&error)
                        ));
                        // Authorities take few mistakes an hour.
                        let wait = pause;
                        pause = (pause * 2).min(LATEST);
                        wait
                    }
                }
            } else {
                OFTEN
            };
            tokio::select! {
                () = tokio::time::sleep(wait) => {}
                () = stop.cancelled() => return,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_of_our_own_is_kept_until_it_ends_or_is_for_another_name() {
        let folder = tempfile::tempdir().unwrap();
        let own = |names: &[&str]| CertificateSource::Own {
            folder: folder.path().join("tls"),
            names: names.iter().map(|&name| name.to_owned()).collect(),
        };
        let first = own(&["localhost", "192.0.2.7"]).open().unwrap().shown();
        assert!(first.is_own && first.renewed() > Timestamp::now());
        assert_eq!(own(&["localhost"]).open().unwrap().shown(), first);
        let wider = own(&["localhost", "files.merrow.example"]).open().unwrap().shown();
        assert_ne!(wider.fingerprint, first.fingerprint);
        use std::os::unix::fs::PermissionsExt;
        let mode = fs::metadata(folder.path().join("tls/own.pem")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        let nothing = CertificateSource::Files { chain: "/none.crt".into(), key: "/none.key".into() };
        let why = nothing.open().unwrap_err().to_string();
        assert!(why.contains("/none.crt") && why.contains("No such file"), "{why}");
    }
}
