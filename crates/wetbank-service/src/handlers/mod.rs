//! Thin handlers: take apart, call one thing, map. Each noun has its routes, its handlers and what it shows.

pub(crate) mod accounts;
pub(crate) mod audit;
pub(crate) mod book;
pub(crate) mod calendars;
pub(crate) mod databases;
pub(crate) mod drafts;
pub(crate) mod keys;
pub(crate) mod me;
pub(crate) mod notices;
pub(crate) mod partners;
pub(crate) mod passkeys;
pub(crate) mod places;
pub(crate) mod provider;
pub(crate) mod rehearsals;
pub(crate) mod rules;
pub(crate) mod runs;
pub(crate) mod secrets;
pub(crate) mod sections;
pub(crate) mod session;
pub(crate) mod sign_in;
pub(crate) mod signals;
pub(crate) mod starters;
pub(crate) mod status;
pub(crate) mod tokens;
pub(crate) mod twins;
pub(crate) mod users;
