//! Starts one server and tells where it is, a line each; it ends with its input.

#![allow(clippy::print_stdout, reason = "what it tells is its output")]

use std::path::Path;

use wetbank_testbed::{Apache, FtpOffer, Moto, Proftpd, Samba, ShareOffer};

fn until_input_ends(address: &str, root: &Path) {
    println!("{address}\n{}\n", root.display());
    let _ = std::io::copy(&mut std::io::stdin(), &mut std::io::sink());
}

fn main() {
    match std::env::args().nth(1).as_deref() {
        Some("share") => {
            let server = Samba::start(ShareOffer::Usual);
            until_input_ends(&format!("127.0.0.1:{}", server.port), server.root.path());
        }
        Some("ftp") => {
            let server = Proftpd::start(FtpOffer::Plain);
            until_input_ends(&format!("127.0.0.1:{}", server.port), server.root.path());
        }
        Some("webdav") => {
            let server = Apache::start(false);
            until_input_ends(&server.url, server.root.path());
        }
        Some("bucket") => {
            let server = Moto::own();
            until_input_ends(&server.url, Path::new("/"));
        }
        other => panic!("no server of this kind: {other:?}"),
    }
}
