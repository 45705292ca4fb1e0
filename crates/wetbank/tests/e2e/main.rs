//! The real binary, talked to through its command line, its API and its console. One program for all tests: it is
//! linked once, and a test that waits keeps no other waiting.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

mod api;
mod arrangements;
mod arriving;
mod braking;
mod building;
mod by_form;
mod by_hand;
mod by_keys;
mod chain;
mod changes;
mod clock;
mod colleagues;
mod console;
mod data_folder;
mod delivery;
mod described;
mod drive;
mod errands;
mod flow;
mod forms;
mod front_door;
mod full;
mod gathering;
mod hostile;
mod jobs;
mod kill;
mod kinds;
mod letters;
mod looking;
mod lost_answers;
mod many_names;
mod odd_servers;
mod packing;
mod pages;
mod partners;
#[cfg(target_arch = "x86_64")]
mod published;
mod reception;
mod reception_faults;
mod refusals;
mod rehearsing;
mod rights;
mod server;
mod settings;
mod signals;
mod signing_in;
mod starters;
mod starting;
#[cfg(target_arch = "x86_64")]
mod stops;
mod tracing;
mod twins;
mod twins_everywhere;
mod writers;
