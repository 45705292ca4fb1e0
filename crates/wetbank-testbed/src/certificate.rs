//! A certificate that no authority vouches for.

use std::{
    fs,
    path::{Path, PathBuf},
};

use crate::run;

/// A fresh self-signed certificate for 127.0.0.1.
#[derive(Debug, Clone)]
pub struct Certificate {
    /// The certificate in PEM form.
    pub file: PathBuf,
    /// Its private key in PEM form.
    pub key: PathBuf,
    /// Its fingerprint: `SHA256:AB:CD:…`.
    pub fingerprint: String,
}

impl Certificate {
    /// Makes one in a folder.
    pub fn in_folder(folder: &Path) -> Self {
        let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned(), "localhost".to_owned()]).unwrap();
        let (file, key, der) = (folder.join("server.crt"), folder.join("server.key"), folder.join("server.der"));
        fs::write(&file, made.cert.pem()).unwrap();
        fs::write(&key, made.signing_key.serialize_pem()).unwrap();
        fs::write(&der, made.cert.der()).unwrap();
        let sum = run("sha256sum", &[der.to_str().unwrap()]);
        let hex = sum.split(' ').next().unwrap().to_uppercase();
        let pairs: Vec<&str> = hex.as_bytes().chunks(2).map(|pair| std::str::from_utf8(pair).unwrap()).collect();
        Self { file, key, fingerprint: format!("SHA256:{}", pairs.join(":")) }
    }
}

/// Makes an authority's certificate, and one that it gives to 127.0.0.1 with its key, in a folder: PEM files of these names.
pub(crate) fn vouched(folder: &Path, [root, file, key]: [&str; 3]) {
    let mut params = rcgen::CertificateParams::default();
    params.distinguished_name.push(rcgen::DnType::CommonName, "An authority of the tests");
    params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    let root_key = rcgen::KeyPair::generate().unwrap();
    let made = params.self_signed(&root_key).unwrap();
    let issuer = rcgen::Issuer::new(params, root_key);
    let own = rcgen::KeyPair::generate().unwrap();
    let names = rcgen::CertificateParams::new(vec!["127.0.0.1".to_owned()]).unwrap();
    let given = names.signed_by(&own, &issuer).unwrap();
    for (name, text) in [(root, made.pem()), (file, given.pem()), (key, own.serialize_pem())] {
        fs::write(folder.join(name), text).unwrap();
    }
}
