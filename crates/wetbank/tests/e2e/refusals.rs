//! The journal refuses what is to be recorded, in the middle of every kind of step: what it refused has not
//! happened, and every file goes its way once all the same.

use std::time::Duration;

use crate::support::{
    bundles::Bundles,
    cuts::refuse_commits,
    ways::{LongWay, Parcels},
};
use wetbank_testbed::Refusing;

/// Commits that are refused of a way, unless all are asked for.
const SOME: usize = 6;

fn long_way(how: Refusing) {
    let mut way = LongWay::new();
    let files = refuse_commits(&mut way, how, SOME);
    way.check(files);
}

fn parcels(how: Refusing) {
    let mut way = Parcels::new();
    let files = refuse_commits(&mut way, how, SOME);
    way.check(files);
}

fn bundles(how: Refusing) {
    let mut way = Bundles::new();
    let bundles = refuse_commits(&mut way, how, SOME);
    way.check(bundles);
}

#[test]
fn refused_once_each_file_goes_its_whole_way_once() {
    long_way(Refusing::Once);
}

#[test]
fn refused_for_three_seconds_each_file_goes_its_whole_way_once() {
    long_way(Refusing::For(Duration::from_secs(3)));
}

#[test]
fn refused_until_it_is_killed_each_file_goes_its_whole_way_once() {
    long_way(Refusing::UntilEnd);
}

#[test]
fn refused_once_each_parcel_reaches_its_servers_once() {
    parcels(Refusing::Once);
}

#[test]
fn refused_for_three_seconds_each_parcel_reaches_its_servers_once() {
    parcels(Refusing::For(Duration::from_secs(3)));
}

#[test]
fn refused_until_it_is_killed_each_parcel_reaches_its_servers_once() {
    parcels(Refusing::UntilEnd);
}

#[test]
fn refused_once_both_sides_of_a_twin_come_to_be_alike() {
    bundles(Refusing::Once);
}

#[test]
fn refused_until_it_is_killed_both_sides_of_a_twin_come_to_be_alike() {
    bundles(Refusing::UntilEnd);
}
