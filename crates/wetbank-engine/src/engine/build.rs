//! From the book's words to a place that can be used.

use std::{path::PathBuf, sync::Arc};

use secrecy::SecretString;
use wetbank_core::{Limits, Name, PlaceSpec, RelPath, SecretName, SftpSignIn, WebSignIn};
use wetbank_places::{
    Bucket, Folder, Ftp, Limited, Mailbox, Place, PlaceError, PlaceErrorKind, Sftp, SftpCredentials, Share, Webdav,
};

use super::Engine;
use crate::{EngineError, grants::VaultKeeper};

impl Engine {
    pub(super) async fn build(
        &self,
        name: &Name,
        spec: &PlaceSpec,
        limits: Option<&Limits>,
    ) -> Result<Arc<dyn Place>, PlaceError> {
        let place = self.build_with(name, spec, &[]).await?;
        let place = match limits {
            Some(limits) => Limited::around(place, limits),
            None => place,
        };
        Ok(self.core.moorings.moor(place))
    }

    /// A place without limits, with these secrets where they have the names that it needs, and
    /// those of the vault.
    pub(super) async fn build_with(
        &self,
        name: &Name,
        spec: &PlaceSpec,
        given: &[(String, SecretString)],
    ) -> Result<Arc<dyn Place>, PlaceError> {
        let opened = async |name: &SecretName| match given.iter().find(|(known, _)| known == name.as_str()) {
            Some((_, secret)) => Ok(secret.clone()),
            None => self.core.keys.secret(name.as_str()).await,
        };
        let refused = |error: EngineError| PlaceError {
            kind: PlaceErrorKind::Refused,
            place: name.clone(),
            call: "sign in to",
            path: RelPath::root(),
            detail: error.to_string(),
        };
        match spec {
            PlaceSpec::Folder { root, mount } => {
                let (guarded, at) = (self.core.effects.guarded.clone(), PathBuf::from(root));
                if let Ok(Some(why)) = tokio::task::spawn_blocking(move || guarded.refuses_root(&at)).await {
                    let (kind, path) = (PlaceErrorKind::Denied, RelPath::root());
                    return Err(PlaceError { kind, place: name.clone(), call: "open", path, detail: why });
                }
                Ok(Arc::new(Folder::mounted(name.clone(), root, mount.as_ref())))
            }
            PlaceSpec::Sftp(sftp) => {
                let credentials = match &sftp.sign_in {
                    SftpSignIn::Password(secret) => SftpCredentials::Password(opened(secret).await.map_err(refused)?),
                    SftpSignIn::Key { key, passphrase, password } => {
                        let perhaps = async |name: &Option<SecretName>| match name {
                            Some(name) => opened(name).await.map(Some),
                            None => Ok(None),
                        };
                        SftpCredentials::Key {
                            key: opened(key).await.map_err(refused)?,
                            passphrase: perhaps(passphrase).await.map_err(refused)?,
                            password: perhaps(password).await.map_err(refused)?,
                        }
                    }
                };
                Ok(Arc::new(Sftp::new(name.clone(), sftp.clone(), credentials)))
            }
            PlaceSpec::Ftp(ftp) => {
                let password = opened(&ftp.password).await.map_err(refused)?;
                Ok(Arc::new(Ftp::new(name.clone(), ftp.clone(), password)))
            }
            PlaceSpec::Share(share) => {
                let password = opened(&share.password).await.map_err(refused)?;
                Ok(Arc::new(Share::new(name.clone(), share.clone(), password)))
            }
            PlaceSpec::Mailbox(mailbox) => {
                let password = match &mailbox.sign_in {
                    Some((_, secret)) => Some(opened(secret).await.map_err(refused)?),
                    None => None,
                };
                Ok(Arc::new(Mailbox::new(name.clone(), mailbox.clone(), password)))
            }
            PlaceSpec::Webdav(webdav) => {
                let password = match &webdav.sign_in {
                    WebSignIn::Password(_, secret) => Some(opened(secret).await.map_err(refused)?),
                    WebSignIn::Open => None,
                    WebSignIn::Agreed(agreed) => {
                        let client_secret = self.client_secret(agreed).await.map_err(refused)?;
                        let keeper = VaultKeeper { keys: self.core.keys.clone(), name: agreed.grant.clone() };
                        let (name, spec, agreed) = (name.clone(), webdav.clone(), agreed.clone());
                        return Ok(Arc::new(Webdav::agreed(name, spec, agreed, client_secret, Arc::new(keeper))));
                    }
                };
                Ok(Arc::new(Webdav::new(name.clone(), webdav.clone(), password)))
            }
            PlaceSpec::Bucket(bucket) => {
                let secret = match &bucket.sign_in {
                    Some((_, secret)) => Some(opened(secret).await.map_err(refused)?),
                    None => None,
                };
                Ok(Arc::new(Bucket::new(name.clone(), bucket.clone(), secret)?))
            }
        }
    }
}
