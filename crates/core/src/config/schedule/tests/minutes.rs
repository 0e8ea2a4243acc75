//! When a gate opens, held against a look at each minute.

use jiff::civil::Time;
use proptest::prelude::*;
use proptest::sample::select;

use super::*;

const DAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/// Times of the week as they are written, from which minute of the day, until which, on which
/// days.
#[derive(Debug, Clone)]
struct Written {
    from: i16,
    until: i16,
    days: Vec<usize>,
}

impl Written {
    fn text(&self) -> String {
        let clock = |minute: i16| format!("{:02}:{:02}", minute / 60, minute % 60);
        let days: Vec<&str> = self.days.iter().map(|day| DAYS[*day]).collect();
        format!("{} {}-{}", days.join(","), clock(self.from), clock(self.until))
    }

    /// Whether it is open at a minute of a day of the week (Monday is 0), by its words.
    fn is_open(&self, day: usize, minute: i16) -> bool {
        let before = (day + 6) % 7;
        if self.until > self.from {
            self.days.contains(&day) && (self.from..self.until).contains(&minute)
        } else {
            self.days.contains(&day) && minute >= self.from
                || self.days.contains(&before) && minute < self.until
        }
    }
}

fn written() -> impl Strategy<Value = Written> {
    // Round times now and then, as people write them.
    let minute = prop_oneof![0..1440_i16, (0..24_i16).prop_map(|hour| hour * 60)];
    let until = prop_oneof![1..1440_i16, (1..25_i16).prop_map(|hour| hour * 60)];
    let days = prop::collection::btree_set(0..7_usize, 1..4);
    (minute, until, days)
        .prop_filter("it ends another time than it begins", |(from, until, _)| from != until)
        .prop_map(|(from, until, days)| Written { from, until, days: days.into_iter().collect() })
}

/// A minute of some weeks around both changes of the clock.
fn moment() -> impl Strategy<Value = i64> {
    // The first of March and the first of October 2026.
    (select(&[1_772_323_200_i64, 1_790_812_800][..]), 0..45_i64 * 1440)
        .prop_map(|(first, minute)| first + minute * 60)
}

const MINUTE: i64 = 60;
/// So many minutes are looked at: what opens once a week does so within it.
const LOOKED_AT: i64 = 9 * 1440;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn hours_are_open_as_they_say(all in prop::collection::vec(written(), 1..4), at in moment()) {
        let texts: Vec<String> = all.iter().map(Written::text).collect();
        let week = schedule(&texts.iter().map(String::as_str).collect::<Vec<_>>(), None, &[]);
        // An hour east all year: its days are not those of UTC, and no clock is changed.
        let zone = TimeZone::fixed(jiff::tz::offset(1));
        let at = Timestamp::from_second(at).unwrap();
        let here = zone.to_datetime(at);
        let day = usize::try_from(here.weekday().to_monday_zero_offset()).unwrap();
        let minute = i16::from(here.hour()) * 60 + i16::from(here.minute());
        let said = all.iter().any(|one| one.is_open(day, minute));
        prop_assert_eq!(week.is_open(at, &zone), said, "{:?} at {}", texts, here);
    }

    #[test]
    fn it_opens_at_the_first_minute_that_is_open(
        all in prop::collection::vec(written(), 1..4),
        at in moment(),
        zone in select(&["UTC", "Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu"][..]),
        off in prop::collection::vec(0..60_i64, 0..4),
    ) {
        let texts: Vec<String> = all.iter().map(Written::text).collect();
        let zone = super::zone(zone);
        let first = zone.to_datetime(Timestamp::from_second(at).unwrap()).date();
        let off: Vec<String> = off.iter().map(|days| (first + days.days()).to_string()).collect();
        let off: Vec<&str> = off.iter().map(String::as_str).collect();
        let week = schedule(&texts.iter().map(String::as_str).collect::<Vec<_>>(), None, &off);
        let now = Timestamp::from_second(at).unwrap();
        let looked = (0..LOOKED_AT)
            .map(|minute| Timestamp::from_second(at + minute * MINUTE).unwrap())
            .find(|minute| week.is_open(*minute, &zone));
        let opens = week.next(now, now, &zone);
        match looked {
            Some(looked) => prop_assert_eq!(opens, Some(looked), "{:?} without {:?} from {}", texts, off, now),
            // It is taken out for longer than was looked.
            None => prop_assert!(opens.is_none_or(|opens| opens.as_second() >= at + LOOKED_AT * MINUTE)),
        }
    }

    #[test]
    fn it_passes_at_a_time_that_is_open_and_never_before_its_turn(
        all in prop::collection::vec(written(), 0..3),
        every in 1..2_000_i64,
        last in moment(),
        since in 0..5_000_i64,
    ) {
        let texts: Vec<String> = all.iter().map(Written::text).collect();
        let every_text = format!("{every}m");
        let week = schedule(&texts.iter().map(String::as_str).collect::<Vec<_>>(), Some(&every_text), &[]);
        let oslo = zone("Europe/Oslo");
        let at = |second: i64| Timestamp::from_second(second).unwrap();
        let (last, now) = (at(last), at(last + since * MINUTE));
        if let Some(next) = week.next(last, now, &oslo) {
            prop_assert!(next > last, "{} is not after {}", next, last);
            prop_assert!(week.is_open(next, &oslo), "{:?} at {}", texts, next);
            // It is the same however often one asks.
            prop_assert_eq!(week.next(last, now, &oslo), Some(next));
        }
    }

    #[test]
    fn hours_are_read_or_refused(text in "[A-Za-z,-]{0,9} ?[0-9:-]{0,12}|\\PC{0,12}") {
        if let Ok(hours) = Hours::parse(&text) {
            prop_assert!(!hours.days.is_empty());
            prop_assert!(hours.until != Some(hours.from));
            let again = Hours::parse(&hours.source);
            prop_assert_eq!(again, Ok(hours.clone()));
            prop_assert!(hours.from < Time::MAX);
        }
    }
}
