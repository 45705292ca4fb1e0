//! The service is ended without warning in the middle of every kind of step.

use std::time::Duration;

use crate::support::{
    bundles::Bundles,
    cuts::{Way, cut_off, wait_through},
    ways::{LongWay, Parcels},
};

#[test]
fn killed_in_the_middle_of_every_kind_of_step_each_file_goes_its_whole_way_once() {
    const FILES: usize = 24;
    let mut way = LongWay::new();
    (0..FILES).for_each(|number| way.put(number));
    for round in 0..14u64 {
        std::thread::sleep(Duration::from_millis(60 + (round * 137) % 420));
        way.office().kill();
        way.office().start();
    }
    wait_through(&mut way, FILES);
    way.check(FILES);
}

#[test]
fn cut_off_before_any_change_of_the_disk_each_file_goes_its_whole_way_once() {
    let mut way = LongWay::new();
    let files = cut_off(&mut way, 12);
    way.check(files);
}

#[test]
fn cut_off_before_any_change_of_the_disk_each_parcel_reaches_its_servers_once() {
    let mut way = Parcels::new();
    let files = cut_off(&mut way, 12);
    way.check(files);
}

#[test]
fn cut_off_before_any_change_of_the_disk_both_sides_of_a_twin_come_to_be_alike_and_nothing_is_lost() {
    let mut way = Bundles::new();
    let bundles = cut_off(&mut way, 24);
    way.check(bundles);
}
