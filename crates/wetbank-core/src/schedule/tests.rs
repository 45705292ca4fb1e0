use proptest::prelude::*;

use super::*;

fn zone(name: &str) -> TimeZone {
    TimeZone::get(name).unwrap()
}

fn schedule(pattern: Pattern, days: Days) -> Schedule {
    let calendar = Calendar::plain();
    Schedule { pattern, days, calendar, between: None, missed: Missed::Once, busy: Busy::Wait }
}

fn at(times: &[&str]) -> Pattern {
    Pattern::At(times.iter().map(|time| Time::strptime("%H:%M", time).unwrap()).collect())
}

fn every(minutes: u64) -> Pattern {
    Pattern::Every(Duration::from_secs(minutes * 60))
}

/// The next firings, told on the clock of the zone.
fn told(schedule: &Schedule, after: &str, place: &str, most: usize) -> Vec<String> {
    let zone = zone(place);
    let after = format!("{after}[{place}]").parse::<jiff::Zoned>().unwrap().timestamp();
    let firings = schedule.sample(after, &zone, most);
    firings.iter().map(|at| at.to_zoned(zone.clone()).strftime("%m-%d %H:%M %z").to_string()).collect()
}

#[test]
fn a_day_on_which_clocks_change_has_each_firing_once() {
    // London puts its clocks forward on 2026-03-29 at 01:00 and back on 2026-10-25 at 02:00.
    let table: [(&str, Schedule, &str, &[&str]); 8] = [
        (
            "jumped over",
            schedule(at(&["01:30"]), Days::All),
            "2026-03-28T12:00",
            &["03-29 02:00 +0100", "03-30 01:30 +0100"],
        ),
        (
            "after the jump",
            schedule(at(&["02:30"]), Days::All),
            "2026-03-28T12:00",
            &["03-29 02:30 +0100", "03-30 02:30 +0100"],
        ),
        (
            "comes twice",
            schedule(at(&["01:30"]), Days::All),
            "2026-10-24T12:00",
            &["10-25 01:30 +0100", "10-26 01:30 +0000"],
        ),
        (
            "two that are jumped over are one",
            schedule(at(&["01:15", "01:45"]), Days::All),
            "2026-03-28T12:00",
            &["03-29 02:00 +0100", "03-30 01:15 +0100"],
        ),
        (
            "every half hour goes on through the jump",
            schedule(every(30), Days::All),
            "2026-03-29T00:15",
            &["03-29 00:30 +0000", "03-29 02:00 +0100", "03-29 02:30 +0100"],
        ),
        (
            "every half hour goes on through the hour that comes twice",
            schedule(every(30), Days::All),
            "2026-10-25T00:45",
            &["10-25 01:00 +0100", "10-25 01:30 +0100", "10-25 01:00 +0000", "10-25 01:30 +0000", "10-25 02:00 +0000"],
        ),
        (
            "an hourly cron follows the time that passes",
            schedule(Pattern::Cron(Cron::parse("30 * * * *").unwrap()), Days::All),
            "2026-10-25T00:45",
            &["10-25 01:30 +0100", "10-25 01:30 +0000", "10-25 02:30 +0000"],
        ),
        (
            "a cron of one hour fires once",
            schedule(Pattern::Cron(Cron::parse("30 1 * * *").unwrap()), Days::All),
            "2026-10-24T12:00",
            &["10-25 01:30 +0100", "10-26 01:30 +0000"],
        ),
    ];
    for (what, schedule, after, wanted) in table {
        assert_eq!(told(&schedule, after, "Europe/London", wanted.len()), wanted, "{what}");
    }
    // Apia left out the whole of 2011-12-30.
    let daily = schedule(at(&["09:00"]), Days::All);
    assert_eq!(told(&daily, "2011-12-29T12:00", "Pacific/Apia", 2), ["12-31 00:00 +1400", "12-31 09:00 +1400"]);
}

#[test]
fn days_are_chosen_by_week_month_and_calendar() {
    let day = |text: &str| text.parse::<Date>().unwrap();
    // 2026-05-01 is a Friday and off; 2026-05-29 is the last Friday and off too.
    let off = vec![(day("2026-05-01"), day("2026-05-01")), (day("2026-05-29"), day("2026-05-31"))];
    let calendar = Calendar { off, ..Calendar::plain() };
    let table: [(Days, &[&str]); 7] = [
        (Days::All, &["04-30", "05-01", "05-02"]),
        (Days::Week(vec![Weekday::Saturday, Weekday::Monday]), &["05-02", "05-04", "05-09"]),
        (Days::Working, &["04-30", "05-04", "05-05"]),
        (Days::FirstWorking, &["05-04", "06-01"]),
        (Days::LastWorking, &["04-30", "05-28", "06-30"]),
        (Days::First, &["05-01", "06-01"]),
        (Days::Last, &["04-30", "05-31", "06-30"]),
    ];
    for (days, wanted) in table {
        let schedule = Schedule { calendar: calendar.clone(), ..schedule(at(&["07:30"]), days) };
        let firings = told(&schedule, "2026-04-29T12:00", "UTC", wanted.len());
        let dates: Vec<&str> = firings.iter().map(|firing| &firing[..5]).collect();
        assert_eq!(dates, wanted, "{}", schedule.words());
    }
}

#[test]
fn hours_of_a_day_bound_a_schedule_also_over_midnight() {
    let clock = |text: &str| Time::strptime("%H:%M", text).unwrap();
    let day = Schedule { between: Some((clock("08:00"), clock("09:00"))), ..schedule(every(20), Days::All) };
    let wanted = ["03-14 08:00 +0000", "03-14 08:20 +0000", "03-14 08:40 +0000", "03-15 08:00 +0000"];
    assert_eq!(told(&day, "2026-03-14T07:59", "UTC", 4), wanted);
    let night = Schedule { between: Some((clock("23:30"), clock("00:30"))), ..schedule(every(30), Days::All) };
    assert_eq!(
        told(&night, "2026-03-14T12:00", "UTC", 3),
        ["03-14 23:30 +0000", "03-15 00:00 +0000", "03-15 23:30 +0000"]
    );
}

#[test]
fn what_can_never_fire_is_found() {
    let never = |pattern, days| schedule(pattern, days).next_after(Timestamp::UNIX_EPOCH, &TimeZone::UTC).is_none();
    assert!(never(Pattern::Cron(Cron::parse("0 0 30 feb *").unwrap()), Days::All));
    assert!(never(Pattern::At(Vec::new()), Days::All));
    assert!(never(at(&["07:30"]), Days::Week(Vec::new())));
    assert!(!never(Pattern::Cron(Cron::parse("0 0 29 feb *").unwrap()), Days::All));
}

#[test]
fn firings_that_nobody_was_there_for_are_made_up_for_as_the_rule_says() {
    let time = |text: &str| text.parse::<Timestamp>().unwrap();
    let (last, now) = (time("2026-03-14T06:00:00Z"), time("2026-03-14T09:10:00Z"));
    let late = Duration::from_secs(60);
    let due = |missed, now| {
        let schedule = Schedule { missed, ..schedule(every(60), Days::All) };
        let due = schedule.due(last, now, &TimeZone::UTC, late);
        due.iter().map(|at| at.strftime("%H:%M").to_string()).collect::<Vec<_>>()
    };
    assert_eq!(due(Missed::All, now), ["07:00", "08:00", "09:00"]);
    assert_eq!(due(Missed::Once, now), ["09:00"]);
    assert!(due(Missed::Skip, now).is_empty());
    assert_eq!(due(Missed::Skip, time("2026-03-14T09:00:30Z")), ["09:00"], "half a minute late is not missed");
    // A clock that was put back asks for nothing twice.
    assert!(due(Missed::All, time("2026-03-14T05:00:00Z")).is_empty());
    // A machine that was off for a year makes up once, and for a bounded number.
    let schedule = |missed| Schedule { missed, ..schedule(every(1), Days::All) };
    let year = time("2027-03-14T09:10:30Z");
    assert_eq!(schedule(Missed::Once).due(last, year, &TimeZone::UTC, late), [time("2027-03-14T09:10:00Z")]);
    assert_eq!(schedule(Missed::All).due(last, year, &TimeZone::UTC, late).len(), MOST_MISSED);
}

#[test]
fn schedules_are_told_in_words() {
    let clock = |text: &str| Time::strptime("%H:%M", text).unwrap();
    let day = Schedule { between: Some((clock("08:00"), clock("18:00"))), ..schedule(every(15), Days::Working) };
    assert_eq!(day.words(), "every 15 min from 08:00 to 18:00 on working days");
    assert_eq!(
        schedule(at(&["07:30", "16:00"]), Days::LastWorking).words(),
        "at 07:30 and 16:00 on the last working day of a month"
    );
}

proptest! {
    /// Whatever the schedule and the zone, firings come in order, none before the one asked
    /// after, and asking between two of them gives the second.
    #[test]
    fn firings_come_in_order_and_none_is_left_out(
        start in 1_600_000_000i64..1_900_000_000,
        minutes in 1u64..1500,
        hour in 0i8..24,
        place in prop::sample::select(vec!["Europe/London", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca", "UTC"]),
        by_clock in any::<bool>(),
    ) {
        let pattern = if by_clock { Pattern::At(vec![Time::new(hour, 30, 0, 0).unwrap()]) } else { every(minutes) };
        let schedule = schedule(pattern, Days::All);
        let zone = zone(place);
        let after = Timestamp::from_second(start).unwrap();
        let firings = schedule.sample(after, &zone, 40);
        prop_assert_eq!(firings.len(), 40);
        prop_assert!(firings[0] > after);
        for pair in firings.windows(2) {
            prop_assert!(pair[0] < pair[1]);
            let between = Timestamp::from_second((pair[0].as_second() + pair[1].as_second()) / 2).unwrap();
            if between > pair[0] {
                prop_assert_eq!(schedule.next_after(between, &zone), Some(pair[1]));
            }
        }
        if by_clock {
            let days: Vec<_> = firings.iter().map(|at| at.to_zoned(zone.clone()).date()).collect();
            prop_assert!(days.windows(2).all(|pair| pair[0].tomorrow().unwrap() == pair[1]), "once a day");
        }
    }
}
