//! The crash protocol, step by step: what an interruption leaves behind is put
//! there by hand, and the next engine must end it well.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use sha2::Digest;

use super::*;
use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::ledger::entering::Entered;
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::new_entry::{NewEntry, Policy};
use crate::ledger::requests::staged_name;
use crate::ledger::requests::{
    Claim, CommitBatch, FileTarget, MadeOutput, OutputAt, PlannedOutput,
};
use crate::ledger::state::State;
use crate::ledger::words::{Effect, OutputMode, OutputRole, WorkKind};
use crate::pattern::Fields;

mod writers;

struct Home(tempfile::TempDir);

impl Home {
    fn new() -> Self {
        let home = Home(tempfile::tempdir().unwrap());
        fs::create_dir_all(home.path("drops")).unwrap();
        home
    }

    fn path(&self, below: &str) -> PathBuf {
        self.0.path().join(below)
    }

    fn config(&self, work: &str) -> Config {
        let text = format!(
            "[gate.tide]\ndrop = \"drops\"\nsettle = \"0ms\"\narchive = {{ into = \"archive\" }}\n{work}"
        );
        Config::parse(&self.path("vadegate.toml"), &text).unwrap()
    }

    fn engine(&self, work: &str) -> Engine {
        Engine::open(self.config(work)).unwrap()
    }

    fn drop(&self, name: &str, content: &str) -> Version {
        let path = self.path("drops").join(name);
        fs::write(&path, content).unwrap();
        Version::of(&fs::metadata(&path).unwrap())
    }

    fn read(&self, below: &str) -> String {
        fs::read_to_string(self.path(below)).unwrap()
    }

    fn names(&self, below: &str) -> Vec<String> {
        let Ok(entries) = fs::read_dir(self.path(below)) else { return Vec::new() };
        let name = |entry: std::io::Result<fs::DirEntry>| {
            entry.unwrap().file_name().to_string_lossy().into_owned()
        };
        let mut names: Vec<String> = entries.map(name).collect();
        names.sort();
        names
    }

    /// Enters a dropped file as the engine does; gives its number.
    fn enter(&self, ledger: &Ledger, name: &str, version: Version, worked: bool) -> EntryId {
        // By another library than ours.
        let content = fs::read(self.path("drops").join(name)).unwrap();
        let sha256 = Sha256::from_bytes(&sha2::Sha256::digest(content)).unwrap();
        let new = NewEntry {
            handed_in: None,
            gate: "tide".into(),
            drop_folder: self.path("drops").display().to_string(),
            path: name.into(),
            place: name.into(),
            version,
            sha256,
            fields: Fields::new(),
            seen_at: 1,
            space: "tide".into(),
            identity: sha256.bytes().to_vec(),
            replaces: None,
            nothing_to_work: worked,
            held: None,
            unusual: None,
            passed_over: None,
            others_filed: false,
            mark: None,
            policy: Policy::default(),
        };
        let target = FileTarget::plain(self.path("archive").join(name).display().to_string());
        let target = Arc::new(move |_: &NewEntry, _, _| Ok(Some(target.clone())));
        match ledger.enter(vec![new], target).unwrap().wait().unwrap().remove(0).1 {
            Entered::New { id, .. } | Entered::Touched { id } => id,
        }
    }

    fn claim(&self, ledger: &Ledger, entry: EntryId, mode: OutputMode, base_bytes: u64) -> BatchId {
        let output = PlannedOutput {
            path: self.path("out.csv").display().to_string(),
            at: OutputAt::Staged(self.path("")),
            mode,
            base_bytes,
            base_sha256: None,
            of: None,
            role: OutputRole::Rows,
        };
        let claim = Claim {
            gate: "tide".into(),
            work: WorkKind::Merge,
            effect: Effect::Staged,
            entries: vec![entry],
            outputs: vec![output],
            lease: None,
        };
        ledger.claim(claim).unwrap().batch
    }

    fn stage(&self, ledger: &Ledger, batch: BatchId, content: &str) -> PathBuf {
        let staged = self.path(&staged_name(ledger.tag().unwrap(), batch, 0));
        fs::write(&staged, content).unwrap();
        staged
    }

    fn commit(&self, ledger: &Ledger, batch: BatchId, entry: EntryId, staged: &Path, name: &str) {
        let version = Version::of(&fs::metadata(staged).unwrap());
        let target = self.path("archive").join(name).display().to_string();
        let commit = CommitBatch {
            batch,
            entries: vec![(entry, Some(1), Some(FileTarget::plain(target)))],
            outputs: vec![Some(MadeOutput {
                inode: version.inode,
                modified_ns: version.modified_ns,
                bytes: version.bytes,
                sha256: Sha256::default(),
                rows: 1,
                account: None,
            })],
            entered: Vec::new(),
            words: String::new(),
        };
        ledger.commit("tide", commit).unwrap();
    }
}

const MERGE: &str = "[gate.tide.merge]\ninto = \"out.csv\"\n";

fn all_filed(engine: &Engine, entries: usize) {
    let counts = engine.context().ledger.counts("tide").unwrap();
    assert_eq!(counts["filed"], entries as u64, "{counts:?}");
    for state in ["ready", "working", "worked", "repeat", "held"] {
        assert_eq!(counts[state], 0, "{counts:?}");
    }
}

#[test]
fn cut_off_between_claim_and_commit_the_batch_is_made_anew() {
    let home = Home::new();
    let engine = home.engine(MERGE);
    let version = home.drop("a.csv", "x\n1\n");
    let entry = home.enter(&engine.context().ledger, "a.csv", version, false);
    let batch = home.claim(&engine.context().ledger, entry, OutputMode::Create, 0);
    home.stage(&engine.context().ledger, batch, "x\n1");
    drop(engine);
    let engine = home.engine(MERGE);
    engine.pass_here("tide").unwrap();
    assert_eq!(home.read("out.csv"), "x\n1\n");
    all_filed(&engine, 1);
    assert!(home.names("").iter().all(|name| !name.ends_with(".staged")), "{:?}", home.names(""));
}

#[test]
fn cut_off_between_commit_and_publish_the_output_is_published_once() {
    for (mode, base, already) in [
        (OutputMode::Create, "", ""),
        (OutputMode::Replace, "old", ""),
        (OutputMode::Append, "x\n0\n", ""),
        (OutputMode::Append, "x\n0\n", "1"),
    ] {
        let home = Home::new();
        let engine = home.engine(MERGE);
        if mode != OutputMode::Create {
            fs::write(home.path("out.csv"), base).unwrap();
        }
        let version = home.drop("a.csv", "x\n1\n");
        let entry = home.enter(&engine.context().ledger, "a.csv", version, false);
        let batch = home.claim(&engine.context().ledger, entry, mode, base.len() as u64);
        let piece = if mode == OutputMode::Append { "1\n" } else { "x\n1\n" };
        let staged = home.stage(&engine.context().ledger, batch, piece);
        home.commit(&engine.context().ledger, batch, entry, &staged, "a.csv");
        if !already.is_empty() {
            // The append itself was cut off after its first byte.
            fs::write(home.path("out.csv"), format!("{base}{already}")).unwrap();
        }
        drop(engine);
        let engine = home.engine(MERGE);
        engine.pass_here("tide").unwrap();
        engine.pass_here("tide").unwrap();
        let expected = if mode == OutputMode::Append { "x\n0\n1\n" } else { "x\n1\n" };
        assert_eq!(home.read("out.csv"), expected, "{mode}");
        all_filed(&engine, 1);
        assert_eq!(home.names("archive"), ["a.csv"]);
        assert!(!staged.try_exists().unwrap());
    }
}

#[test]
fn cut_off_after_the_move_the_record_is_made_and_nothing_moved_again() {
    let home = Home::new();
    let engine = home.engine("");
    let version = home.drop("a.csv", "rows");
    home.enter(&engine.context().ledger, "a.csv", version, true);
    fs::create_dir_all(home.path("archive")).unwrap();
    fs::rename(home.path("drops/a.csv"), home.path("archive/a.csv")).unwrap();
    drop(engine);
    // The supplier has sent the next file under the same name meanwhile.
    home.drop("a.csv", "other rows");
    let engine = home.engine("");
    engine.pass_here("tide").unwrap();
    assert_eq!(home.names("archive"), ["a-2.csv", "a.csv"]);
    assert_eq!(home.read("archive/a.csv"), "rows");
    assert_eq!(home.read("archive/a-2.csv"), "other rows");
    all_filed(&engine, 2);
}

#[test]
fn cut_off_before_the_move_the_file_is_filed_where_it_was_to_go() {
    let home = Home::new();
    let engine = home.engine("");
    let version = home.drop("a.csv", "rows");
    home.enter(&engine.context().ledger, "a.csv", version, true);
    drop(engine);
    let engine = home.engine("");
    engine.pass_here("tide").unwrap();
    assert_eq!(home.read("archive/a.csv"), "rows");
    all_filed(&engine, 1);
}

#[test]
fn an_output_that_somebody_else_has_lengthened_is_a_standing_problem_and_loses_nothing() {
    let home = Home::new();
    let engine = home.engine(MERGE);
    fs::write(home.path("out.csv"), "x\n0\n").unwrap();
    let version = home.drop("a.csv", "x\n1\n");
    let entry = home.enter(&engine.context().ledger, "a.csv", version, false);
    let batch = home.claim(&engine.context().ledger, entry, OutputMode::Append, 4);
    let staged = home.stage(&engine.context().ledger, batch, "1\n");
    home.commit(&engine.context().ledger, batch, entry, &staged, "a.csv");
    fs::write(home.path("out.csv"), "x\n0\n77\n").unwrap();
    let report = engine.pass_here("tide").unwrap();
    assert!(report.problems[0].contains("was changed by somebody else"), "{report:?}");
    assert_eq!(home.read("out.csv"), "x\n0\n77\n");
    assert_eq!(home.names("drops"), ["a.csv"], "the source waits until its rows stand");
    // As the message says: moved away, the piece starts anew.
    fs::rename(home.path("out.csv"), home.path("theirs.csv")).unwrap();
    engine.pass_here("tide").unwrap();
    assert_eq!(home.read("out.csv"), "1\n");
    all_filed(&engine, 1);
}

#[test]
fn entries_left_by_a_work_that_the_gate_no_longer_has_are_filed() {
    let home = Home::new();
    let engine = home.engine(MERGE);
    let version = home.drop("a.csv", "x\n1\n");
    let entry = home.enter(&engine.context().ledger, "a.csv", version, false);
    assert_eq!(engine.context().ledger.entry(entry).unwrap().unwrap().state, State::Ready);
    drop(engine);
    let engine = home.engine("");
    engine.pass_here("tide").unwrap();
    all_filed(&engine, 1);
    assert_eq!(home.names("archive"), ["a.csv"]);
}

#[test]
fn one_state_folder_has_one_owner() {
    let home = Home::new();
    let engine = home.engine("");
    let refused = Engine::open(home.config("")).err().unwrap().to_string();
    assert!(refused.contains(&format!("(process {})", std::process::id())), "{refused}");
    drop(engine);
    assert!(Engine::open(home.config("")).is_ok());
}

#[test]
fn a_lock_left_by_an_orphan_of_a_killed_service_is_waited_for() {
    let home = Home::new();
    let state = home.path("state");
    fs::create_dir(&state).unwrap();
    let lock = fs::File::create(state.join("lock")).unwrap();
    lock.lock().unwrap();
    // The number of a process that has ended.
    let mut ended = std::process::Command::new("true").spawn().unwrap();
    ended.wait().unwrap();
    fs::write(state.join("lock"), format!("{}\n", ended.id())).unwrap();
    let waiting = std::thread::spawn({
        let config = home.config("");
        move || Engine::open(config).map(|_| ())
    });
    std::thread::sleep(Duration::from_millis(50));
    assert!(!waiting.is_finished(), "it waits");
    drop(lock);
    waiting.join().unwrap().unwrap();
}
