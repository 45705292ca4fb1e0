//! Every kind of place against its real server, and against servers that lie, fall silent or go away.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

mod bucket;
mod conformance;
mod drive;
mod endless;
mod faults;
mod limited;
mod lying;
mod lying_ftp;
mod mailbox;
mod outage;
mod published;
mod quota;
mod secure;
mod share;
mod sign_in;
mod strangers;
