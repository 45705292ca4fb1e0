//! Real servers on 127.0.0.1 for tests: each on a free port, with its own folder, ended when it
//! is dropped. Nothing here is part of the product.

#![allow(clippy::unwrap_used, clippy::missing_panics_doc, reason = "a test fails by panicking")]

mod answering;
mod apache;
mod authority;
mod certificate;
#[cfg(target_arch = "x86_64")]
mod cut;
mod cutter;
mod disk;
mod ftpservers;
mod moto;
mod post;
mod postgres;
mod process;
mod proftpd;
mod proftpd_ssh;
mod samba;
mod sshd;
mod unpacked;
mod webservers;

pub use answering::{Answering, http_answer};
pub use apache::{Apache, WEBDAV_USER};
pub use authority::Authority;
pub use certificate::Certificate;
#[cfg(target_arch = "x86_64")]
pub use cut::{Course, Cut, Plan, Refusing};
pub use cutter::Cutter;
pub use disk::{Mounted, SmallDisk};
pub use ftpservers::FtpServer;
pub use moto::{Moto, OwnMoto};
pub use post::{MAIL_ADDRESS, MAIL_USER, PostOffice};
pub use postgres::{Asking, DATABASE, DATABASE_USER, Postgres};
pub use process::{Server, free_port, run, wait_until};
pub use proftpd::{FTP_USER, FtpOffer, Proftpd};
pub use proftpd_ssh::ProftpdSsh;
pub use samba::{SHARE_NAME, SHARE_USER, Samba, ShareOffer};
pub use sshd::{Sshd, client_key};
pub use webservers::WebServer;
