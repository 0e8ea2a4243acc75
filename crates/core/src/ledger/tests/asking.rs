//! What the ledger answers to a question, held against a look at each entry.

use std::cmp::Ordering;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::option;
use proptest::sample::select;

use super::*;
use crate::ledger::counted::CountBy;
use crate::ledger::types::{Entry, Moment, Query, Sort};
use crate::pattern::Pattern;

const GATES: [&str; 3] = ["tide", "wave", "wind"];

/// Names with what means something to SQL, to JSON or to a pattern.
const PATHS: [&str; 8] = [
    "ullin_0301.csv",
    "ullin_0302.csv",
    "ULLIN_0301.CSV",
    "100%.csv",
    "north/gauge.csv",
    "north/gau_ge.csv",
    "it's \"one\".csv",
    "b\\ack\nline.csv",
];

const STATIONS: [&str; 5] = ["ullin", "Ullin", "garrow", "it's", "\"%_"];

/// A file that is entered, and how far it comes.
#[derive(Debug, Clone)]
struct File {
    gate: &'static str,
    path: &'static str,
    content: u8,
    station: Option<&'static str>,
    seen_at: i64,
    bytes: u64,
    far: u8,
}

fn files() -> impl Strategy<Value = Vec<File>> {
    let file = (
        select(&GATES[..]),
        select(&PATHS[..]),
        0..30_u8,
        option::of(select(&STATIONS[..])),
        0..5_000_i64,
        0..4_u64,
        0..6_u8,
    );
    let file = file.prop_map(|(gate, path, content, station, seen_at, bytes, far)| File {
        gate,
        path,
        content,
        station,
        seen_at,
        bytes,
        far,
    });
    prop::collection::vec(file, 0..40)
}

impl File {
    fn entry(&self) -> NewEntry {
        let mut entry = new(self.path, self.content);
        entry.gate = self.gate.into();
        entry.space = self.gate.into();
        entry.version.bytes = self.bytes;
        entry.seen_at = self.seen_at;
        if let Some(station) = self.station {
            entry.fields.insert("station".into(), station.into());
        }
        entry
    }
}

/// Brings an entry as far as it is to come, if its state allows that.
fn bring(ledger: &Ledger, file: &File, id: EntryId) {
    match (file.far, state(ledger, id)) {
        (1, State::Ready) => {
            let hold = Hold { entry: id, reason: "faulty".into(), target: None };
            ledger.hold(vec![hold], Cause::Pass, None).unwrap();
        }
        (2, State::Ready | State::Repeat) => {
            ledger.gone(vec![(id, "vanished".into())], Cause::Pass).unwrap();
        }
        (3..=5, State::Ready) => {
            let batch = claim_at(ledger, file.gate, &[id]).unwrap();
            if file.far > 3 {
                let entries = vec![(id, Some(3), None)];
                let (outputs, entered, words) = (Vec::new(), Vec::new(), String::new());
                let commit = CommitBatch { batch, entries, outputs, entered, words };
                ledger.commit(file.gate, commit).unwrap();
            }
            if file.far > 4 {
                ledger
                    .filed(vec![id], Vec::new(), Filed::Left, Cause::Pass)
                    .unwrap()
                    .wait()
                    .unwrap();
            }
        }
        _ => {}
    }
}

fn questions() -> impl Strategy<Value = Query> {
    let moments = [Moment::Seen, Moment::Entered, Moment::Worked, Moment::Filed];
    let texts =
        ["ullin", "ULLIN", "_", "%", "\\", "\"", "0", "0a0a", "csv ", "", "gauge", "\n", "é"];
    let patterns = ["*.csv", "ullin_<day:int>.csv", "north/*", "**/*.csv", "100%.csv", "no such"];
    let fields =
        ["station=ullin", "station=ULLIN", "station=it's", "station=\"%_", "buoy=1", "station="];
    let names = (
        option::of(select(&GATES[..])),
        option::of(select(&State::ALL[..])),
        option::of(select(texts.to_vec())),
        option::weighted(0.3, select(patterns.to_vec())),
        option::weighted(0.3, select(fields.to_vec())),
        option::weighted(0.2, 0..30_u8),
    );
    let times = (
        option::weighted(0.4, select(moments.to_vec())),
        option::weighted(0.4, -1_000..6_000_i64),
        option::weighted(0.4, -1_000..6_000_i64),
        option::weighted(0.2, 0..40_i64),
        option::weighted(0.3, any::<bool>()),
    );
    let sorts = [Sort::Entered, Sort::Modified, Sort::Worked, Sort::Filed, Sort::Size, Sort::Name];
    let order = (option::of(select(sorts.to_vec())), any::<bool>(), 1..9_u32);
    (names, times, order).prop_map(|(names, times, (sort, oldest_first, limit))| {
        let (gate, state, text, path, field, content) = names;
        let (time, since, until, above, repeats) = times;
        // Around the times of the test where they are those of the ledger's own clock.
        let origin = match time {
            Some(Moment::Seen) => 0,
            _ => Timestamp::now().as_millisecond() - 2_000,
        };
        let moment = |at: i64| Timestamp::from_millisecond(origin + at).unwrap();
        Query {
            gate: gate.map(Into::into),
            state,
            text: text.map(Into::into),
            path: path.map(Into::into),
            field: field.map(Into::into),
            sum: content.map(|content| Sha256::from_bytes(&[content; 32]).unwrap().to_string()),
            time,
            since: since.map(moment),
            until: until.map(moment),
            above: above.map(EntryId::of),
            repeats,
            sort,
            oldest_first,
            limit: Some(limit),
            ..Query::default()
        }
    })
}

/// Whether an entry is asked for.
fn fits(query: &Query, entry: &Entry) -> bool {
    let at = match query.time.unwrap_or(Moment::Entered) {
        Moment::Seen => Some(entry.seen_at),
        Moment::Entered => Some(entry.ready_at),
        Moment::Worked => entry.worked_at,
        Moment::Filed => entry.filed_at,
    };
    let sum = entry.sha256.to_string();
    let text = query.text.as_deref().map(str::trim).unwrap_or_default().to_ascii_lowercase();
    let field = query.field.as_deref().and_then(|pair| pair.split_once('='));
    query.gate.as_ref().is_none_or(|gate| *gate == entry.gate)
        && query.state.is_none_or(|state| state == entry.state)
        && (entry.path.to_ascii_lowercase().contains(&text) || sum.starts_with(&text))
        && query
            .path
            .as_ref()
            .is_none_or(|path| Pattern::parse(path, false).unwrap().is_match(&entry.path))
        && query.sum.as_ref().is_none_or(|wanted| *wanted == sum)
        && field.is_none_or(|(name, value)| {
            entry.fields.get(name).is_some_and(|is| is.eq_ignore_ascii_case(value))
        })
        && query.since.is_none_or(|since| at.is_some_and(|at| at >= since))
        && query.until.is_none_or(|until| at.is_some_and(|at| at < until))
        && query.above.is_none_or(|above| entry.id > above)
        && query.repeats.is_none_or(|repeats| entry.repeat_of.is_some() == repeats)
}

/// Which of two entries is listed first.
fn order(query: &Query, one: &Entry, other: &Entry) -> Ordering {
    let by = match query.sort.unwrap_or(Sort::Entered) {
        Sort::Entered => Ordering::Equal,
        Sort::Modified => one.modified.cmp(&other.modified),
        Sort::Worked => one.worked_at.cmp(&other.worked_at),
        Sort::Filed => one.filed_at.cmp(&other.filed_at),
        Sort::Size => one.bytes.cmp(&other.bytes),
        Sort::Name => one.path.cmp(&other.path),
    };
    let by = by.then(one.id.cmp(&other.id));
    if query.oldest_first { by } else { by.reverse() }
}

/// All pages of a question, one after the other.
fn listed(ledger: &Ledger, query: &Query) -> Vec<EntryId> {
    let (mut query, mut listed) = (query.clone(), Vec::new());
    loop {
        let page = ledger.page(&query).unwrap();
        assert!(page.entries.len() <= query.limit.unwrap_or(50) as usize);
        listed.extend(page.entries.iter().map(|entry| entry.id));
        match page.next {
            Some(next) => query.cursor = Some(next),
            None => return listed,
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever is asked for, the pages have each entry that fits once, in their order, and the
    /// counts say how many there are.
    #[test]
    fn pages_have_each_entry_that_fits_once_and_in_order(
        files in files(),
        questions in prop::collection::vec(questions(), 1..12),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(folder.path()).unwrap();
        for file in &files {
            let id = enter_one(&ledger, file.entry());
            bring(&ledger, file, id);
        }
        let all: Vec<Entry> = (1..=files.len() as i64)
            .map(|id| ledger.entry(EntryId::of(id)).unwrap().unwrap())
            .collect();
        for query in &questions {
            let mut expected: Vec<&Entry> = all.iter().filter(|entry| fits(query, entry)).collect();
            expected.sort_by(|one, other| order(query, one, other));
            let expected: Vec<EntryId> = expected.into_iter().map(|entry| entry.id).collect();
            prop_assert_eq!(listed(&ledger, query), expected.clone(), "{:?}", query);
            prop_assert_eq!(ledger.count(query).unwrap(), expected.len() as u64, "{:?}", query);
            let by_state = ledger.count_by(query, &[CountBy::State], &TimeZone::UTC).unwrap();
            for of in State::ALL {
                let counted = by_state.iter().find(|count| count.state.as_deref() == Some(of.word()));
                let fit = all.iter().filter(|entry| fits(query, entry) && entry.state == of).count();
                prop_assert_eq!(counted.map_or(0, |count| count.entries), fit as u64, "{:?}", query);
            }
        }
    }
}

#[test]
fn a_question_that_cannot_be_understood_says_why() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let many = vec!["1"; 1_001].join(",");
    let questions = [
        (Query { ids: Some("1, two".into()), ..Query::default() }, "numbers of entries"),
        (Query { ids: Some(many), ..Query::default() }, "at most 1000"),
        (Query { sum: Some("abc".into()), ..Query::default() }, "64 hexadecimal digits"),
        (Query { field: Some("station".into()), ..Query::default() }, "NAME=VALUE"),
        (Query { path: Some("<station".into()), ..Query::default() }, "<station"),
    ];
    for (query, why) in questions {
        let refused = ledger.page(&query).unwrap_err().to_string();
        assert!(refused.contains(why), "{refused}");
        assert_eq!(ledger.count(&query).unwrap_err().to_string(), refused);
    }
}
