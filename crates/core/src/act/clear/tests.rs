//! What a rule removes, held against what its words say of each file.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use proptest::prelude::*;
use proptest::sample::select;

use super::*;

/// What a rule says.
#[derive(Debug, Clone)]
struct Said {
    match_: Vec<&'static str>,
    leave: Vec<&'static str>,
    older: Option<u64>,
    keep: Option<(usize, bool)>,
    depth: u32,
}

const FOLDERS: [&str; 4] = ["", "ullin/", "ullin/2026/", "scarp/"];
const NAMES: [&str; 9] = [
    "plot_1.png",
    "plot_2.png",
    "plot_3.png",
    "keep_1.png",
    "notes.txt",
    ".hidden.png",
    "half.png.part",
    ".vadegate-0123456789abcdef.arriving",
    "PLOT.PNG",
];

fn lying() -> impl Strategy<Value = BTreeMap<String, u64>> {
    let name = (select(&FOLDERS[..]), select(&NAMES[..]))
        .prop_map(|(folder, name)| format!("{folder}{name}"));
    // No two are as old as each other: which of them would be the newest is not said.
    prop::collection::btree_set(name, 0..16).prop_flat_map(|names| {
        let days: Vec<u64> = (1..=names.len() as u64).collect();
        (Just(names), Just(days).prop_shuffle())
            .prop_map(|(names, days)| names.into_iter().zip(days).collect())
    })
}

fn said() -> impl Strategy<Value = Said> {
    let patterns =
        prop::collection::vec(select(&["*.png", "plot_<n>.png", "ullin/**", "notes.*"][..]), 1..3);
    let leave = prop::collection::vec(select(&["keep_*", "*_2.png", "scarp/**"][..]), 0..3);
    let keep = prop::option::of((1..4_usize, any::<bool>()));
    (patterns, leave, prop::option::of(0..12_u64), keep, 0..4_u32)
        .prop_map(|(match_, leave, older, keep, depth)| Said { match_, leave, older, keep, depth })
}

impl Said {
    fn toml(&self) -> String {
        let list =
            |all: &[&str]| all.iter().map(|one| format!("{one:?}")).collect::<Vec<_>>().join(", ");
        let mut text = format!(
            "[service]\nroots = [\".\"]\n[clear.scratch]\nfolder = [\"scratch\"]\nmatch = [{}]\nleave = [{}]\nsubfolders = {}\n",
            list(&self.match_),
            list(&self.leave),
            self.depth
        );
        if let Some(days) = self.older {
            text += &format!("older = \"{days}d\"\n");
        }
        if let Some((newest, per)) = self.keep {
            let per = if per { ", per = \"<folder>\"" } else { "" };
            text += &format!("keep = {{ newest = {newest}{per} }}\n");
        }
        text
    }

    /// Whether a rule is about a file, by its patterns.
    fn fits(&self, below: &str) -> bool {
        let name = below.rsplit('/').next().unwrap();
        let folders = below.matches('/').count();
        // What is hidden, or is just being written, nobody means by `*`.
        let meant = |pattern: &str| {
            !(name.starts_with('.') || name.ends_with(".part")) && is_like(pattern, below, name)
        };
        folders <= self.depth as usize
            && self.match_.iter().any(|pattern| meant(pattern))
            && !self.leave.iter().any(|pattern| is_like(pattern, below, name))
    }

    /// What of the files would go.
    fn goes(&self, lying: &BTreeMap<String, u64>) -> BTreeSet<String> {
        let mut fitting: Vec<(&String, &u64)> =
            lying.iter().filter(|(below, _)| self.fits(below)).collect();
        fitting.sort_by_key(|(_, days)| **days);
        let mut kept: BTreeMap<&str, usize> = BTreeMap::new();
        let mut goes = BTreeSet::new();
        for (below, days) in fitting {
            if let Some((newest, per)) = self.keep {
                let of =
                    if per { below.rsplit_once('/').map_or("", |(folder, _)| folder) } else { "" };
                let count = kept.entry(of).or_default();
                *count += 1;
                if *count <= newest {
                    continue;
                }
            }
            if self.older.is_none_or(|older| *days >= older) {
                goes.insert(below.clone());
            }
        }
        goes
    }
}

/// The patterns that are used here, each by its own words.
fn is_like(pattern: &str, below: &str, name: &str) -> bool {
    match pattern {
        "*.png" => name.to_lowercase().ends_with(".png"),
        "plot_<n>.png" => name.starts_with("plot_") && name.ends_with(".png"),
        "notes.*" => name.starts_with("notes."),
        "keep_*" => name.starts_with("keep_"),
        "*_2.png" => name.ends_with("_2.png"),
        "ullin/**" => below.starts_with("ullin/"),
        "scarp/**" => below.starts_with("scarp/"),
        other => panic!("{other} has no words here"),
    }
}

fn lay(scratch: &Path, lying: &BTreeMap<String, u64>) {
    fs::create_dir_all(scratch).unwrap();
    for (below, days) in lying {
        let path = scratch.join(below);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, below).unwrap();
        // A little more than so many days.
        let at = SystemTime::now() - Duration::from_secs(days * 86_400 + 60);
        fs::File::open(&path).unwrap().set_modified(at).unwrap();
    }
}

/// The files that lie there, by their paths below the folder.
fn left(scratch: &Path) -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    let mut folders = vec![scratch.to_owned()];
    while let Some(folder) = folders.pop() {
        for one in fs::read_dir(folder).unwrap() {
            let path = one.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else {
                all.insert(path.strip_prefix(scratch).unwrap().display().to_string());
            }
        }
    }
    all
}

fn below(scratch: &Path, told: &Cleared) -> BTreeSet<String> {
    let path = |one: &ClearedFile| PathBuf::from(&one.path);
    told.removed
        .iter()
        .map(|one| path(one).strip_prefix(scratch).unwrap().display().to_string())
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn just_what_the_rule_says_goes_and_the_rehearsal_tells_the_same(said in said(), lying in lying()) {
        let home = tempfile::tempdir().unwrap();
        let scratch = home.path().join("scratch");
        lay(&scratch, &lying);
        let config = Config::parse(&home.path().join("vadegate.toml"), &said.toml()).unwrap();
        let rule = config.clears[0].clone();
        let engine = Engine::open(config).unwrap();
        let by = By { who: "mara".into(), why: "room".into() };
        let expected = said.goes(&lying);
        let would = engine.clear(&rule, &by, true, None).unwrap();
        prop_assert_eq!(&below(&scratch, &would), &expected, "{:?}", said);
        let all: BTreeSet<String> = lying.keys().cloned().collect();
        prop_assert_eq!(left(&scratch), all.clone(), "a rehearsal touches nothing");
        let most = expected.len() as u64;
        if most > 0 {
            let refused = engine.clear(&rule, &by, false, Some(most - 1)).unwrap_err();
            prop_assert!(refused.to_string().contains("files would go"), "{}", refused);
            prop_assert_eq!(left(&scratch), all.clone(), "more than was said is refused whole");
        }
        let done = engine.clear(&rule, &by, false, Some(most)).unwrap();
        prop_assert_eq!(&below(&scratch, &done), &expected);
        prop_assert!(done.problems.is_empty(), "{:?}", done.problems);
        let stays: BTreeSet<String> = all.difference(&expected).cloned().collect();
        prop_assert_eq!(left(&scratch), stays);
        // Each stands in the ledger with who and why, and nothing goes twice.
        let again = engine.clear(&rule, &by, false, None).unwrap();
        prop_assert!(said.keep.is_some() || again.removed.is_empty(), "{:?}", again.removed);
    }
}
