//! Writers, passes and clocks in any order.

use std::fs;
use std::path::Path;
use std::time::Duration;

use proptest::prelude::*;

use super::Home;

/// What suppliers do in a random order, and a pass between.
#[derive(Debug, Clone)]
enum Doing {
    /// A writer opens a file, if none has it open.
    Open(u8),
    Write(u8, u8),
    Close(u8),
    /// A file is written elsewhere and renamed in.
    MoveIn(u8, u8),
    /// Its time of modification is set: a clock that jumps, or an unpacked file.
    SetTime(u8, i64),
    Pass,
}

fn doing() -> impl Strategy<Value = Doing> {
    prop_oneof![
        2 => (0u8..4).prop_map(Doing::Open),
        4 => (0u8..4, any::<u8>()).prop_map(|(file, byte)| Doing::Write(file, byte)),
        2 => (0u8..4).prop_map(Doing::Close),
        2 => (0u8..4, any::<u8>()).prop_map(|(file, byte)| Doing::MoveIn(file, byte)),
        1 => (0u8..4, -2_000_000_000i64..4_000_000_000).prop_map(|(file, at)| Doing::SetTime(file, at)),
        4 => Just(Doing::Pass),
    ]
}

fn set_time(path: &Path, seconds: i64) {
    let by = Duration::from_secs(seconds.unsigned_abs());
    let epoch = std::time::SystemTime::UNIX_EPOCH;
    let at = if seconds < 0 { epoch - by } else { epoch + by };
    // A file that is not there has no time to set.
    if let Ok(file) = fs::File::options().write(true).open(path) {
        file.set_modified(at).unwrap();
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn never_taken_while_a_writer_has_it_open_and_always_in_the_end(
        doings in prop::collection::vec(doing(), 1..50),
    ) {
        use std::io::Write;
        let home = Home::new();
        if crate::arrivals::lease::lease_tells(&home.path("drops")).is_err() {
            return Ok(());
        }
        let engine = home.engine("");
        let path = |file: u8| home.path("drops").join(format!("{file}.csv"));
        let mut writers: std::collections::HashMap<u8, fs::File> = Default::default();
        let mut number = 0u32;
        for doing in &doings {
            match doing {
                Doing::Open(file) if !writers.contains_key(file) => {
                    let opened = fs::File::options().create(true).append(true).open(path(*file));
                    writers.insert(*file, opened.unwrap());
                }
                Doing::Write(file, byte) => {
                    if let Some(writer) = writers.get_mut(file) {
                        number += 1;
                        writeln!(writer, "{number} {byte}").unwrap();
                    }
                }
                Doing::Close(file) => {
                    writers.remove(file);
                }
                Doing::MoveIn(file, byte) if !writers.contains_key(file) => {
                    number += 1;
                    fs::write(home.path("beside"), format!("{number} {byte}")).unwrap();
                    fs::rename(home.path("beside"), path(*file)).unwrap();
                }
                Doing::SetTime(file, at) if !writers.contains_key(file) => set_time(&path(*file), *at),
                Doing::Pass => {
                    engine.pass_here("tide").unwrap();
                    for file in writers.keys() {
                        prop_assert!(path(*file).try_exists().unwrap(), "{} was taken", file);
                    }
                }
                _ => {}
            }
        }
        writers.clear();
        // A file that somebody had open is not looked at again for a moment.
        let begun = std::time::Instant::now();
        while engine.pass_here("tide").unwrap().arriving > 0 {
            prop_assert!(begun.elapsed() < Duration::from_secs(10), "never taken");
        }
        // Empty files are held where they are; everything else is filed.
        let left = home.names("drops");
        for name in &left {
            prop_assert_eq!(fs::metadata(home.path("drops").join(name)).unwrap().len(), 0, "{}", name);
        }
        let counts = engine.context().ledger.counts("tide").unwrap();
        prop_assert_eq!(counts["ready"] + counts["working"] + counts["worked"], 0, "{:?}", counts);
        prop_assert_eq!(counts["filed"], home.names("archive").len() as u64, "{:?}", counts);
    }
}
