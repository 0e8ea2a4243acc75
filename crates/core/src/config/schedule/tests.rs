mod minutes;

use jiff::civil::DateTime;

use super::*;
use crate::config::ticks::TicksFault;

fn schedule(hours: &[&str], every: Option<&str>, off: &[&str]) -> Schedule {
    Schedule {
        hours: hours.iter().map(|text| Hours::parse(text).unwrap()).collect(),
        ticks: every.map(|text| match text.contains(' ') {
            true => Ticks::cron(text).unwrap(),
            false => Ticks::Every(parse_duration(text).unwrap()),
        }),
        calendar: Some(Arc::new(Calendar::listed(off.iter().map(|text| text.parse().unwrap())))),
    }
}

fn zone(name: &str) -> TimeZone {
    TimeZone::get(name).unwrap()
}

fn at(zone: &TimeZone, text: &str) -> Timestamp {
    zone.to_timestamp(text.parse::<DateTime>().unwrap()).unwrap()
}

#[test]
fn a_gate_opens_at_its_hours_and_on_no_day_off() {
    let week = schedule(&["Mon-Fri 06:00-18:00", "Sat 22:00-02:00"], None, &["2026-12-25"]);
    let utc = TimeZone::UTC;
    for (now, opens) in [
        ("2026-11-27T05:59:59", "2026-11-27T06:00:00"),
        ("2026-11-27T06:00:00", "2026-11-27T06:00:00"),
        ("2026-11-27T17:59:59", "2026-11-27T17:59:59"),
        ("2026-11-27T18:00:00", "2026-11-28T22:00:00"),
        // Saturday's last until Sunday, and then until Monday nothing opens.
        ("2026-11-29T01:59:59", "2026-11-29T01:59:59"),
        ("2026-11-29T02:00:00", "2026-11-30T06:00:00"),
        ("2026-12-25T12:00:00", "2026-12-26T22:00:00"),
        ("2027-01-01T00:00:00", "2027-01-01T06:00:00"),
    ] {
        let now = at(&utc, now);
        assert_eq!(week.next(now, now, &utc), Some(at(&utc, opens)), "{now}");
        assert_eq!(week.is_open(now, &utc), now == at(&utc, opens), "{now}");
    }
    let never = schedule(&["Fri 06:00-07:00"], None, &[]);
    let off = (0..60).map(|week| "2026-01-02".parse::<Date>().unwrap() + (week * 7).days());
    let never = Schedule { calendar: Some(Arc::new(Calendar::listed(off))), ..never };
    assert_eq!(
        never.next(at(&utc, "2026-01-01T00:00:00"), at(&utc, "2026-01-01T00:00:00"), &utc),
        None
    );
}

#[test]
fn summer_time_skips_no_opening_and_has_none_twice() {
    // Forward at 02:00 and at 01:00, back at 03:00, 02:00 and (Lord Howe) by half an hour.
    for (name, hours, now, opens) in [
        ("Europe/Oslo", "02:30-04:00", "2026-03-29T00:00:00", "2026-03-29T01:00:00Z"),
        ("Europe/Oslo", "02:30-04:00", "2026-10-25T00:00:00", "2026-10-25T00:30:00Z"),
        ("Europe/London", "01:15-04:00", "2026-03-29T00:00:00", "2026-03-29T01:00:00Z"),
        ("America/New_York", "01:30-02:00", "2026-11-01T00:00:00", "2026-11-01T05:30:00Z"),
        ("Australia/Lord_Howe", "02:10-03:00", "2026-10-04T00:00:00", "2026-10-03T15:30:00Z"),
        ("UTC", "00:00-01:00", "2028-02-29T12:00:00", "2028-03-01T00:00:00Z"),
    ] {
        let zone = zone(name);
        let now = at(&zone, now);
        let found = schedule(&[hours], None, &[]).next(now, now, &zone);
        assert_eq!(found, Some(opens.parse().unwrap()), "{name} {hours}");
    }
}

#[test]
fn multiples_count_from_midnight_and_within_the_hours() {
    let oslo = zone("Europe/Oslo");
    let quarters = schedule(&["Mon-Fri 06:00-18:00"], Some("15m"), &[]);
    for (last, next) in [
        ("2026-11-27T06:00:00", "2026-11-27T06:15:00"),
        ("2026-11-27T06:14:59", "2026-11-27T06:15:00"),
        ("2026-11-27T17:50:00", "2026-11-30T06:00:00"),
    ] {
        let last = at(&oslo, last);
        assert_eq!(quarters.next(last, last, &oslo), Some(at(&oslo, next)), "{last}");
    }
    // Each quarter of the day on which the clock goes back is passed once.
    let all = schedule(&[], Some("30m"), &[]);
    let (mut last, mut count) = (at(&oslo, "2026-10-24T23:59:00"), 0);
    while last < at(&oslo, "2026-10-25T23:30:00") {
        let next = all.next(last, last, &oslo).unwrap();
        assert!(next > last);
        (last, count) = (next, count + 1);
    }
    assert_eq!(count, 48);
    let seven = schedule(&[], Some("7h"), &[]);
    let last = at(&oslo, "2026-11-27T21:30:00");
    assert_eq!(seven.next(last, last, &oslo), Some(at(&oslo, "2026-11-28T00:00:00")));
}

#[test]
fn what_is_no_time_of_the_week_is_told() {
    for text in ["", "Mon", "Mon 6", "Moo 06:00-07:00", "06:00", "25:00-26:00", "Mon- 06:00-07:00"]
    {
        assert_eq!(Hours::parse(text).unwrap_err(), HoursFault::NoTime(text.to_owned()));
    }
    let empty = Hours::parse("06:00-06:00").unwrap_err();
    assert_eq!(empty, HoursFault::Empty("06:00-06:00".into()));
    let days = |text| Hours::parse(text).unwrap().days.len();
    assert_eq!(
        [days("Sat-Mon 01:00-24:00"), days("Mon,Wed-Fri 1:00-2:00"), days("1:00-2:00")],
        [3, 4, 7]
    );
}

#[test]
fn the_five_fields_are_passed_once_each_and_where_summer_time_skips_one_at_the_next() {
    let after = |cron: &str, name: &str, last: &str| {
        let zone = zone(name);
        let last = at(&zone, last);
        let next = schedule(&[], Some(cron), &[]).next(last, last, &zone).unwrap();
        zone.to_datetime(next).to_string()
    };
    for (cron, zone, last, next) in [
        ("*/15 6-18 * * 1-5", "UTC", "2026-11-27T18:45:00", "2026-11-30T06:00:00"),
        ("0 7 * * 0", "UTC", "2026-11-28T00:00:00", "2026-11-29T07:00:00"),
        ("0 7 * * 7", "UTC", "2026-11-28T00:00:00", "2026-11-29T07:00:00"),
        ("0 7 13 * fri", "UTC", "2026-11-27T07:00:00", "2026-12-04T07:00:00"),
        ("0 0 29 feb *", "UTC", "2026-11-27T07:00:00", "2028-02-29T00:00:00"),
        ("59 23 31 12 *", "UTC", "2026-12-31T23:59:00", "2027-12-31T23:59:00"),
        ("30 2 * * *", "Europe/Oslo", "2026-03-28T12:00:00", "2026-03-29T03:00:00"),
        ("30 2 * * *", "Europe/Oslo", "2026-03-29T03:00:00", "2026-03-30T02:30:00"),
        ("30 1 * * *", "America/New_York", "2026-10-31T12:00:00", "2026-11-01T01:30:00"),
        ("30 1 * * *", "America/New_York", "2026-11-01T01:30:00", "2026-11-02T01:30:00"),
        ("*/10 2 * * *", "Australia/Lord_Howe", "2026-10-03T12:00:00", "2026-10-04T02:30:00"),
    ] {
        assert_eq!(after(cron, zone, last), next, "{cron} in {zone} after {last}");
    }
    let refused = |text: &str| Ticks::cron(text).expect_err(text);
    for text in ["", "* * * *", "* * * * * *", "@daily", "0 0 L * *;"] {
        assert!(matches!(refused(text), TicksFault::NoTimes(_)), "{text}");
    }
    assert!(matches!(refused("60 * * * *"), TicksFault::Field { .. }));
    assert!(matches!(refused("0 0 31 2 *"), TicksFault::Never(_)));
    assert!(refused("60 * * * *").to_string().contains("; expected five fields"));
}
