//! What hangs together, held against a walk through what was worked into what.

use std::collections::{BTreeMap, BTreeSet};

use super::*;
use crate::ledger::family::{FamilyKind, FamilyOf};
use crate::ledger::requests::{MadeOutput, OutputAt};
use crate::ledger::words::{OutputMode, OutputRole};

/// A work: of which files it takes so many, and into which outputs it writes.
#[derive(Debug, Clone)]
struct Step {
    takes: usize,
    outputs: BTreeSet<u8>,
    /// Whether what it made is taken by a gate, as a file with this content.
    taken: bool,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let outputs = prop::collection::btree_set(0..4_u8, 1..3);
    let step = (1..4_usize, outputs, any::<bool>());
    let step = step.prop_map(|(takes, outputs, taken)| Step { takes, outputs, taken });
    prop::collection::vec(step, 1..7)
}

fn output_path(number: u8) -> String {
    format!("/drops/made_{number}.csv")
}

/// What was worked into what, by the keys of the family.
#[derive(Default)]
struct Known {
    links: BTreeSet<(String, String)>,
}

impl Known {
    fn link(&mut self, from: &str, to: &str) {
        self.links.insert((from.to_owned(), to.to_owned()));
    }

    /// All that came of something.
    fn below(&self, key: &str) -> BTreeSet<String> {
        let mut found = BTreeSet::from([key.to_owned()]);
        let mut waiting = vec![key.to_owned()];
        while let Some(key) = waiting.pop() {
            for (_, to) in self.links.iter().filter(|(from, _)| *from == key) {
                if found.insert(to.clone()) {
                    waiting.push(to.clone());
                }
            }
        }
        found
    }
}

/// Works some files into outputs, in one batch; gives its key.
fn work(ledger: &Ledger, entries: &[EntryId], outputs: &[(u8, u8)]) -> String {
    let planned = outputs.iter().map(|(output, _)| PlannedOutput {
        path: output_path(*output),
        at: OutputAt::Staged("/drops".into()),
        mode: OutputMode::Replace,
        base_bytes: 0,
        base_sha256: None,
        role: OutputRole::Rows,
        of: None,
    });
    let batch = claim_into(ledger, "tide", entries, planned.collect()).unwrap();
    let made = outputs.iter().map(|(_, content)| {
        let sha256 = Sha256::from_bytes(&[*content; 32]).unwrap();
        Some(MadeOutput { bytes: 3, rows: 2, sha256, ..MadeOutput::default() })
    });
    let commit = CommitBatch {
        batch,
        entries: entries.iter().map(|id| (*id, Some(2), None)).collect(),
        outputs: made.collect(),
        entered: Vec::new(),
        words: String::new(),
    };
    ledger.commit("tide", commit).map(drop).unwrap();
    format!("work {batch}")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn all_that_came_of_a_file_is_found_and_nothing_else(steps in steps()) {
        let folder = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(folder.path()).unwrap();
        let mut known = Known::default();
        let mut content = 0;
        let mut files: Vec<EntryId> = Vec::new();
        // What was made last of each output, and was taken: as which file.
        let mut newest: BTreeMap<u8, u8> = BTreeMap::new();
        for step in &steps {
            let mut takes: Vec<EntryId> = Vec::new();
            while takes.len() < step.takes {
                // Some come from outside, the others are those that were made before.
                let next = files.pop().unwrap_or_else(|| {
                    content += 1;
                    enter_one(&ledger, new(&format!("came_{content}.csv"), content))
                });
                takes.push(next);
            }
            let mut made = Vec::new();
            for output in &step.outputs {
                content += 1;
                made.push((*output, content));
                newest.insert(*output, content);
            }
            let batch = work(&ledger, &takes, &made);
            for id in &takes {
                known.link(&format!("entry {id}"), &batch);
            }
            for (output, content) in &made {
                let key = format!("output {}", output_path(*output));
                known.link(&batch, &key);
                if step.taken {
                    let name = output_path(*output).rsplit('/').next().unwrap().to_owned();
                    let id = enter_one(&ledger, new(&name, *content));
                    known.link(&key, &format!("entry {id}"));
                    files.push(id);
                }
            }
        }
        for number in 1..=i64::from(content) {
            let id = EntryId::of(number);
            if ledger.entry(id).unwrap().is_none() {
                continue;
            }
            let family = ledger.family(&FamilyOf::Entry(id)).unwrap();
            prop_assert!(!family.more);
            let keys: BTreeSet<String> = family.members.iter().map(|one| one.key.clone()).collect();
            prop_assert_eq!(keys.len(), family.members.len(), "nothing is shown twice");
            let below = known.below(&format!("entry {id}"));
            // What is below is there, but for what an output became that was written over since.
            for key in &keys {
                prop_assert!(below.contains(key), "{key} did not come of entry {id}");
            }
            for link in &family.links {
                let link = (link.from.clone(), link.to.clone());
                prop_assert!(known.links.contains(&link), "{link:?}");
                prop_assert!(keys.contains(&link.0) && keys.contains(&link.1), "{link:?} leads nowhere");
            }
            let direct: BTreeSet<&String> =
                known.links.iter().filter(|(from, _)| *from == format!("entry {id}")).map(|(_, to)| to).collect();
            prop_assert!(direct.into_iter().all(|to| keys.contains(to)), "{keys:?}");
        }
        for output in newest.keys() {
            let path = output_path(*output);
            let key = format!("output {path}");
            let family = ledger.family(&FamilyOf::Output(path)).unwrap();
            let keys: BTreeSet<&str> = family.members.iter().map(|one| one.key.as_str()).collect();
            let works = known.links.iter().filter(|(_, to)| *to == key).map(|(from, _)| from);
            for work in works {
                prop_assert!(keys.contains(work.as_str()), "{work} wrote into {key}");
                let sources = known.links.iter().filter(|(_, to)| to == work).map(|(from, _)| from);
                for source in sources {
                    prop_assert!(keys.contains(source.as_str()), "{source} is in {key}");
                }
            }
        }
    }
}

#[test]
fn of_very_many_files_the_first_are_shown_and_it_is_said_that_there_are_more() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let entries: Vec<NewEntry> =
        (0..60).map(|number| new(&format!("came_{number}.csv"), number)).collect();
    let ids: Vec<EntryId> = enter(&ledger, entries)
        .into_iter()
        .map(|one| match one {
            Entered::New { id, .. } | Entered::Touched { id } => id,
        })
        .collect();
    work(&ledger, &ids, &[(0, 200)]);
    let family = ledger.family(&FamilyOf::Output(output_path(0))).unwrap();
    assert!(family.more);
    let shown = |kind| family.members.iter().filter(|one| one.kind == kind).count();
    assert_eq!((shown(FamilyKind::Entry), shown(FamilyKind::Work)), (20, 1));
    let nobody = ledger.family(&FamilyOf::Entry(EntryId::of(4711))).unwrap();
    assert!(nobody.members.is_empty() && !nobody.more);
}
