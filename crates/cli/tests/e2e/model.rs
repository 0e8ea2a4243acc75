//! Random sequences of arrivals, replacements, passes, kills and people's actions, held
//! against a small plain model of what must come of them. A failing sequence is made
//! as short as it can be.
//!
//! `VADEGATE_MINUTES` says for how long it goes on, `VADEGATE_SEED` repeats a run.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::time::{Duration, Instant};

use proptest::prelude::*;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};
use vadegate_core::fault::{COMPILED, POINTS};

use crate::support::{TestHome, sum, text};

#[derive(Debug, Clone)]
enum Step {
    Drop {
        name: u8,
        content: u8,
    },
    Remove {
        name: u8,
    },
    Pass,
    /// A pass that is killed at a point, and one that ends what it left.
    Kill {
        point: usize,
        nth: u8,
    },
    Reopen {
        content: u8,
    },
    Forget {
        content: u8,
    },
    Adopt,
    /// What is held is filed as it is.
    Release,
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        8 => (0u8..4, 0u8..6).prop_map(|(name, content)| Step::Drop { name, content }),
        1 => (0u8..4).prop_map(|name| Step::Remove { name }),
        3 => Just(Step::Pass),
        4 => (0..POINTS.len(), 1u8..4).prop_map(|(point, nth)| Step::Kill { point, nth }),
        2 => (0u8..6).prop_map(|content| Step::Reopen { content }),
        1 => (0u8..6).prop_map(|content| Step::Forget { content }),
        1 => Just(Step::Adopt),
        1 => Just(Step::Release),
    ]
}

/// The content of a file; number 5 is no table.
fn content(number: u8) -> String {
    if number == 5 { "t,l\n5\n".into() } else { format!("t,l\n{number},{number}\n") }
}

/// What is known of a file that lies in the drop folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Known {
    Not,
    Held,
    Adopted,
}

/// What must be, in the plainest words.
#[derive(Debug, Default)]
struct Model {
    drop: BTreeMap<u8, (u8, Known)>,
    /// The same as the gate saw it last: what was there between two looks, it never knew.
    seen: BTreeMap<u8, (u8, Known)>,
    /// Contents that count as worked or held: a file with one is a repeat.
    taken: BTreeSet<u8>,
    /// How often each content was worked.
    worked: BTreeMap<u8, u32>,
    /// How many files of each content were filed.
    filed: BTreeMap<u8, u32>,
    /// Contents that are to be worked again.
    again: BTreeSet<u8>,
    /// Contents whose first entry lies in the archive.
    firsts: BTreeSet<u8>,
}

impl Model {
    /// The gate looks; what was held is over where its file is not there any more.
    fn look(&mut self) {
        for (name, (content, known)) in &self.seen {
            let there = self.drop.get(name) == Some(&(*content, *known));
            if *known == Known::Held && !there {
                self.taken.remove(content);
            }
        }
        self.seen = self.drop.clone();
    }

    /// The gate looks and is paused: it reads nothing, but sees what is not there any more.
    fn glance(&mut self) {
        let (drop, taken) = (&self.drop, &mut self.taken);
        self.seen.retain(|name, (content, known)| {
            let there = drop.contains_key(name);
            if !there && *known == Known::Held {
                taken.remove(content);
            }
            there
        });
    }

    /// A file arrives; the same content as the gate saw there last is the same entry.
    fn arrive(&mut self, name: u8, content: u8) {
        let same = self.seen.get(&name).filter(|(seen, _)| *seen == content);
        self.drop.insert(name, same.copied().unwrap_or((content, Known::Not)));
    }

    fn pass(&mut self) {
        self.look();
        for content in std::mem::take(&mut self.again) {
            *self.worked.entry(content).or_default() += 1;
        }
        let unknown: Vec<(u8, u8)> = self
            .drop
            .iter()
            .filter(|(_, (_, known))| *known == Known::Not)
            .map(|(name, (content, _))| (*name, *content))
            .collect();
        for (name, content) in unknown {
            let first = self.taken.insert(content);
            if first && content == 5 {
                self.drop.insert(name, (content, Known::Held));
                continue;
            }
            if first {
                *self.worked.entry(content).or_default() += 1;
                self.firsts.insert(content);
            }
            *self.filed.entry(content).or_default() += 1;
            self.drop.remove(&name);
        }
        self.seen = self.drop.clone();
    }

    fn adopt(&mut self) {
        self.look();
        let lying: Vec<u8> = self.drop.keys().copied().collect();
        for name in lying {
            let Some((content, Known::Not)) = self.drop.get(&name).copied() else { continue };
            if self.taken.insert(content) {
                self.drop.insert(name, (content, Known::Adopted));
                self.firsts.remove(&content);
            }
        }
        self.seen = self.drop.clone();
    }

    fn release(&mut self) {
        let held: Vec<u8> = self
            .drop
            .iter()
            .filter(|(_, (_, known))| *known == Known::Held)
            .map(|(name, _)| *name)
            .collect();
        for name in held {
            if let Some((content, _)) = self.drop.remove(&name) {
                *self.filed.entry(content).or_default() += 1;
                self.seen.remove(&name);
            }
        }
        self.glance();
    }
}

const BY: &str = "--why model --by ada --yes";

fn go(coast: &TestHome, model: &mut Model, step: &Step) {
    match *step {
        Step::Drop { name, content: number } => {
            model.arrive(name, number);
            coast.drop(&format!("drops/{name}.csv"), content(number));
        }
        Step::Remove { name } => {
            model.drop.remove(&name);
            model.glance();
            let _ = fs::remove_file(coast.path(&format!("drops/{name}.csv")));
            look(coast);
        }
        Step::Pass => {
            model.pass();
            coast.run("pass");
        }
        Step::Kill { point, nth } => {
            model.pass();
            let fault = format!("{}:{nth}=kill", POINTS[point]);
            coast.command().arg("pass").env("VADEGATE_FAULT", fault).output().unwrap();
            coast.run("pass");
            coast.run("pass");
        }
        Step::Reopen { content } => {
            let Some(entry) = first(coast, model, content) else { return };
            let ran = coast.run(&format!("reopen {entry} {BY}"));
            assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
            model.again.insert(content);
        }
        Step::Forget { content } => {
            let waits = model.again.contains(&content) || content == 5;
            let Some(entry) = first(coast, model, content).filter(|_| !waits) else { return };
            let ran = coast.run(&format!("forget {entry} {BY}"));
            assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
            model.taken.remove(&content);
            model.firsts.remove(&content);
        }
        Step::Adopt => {
            model.adopt();
            coast.run(&format!("adopt tide {BY}"));
        }
        Step::Release => {
            model.release();
            coast.run(&format!("release --state held --how file {BY}"));
            // It is filed by the next pass; other files wait behind the pause.
            look(coast);
        }
    }
}

/// The entry that counts for a content, filed and not a repeat.
fn first(coast: &TestHome, model: &Model, number: u8) -> Option<serde_json::Value> {
    let ledger = coast.json(&format!("ledger --sum {}", sum(content(number))));
    let mut entries = ledger.as_array().unwrap().iter().filter(|entry| {
        entry["repeat_of"].is_null() && entry["forgotten"] == false && entry["state"] == "filed"
    });
    entries.next().filter(|_| model.firsts.contains(&number)).map(|entry| entry["id"].clone())
}

/// Has the gate see what lies there, without taking anything new: it is paused.
fn look(coast: &TestHome) {
    let ledger = rusqlite::Connection::open(coast.path("state/ledger.db")).unwrap();
    let pause = |paused: bool| {
        ledger
            .execute(
                "INSERT INTO gate_setting (gate, paused) VALUES ('tide', ?1) ON CONFLICT DO UPDATE SET paused = ?1",
                [paused],
            )
            .unwrap();
    };
    pause(true);
    coast.run("pass");
    pause(false);
}

fn hold_against(coast: &TestHome, model: &Model, steps: &[Step]) {
    let mut worked: BTreeMap<u8, u32> = BTreeMap::new();
    let table = fs::read_to_string(coast.path("out/all.csv")).unwrap_or_default();
    for row in table.lines().skip(1) {
        *worked.entry(row[..1].parse().unwrap()).or_default() += 1;
    }
    assert_eq!(worked, model.worked, "rows of each content after {steps:?}");
    let mut filed: BTreeMap<u8, u32> = BTreeMap::new();
    for path in coast.files("archive") {
        let text = coast.read(&path);
        *filed.entry((0..6).find(|number| content(*number) == text).unwrap()).or_default() += 1;
    }
    assert_eq!(filed, model.filed, "files of each content after {steps:?}");
    let lying: Vec<String> = model.drop.keys().map(|name| format!("drops/{name}.csv")).collect();
    assert_eq!(coast.files("drops"), lying, "after {steps:?}");
    for (name, (_, known)) in &model.drop {
        if *known == Known::Held {
            let entry = coast.entry(&format!("{name}.csv"));
            assert_eq!(text(&entry, "state"), "held", "{name} after {steps:?}");
        }
    }
}

/// One sequence of steps.
fn agrees(steps: &[Step]) {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"0s\"\norder = \"name\"\n\
         archive = { into = \"archive\" }\nmerge = { into = \"out/all.csv\" }\n",
    );
    coast.folder("drops");
    coast.run("pass");
    let mut model = Model::default();
    for step in steps {
        go(&coast, &mut model, step);
    }
    go(&coast, &mut model, &Step::Pass);
    hold_against(&coast, &model, steps);
    assert_eq!(coast.run("verify --deep").code, 0, "verify after {steps:?}");
}

#[test]
fn whatever_happens_the_model_agrees() {
    const CASES: u32 = 16;
    if !COMPILED {
        return;
    }
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let minutes = number("VADEGATE_MINUTES").unwrap_or(0);
    let first = number("VADEGATE_SEED").unwrap_or_else(|| u64::from(std::process::id()));
    let begun = Instant::now();
    for seed in first.. {
        eprintln!("model: VADEGATE_SEED={seed}");
        let mut bytes = [0; 32];
        bytes[..8].copy_from_slice(&seed.to_le_bytes());
        let config = Config {
            cases: CASES,
            failure_persistence: None,
            max_shrink_iters: 400,
            ..Config::default()
        };
        let rng = TestRng::from_seed(RngAlgorithm::ChaCha, &bytes);
        let mut runner = TestRunner::new_with_rng(config, rng);
        let ran = runner.run(&prop::collection::vec(step(), 4..24), |steps| {
            agrees(&steps);
            Ok(())
        });
        if let Err(error) = ran {
            panic!("seed {seed}: {error}");
        }
        if begun.elapsed() >= Duration::from_secs(60 * minutes) {
            break;
        }
    }
}
