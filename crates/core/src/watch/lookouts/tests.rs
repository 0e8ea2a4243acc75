//! What a lookout says of its files, held against a plain model of it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use jiff::Timestamp;
use proptest::prelude::*;

use crate::config::Config;
use crate::config::lookout::Lookout;
use crate::ledger::Ledger;
use crate::watch::lookouts::kept::Kept;
use crate::watch::lookouts::look::{FileSeen, Found, FoundFolder};

const FOLDERS: [&str; 2] = ["/coast/out/a", "/coast/out/b"];

/// Files of one folder: name and size, which stands for all that a file is.
type Files = BTreeMap<String, u64>;

/// What happens between two looks.
#[derive(Debug, Clone)]
enum Event {
    /// What lies in a folder then; none when there is no such folder.
    Lies(usize, Option<Files>),
    /// A folder cannot be read once.
    Unreadable(usize),
    /// A person takes all as right.
    Right,
    /// The service is started anew.
    Restart,
}

fn event() -> impl Strategy<Value = Event> {
    let files = || prop::collection::btree_map("[a-c]|[a-c]/[d-e]", 0u64..3, 0..5);
    prop_oneof![
        6 => (0..FOLDERS.len(), prop::option::weighted(0.8, files()))
            .prop_map(|(at, files)| Event::Lies(at, files)),
        1 => (0..FOLDERS.len()).prop_map(Event::Unreadable),
        1 => Just(Event::Right),
        2 => Just(Event::Restart),
    ]
}

fn lookout(keys: &str) -> Lookout {
    let text = format!("[lookout.outbox]\nat = \"out/*\"\n{keys}");
    let config = Config::parse(Path::new("/coast/vadegate.toml"), &text);
    config.unwrap_or_else(|error| panic!("{error}")).lookouts.remove(0)
}

fn seen(folder: usize, name: &str, bytes: u64) -> FileSeen {
    // Each name has its own inode, so that nothing is taken for moved.
    let inode = name.bytes().fold(folder as u64, |inode, byte| inode * 256 + u64::from(byte));
    FileSeen { bytes, modified_ns: 7, changed_ns: 7, inode, owner: 0, mode: 0o640 }
}

fn found(all: &[Option<Files>], unreadable: Option<usize>) -> Found {
    let mut found = Found::default();
    for (at, files) in all.iter().enumerate() {
        let Some(files) = files else { continue };
        let mut folder = FoundFolder::of(FOLDERS[at].to_owned());
        if unreadable == Some(at) {
            folder.problems.push("it cannot be read".into());
        } else {
            // Backwards: a folder is listed in any order.
            folder.files = files
                .iter()
                .rev()
                .map(|(name, bytes)| (name.as_str().into(), seen(at, name, *bytes)))
                .collect();
        }
        found.folders.push(folder);
    }
    found
}

/// How many files of a folder differ from what was right, and the first of them.
fn expected(right: &Files, now: &Files) -> Option<String> {
    let names: BTreeSet<&String> = right.keys().chain(now.keys()).collect();
    let mut words = names.into_iter().filter_map(|name| match (right.get(name), now.get(name)) {
        (None, _) => Some(format!("{name} is new")),
        (_, None) => Some(format!("{name} is gone")),
        (was, is) => (was != is).then(|| format!("{name} has another size")),
    });
    let first = words.next()?;
    Some(match words.count() {
        0 => first,
        more => format!("{first}, and {more} more"),
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn what_differs_is_what_differs_from_what_was_right(
        events in prop::collection::vec(event(), 1..25),
    ) {
        let home = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(home.path()).unwrap();
        let lookout = lookout("unchanged = true\n");
        let mut kept = Kept::begin(&ledger, &lookout).unwrap();
        let mut there: [Option<Files>; 2] = [Some(Files::new()), None];
        let mut right: Option<[Files; 2]> = None;
        for event in events {
            let (mut unreadable, mut says_right) = (None, right.is_none());
            match event {
                Event::Lies(at, files) => there[at] = files,
                Event::Unreadable(at) if right.is_some() => unreadable = Some(at),
                Event::Unreadable(_) => {}
                Event::Right => says_right = true,
                Event::Restart => kept = Kept::begin(&ledger, &lookout).unwrap(),
            }
            let mut seen = found(&there, unreadable);
            kept.take(&ledger, &lookout, &mut seen, Timestamp::UNIX_EPOCH, says_right).unwrap();
            if says_right {
                right = Some(there.clone().map(Option::unwrap_or_default));
            }
            let right = right.as_ref().unwrap();
            for (at, files) in there.iter().enumerate() {
                let (Some(files), true) = (files, unreadable != Some(at)) else { continue };
                prop_assert_eq!(kept.different(FOLDERS[at]), expected(&right[at], files));
            }
        }
    }

    #[test]
    fn each_file_that_comes_changes_or_goes_is_told_once(
        looks in prop::collection::vec(
            (0..FOLDERS.len(), prop::collection::btree_map("[a-d]", 0u64..3, 0..5)), 1..25),
    ) {
        let home = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(home.path()).unwrap();
        let lookout = lookout("tell_of = [\"made\", \"changed\", \"moved\", \"removed\"]\n");
        let mut kept = Kept::begin(&ledger, &lookout).unwrap();
        let mut there: [Option<Files>; 2] = [Some(Files::new()), Some(Files::new())];
        kept.take(&ledger, &lookout, &mut found(&there, None), Timestamp::UNIX_EPOCH, false)
            .unwrap();
        for (at, files) in looks {
            let before = there[at].replace(files.clone()).unwrap();
            let told = kept
                .take(&ledger, &lookout, &mut found(&there, None), Timestamp::UNIX_EPOCH, false)
                .unwrap();
            let told: BTreeSet<(String, String)> =
                told.into_iter().map(|one| (one.kind.to_owned(), one.subject)).collect();
            let names: BTreeSet<&String> = before.keys().chain(files.keys()).collect();
            let happened = names.into_iter().filter_map(|name| {
                let kind = match (before.get(name), files.get(name)) {
                    (None, _) => "made",
                    (_, None) => "removed",
                    (was, is) if was != is => "changed",
                    _ => return None,
                };
                Some((kind.to_owned(), format!("{}/{name}", FOLDERS[at])))
            });
            prop_assert_eq!(told, happened.collect::<BTreeSet<_>>());
            let listed: Vec<String> =
                kept.files(FOLDERS[at]).map(|(name, _)| name.to_owned()).collect();
            prop_assert_eq!(listed, files.into_keys().collect::<Vec<_>>());
        }
    }
}
