//! The engine by itself: what it takes in, what it does with it, what it keeps on record. Places are folders of this
//! machine; what other places do is tested where they are.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod branches;
mod by_hand;
mod explaining;
mod failing;
mod oddities;
mod originals;
mod rehearsing;
mod results;
mod stopping;
mod support;
mod together;
mod twins;
mod twins_arranged;
mod twins_replacing;
mod watching;
