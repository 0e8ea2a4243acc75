//! A walk: a gate is killed, and meets a fault, at each point that it passes.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::PermissionsExt;

use vadegate_core::fault::{COMPILED, POINTS};

use crate::databases::{Db, shared};
use crate::support::{TestHome, text};

/// Times that a point is passed in a run, up to which each is walked through.
pub(crate) const PASSINGS: usize = 2;

/// What goes through a gate, and what must come of it.
pub(crate) struct Walk {
    /// Keys of the gate beside `drop` and `settle`.
    pub(crate) gate: String,
    /// Files that are worked before, without a fault.
    pub(crate) before: Vec<(&'static str, &'static str)>,
    pub(crate) files: Vec<(&'static str, &'static str)>,
    /// Whether an interrupted entry may be held.
    pub(crate) may_hold: bool,
    /// Contents of which a person must decide.
    pub(crate) held: BTreeSet<&'static str>,
    /// Rows that do not fit their columns.
    pub(crate) misfits: BTreeSet<&'static str>,
    /// Times that a point is passed up to which each is walked through.
    pub(crate) passings: usize,
    /// Where the archive is, if not beside the drop folder.
    pub(crate) away: Option<tempfile::TempDir>,
    /// The kind of database into which rows are loaded, if they are.
    pub(crate) loads: Option<Kind>,
}

/// The columns of the table that is loaded, with a rule that one of the rows breaks.
pub(crate) const TABLE: &str =
    "CREATE TABLE tides (t integer, l integer CHECK (l <> 50), entry integer)";

pub(crate) const TABLES: [(&str, &str); 3] =
    [("a.csv", "t,l\n1,10\n2,20\n"), ("b.csv", "t,l\n3,30\n"), ("c.csv", "t,l\n4,40\n5,50\n")];

pub(crate) fn walk(gate: &str) -> Walk {
    Walk {
        gate: gate.to_owned(),
        before: Vec::new(),
        files: TABLES.to_vec(),
        may_hold: false,
        held: BTreeSet::new(),
        misfits: BTreeSet::new(),
        passings: PASSINGS,
        away: None,
        loads: None,
    }
}

impl Walk {
    /// A coast with the files dropped, and the ones before worked.
    pub(crate) fn coast(&self) -> TestHome {
        let coast = TestHome::new("");
        self.make_table(&coast);
        let root = self.away.as_ref().map(|away| away.path().display().to_string());
        let roots = root.map(|root| format!(", \"{root}\"")).unwrap_or_default();
        fs::write(
            coast.path("vadegate.toml"),
            format!(
                "[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\"{roots}]\n[gate.tide]\ndrop = \"drops\"\n\
                 settle = \"0s\"\norder = \"name\"\n{}\n",
                self.gate.replace("@DATABASE@", &self.database(&coast).map(|db| db.to()).unwrap_or_default())
            ),
        )
        .unwrap();
        coast.folder("drops");
        coast.folder("bin");
        fs::write(coast.path("bin/job"), "#!/bin/sh\necho \"$VADEGATE_NAME\" >> ran\n").unwrap();
        fs::set_permissions(coast.path("bin/job"), PermissionsExt::from_mode(0o755)).unwrap();
        for (name, content) in &self.before {
            coast.drop(&format!("drops/{name}"), content);
        }
        if !self.before.is_empty() {
            let ran = coast.run("pass");
            assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
        }
        for (name, content) in &self.files {
            coast.drop(&format!("drops/{name}"), content);
        }
        coast
    }

    /// The database of a coast; on a server each coast has a schema of its own.
    pub(crate) fn database(&self, coast: &TestHome) -> Option<Db> {
        self.loads.map(|kind| match kind {
            Kind::Sqlite => Db::sqlite(&coast.path("out/sound.db")),
            Kind::Postgres => {
                let schema = coast.path("").file_name().unwrap().to_string_lossy().to_lowercase();
                let schema = schema.replace('.', "");
                let Db::Postgres(url) = walk_database() else { panic!("a server") };
                Db::Postgres(format!("{url}&options=-c%20search_path%3D{schema}"))
            }
        })
    }

    pub(crate) fn make_table(&self, coast: &TestHome) {
        let Some(db) = self.database(coast) else { return };
        if let Db::Postgres(url) = &db {
            let schema = url.rsplit("%3D").next().unwrap_or_default();
            walk_database().run(&format!("CREATE SCHEMA {schema}"));
        }
        db.run(TABLE);
    }

    /// Every row that fits stands once in the table, beside one marker for each entry.
    pub(crate) fn hold_table_against(&self, coast: &TestHome, fault: &str) {
        let Some(db) = self.database(coast) else { return };
        let mut found = db.rows("SELECT t, l FROM tides");
        let sources = self.before.iter().chain(&self.files);
        let rows = sources.flat_map(|(_, content)| content.lines().skip(1));
        let mut expected: Vec<String> = rows
            .filter(|row| !self.misfits.contains(row))
            .map(|row| row.replace(',', "|"))
            .collect();
        found.sort();
        expected.sort();
        assert_eq!(found, expected, "{fault}");
        let ledger = coast.ledger();
        let mut entries: Vec<String> = ledger.iter().map(|entry| entry["id"].to_string()).collect();
        entries.sort();
        let mut marked = db.rows("SELECT entry FROM vadegate_loads");
        marked.sort();
        assert_eq!(marked, entries, "{fault}: one marker for each entry");
        for entry in ledger {
            let id = &entry["id"];
            let loaded = db.rows(&format!("SELECT count(*) FROM tides WHERE entry = {id}"));
            assert_eq!(loaded, [entry["rows"].to_string()], "{fault}: {entry}");
        }
        let aside = coast.read("aside/rejects.csv");
        assert_eq!(aside.lines().count(), 1 + self.misfits.len(), "{fault}: {aside}");
    }

    /// The points that are passed when nothing fails, and how often.
    pub(crate) fn points(&self) -> BTreeMap<String, usize> {
        let coast = self.coast();
        let output = coast.command().arg("pass").env("VADEGATE_FAULT", "list").output().unwrap();
        let mut points = BTreeMap::new();
        for line in String::from_utf8_lossy(&output.stderr).lines() {
            if let Some(point) = line.strip_prefix("point ") {
                assert!(POINTS.contains(&point), "{point} is not in the list");
                *points.entry(point.to_owned()).or_default() += 1;
            }
        }
        self.hold_against(&coast, "without a fault");
        self.clear();
        points
    }

    pub(crate) fn clear(&self) {
        let Some(away) = &self.away else { return };
        for entry in fs::read_dir(away.path()).unwrap() {
            fs::remove_dir_all(entry.unwrap().path()).unwrap();
        }
    }

    /// Walks through the points; gives those at which something failed.
    pub(crate) fn go(&self, expected: &[&str]) {
        if !COMPILED {
            eprintln!("not tested: a release has no faults to inject");
            return;
        }
        let points = self.points();
        for point in expected {
            assert!(points.contains_key(*point), "{point} is not passed: {points:?}");
        }
        for (point, count) in &points {
            for nth in 1..=(*count).min(self.passings) {
                for kind in kinds(point) {
                    self.fail_once(&format!("{point}:{nth}={kind}"));
                }
            }
        }
    }

    pub(crate) fn fail_once(&self, fault: &str) {
        let coast = self.coast();
        let failed = coast.command().arg("pass").env("VADEGATE_FAULT", fault).output().unwrap();
        let told = String::from_utf8_lossy(&failed.stderr);
        assert!(told.contains("fault "), "{fault} did not happen: {told}");
        for _ in 0..4 {
            // What waits for a better time need not wait here.
            let ledger = rusqlite::Connection::open(coast.path("state/ledger.db")).unwrap();
            ledger.execute("UPDATE entry SET not_before = NULL", []).unwrap();
            drop(ledger);
            coast.run("pass");
        }
        self.hold_against(&coast, fault);
        self.clear();
    }

    /// Nothing is lost, nothing twice, nothing staged left.
    pub(crate) fn hold_against(&self, coast: &TestHome, fault: &str) {
        let dropped: Vec<&(&str, &str)> = self.before.iter().chain(&self.files).collect();
        let mut filed = coast.files("archive");
        if let Some(away) = &self.away {
            filed.extend(files_below(away.path()));
        }
        filed.extend(coast.files("held"));
        let contents: Vec<String> =
            filed.iter().map(|path| fs::read_to_string(coast.path(path)).unwrap()).collect();
        let ledger = coast.ledger();
        let state = |content: &str| {
            let sum = crate::support::sum(content);
            let mut of = ledger.iter().filter(|entry| {
                entry["sha256"] == sum && entry["repeat_of"].is_null() && entry["state"] != "gone"
            });
            let entry = of.next().unwrap_or_else(|| panic!("{fault}: no entry of {content:?}"));
            assert!(of.next().is_none(), "{fault}: {content:?} was entered twice");
            text(entry, "state").to_owned()
        };
        for (name, content) in &dropped {
            let state = state(content);
            let held = state == "held" && (self.may_hold || self.held.contains(name));
            let copies = contents.iter().filter(|one| one == content).count();
            let there = coast.path("drops").join(name).try_exists().unwrap();
            match (state.as_str(), held) {
                ("filed", _) => assert_eq!(copies, 1, "{fault}: {name} in {filed:?}"),
                (_, true) => assert_eq!(copies + usize::from(there), 1, "{fault}: {name}"),
                (other, _) => panic!("{fault}: {name} is {other}: {ledger:#?}"),
            }
        }
        let mut everywhere = files_below(&coast.path(""));
        everywhere.extend(self.away.iter().flat_map(|away| files_below(away.path())));
        let staged: Vec<&String> =
            everywhere.iter().filter(|path| path.contains("/.vadegate")).collect();
        assert!(staged.is_empty(), "{fault}: {staged:?}");
        self.hold_rows_against(coast, fault);
        self.hold_table_against(coast, fault);
        let verify = coast.run("verify --deep");
        assert_eq!(verify.code, 0, "{fault}: {}{}", verify.out, verify.err);
    }

    /// Every row stands once in the outputs, and every program ran once at the most.
    pub(crate) fn hold_rows_against(&self, coast: &TestHome, fault: &str) {
        let rows = |text: &str| text.lines().skip(1).map(str::to_owned).collect::<Vec<_>>();
        if self.gate.contains("merge") {
            let mut found: Vec<String> = coast
                .files("out")
                .iter()
                .filter(|path| path.ends_with(".csv"))
                .flat_map(|path| rows(&coast.read(path)))
                .collect();
            let sources = self.before.iter().chain(&self.files);
            let sources = sources.filter(|(name, _)| !self.held.contains(name));
            // An output that is replaced has the rows of the batch that came last.
            let ledger = coast.ledger();
            let last = ledger.iter().filter_map(|entry| entry["batch"].as_i64()).max();
            let of_last = |name: &str| {
                let of = |entry: &&serde_json::Value| entry["name"] == name;
                ledger.iter().find(of).is_some_and(|entry| entry["batch"].as_i64() == last)
            };
            let replaced = self.gate.contains("replace");
            let mut expected: Vec<String> = sources
                .filter(|(name, _)| !replaced || of_last(name))
                .flat_map(|(_, content)| rows(content))
                .filter(|row| !self.misfits.contains(row.as_str()))
                .collect();
            found.sort();
            expected.sort();
            assert_eq!(found, expected, "{fault}");
            if !self.misfits.is_empty() {
                let mut all = rows(&coast.read("all/all.csv"));
                all.sort();
                assert_eq!(all, expected, "{fault}: the output of all");
                let aside = coast.read("aside/rejects.csv");
                assert_eq!(rows(&aside).len(), self.misfits.len(), "{fault}: {aside}");
                let accounts = coast.read("out/all.account.jsonl");
                assert!(accounts.lines().count() >= 1, "{fault}");
            }
        }
        if self.gate.contains("bin/job") {
            let ran = fs::read_to_string(coast.path("ran")).unwrap_or_default();
            let unique: BTreeSet<&str> = ran.lines().collect();
            assert_eq!(ran.lines().count(), unique.len(), "{fault}: a program ran twice: {ran}");
            for entry in coast.ledger().iter().filter(|entry| entry["state"] == "filed") {
                assert!(unique.contains(text(entry, "name")), "{fault}: {entry} never ran");
            }
        }
    }
}

/// The ways in which a point can fail.
pub(crate) fn kinds(point: &str) -> &'static [&'static str] {
    match point {
        "stage.write" | "publish.write" | "file.write" => &["kill", "io", "full", "short"],
        "ledger.committed" | "run.ended" => &["kill"],
        "load.committed" => &["kill", "io"],
        "stage.sync" | "publish.sync" | "folder.sync" | "ledger.commit" => {
            &["kill", "io", "full", "slow"]
        }
        _ => &["kill", "io", "full"],
    }
}

pub(crate) fn files_below(folder: &std::path::Path) -> Vec<String> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() { folders.push(path) } else { found.push(path.display().to_string()) }
        }
    }
    found
}

pub(crate) const ARCHIVE: &str = "archive = { into = \"archive\" }";

/// A kind of database.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Sqlite,
    Postgres,
}

/// The database of all walks that load into a server.
pub(crate) fn walk_database() -> &'static Db {
    static DATABASE: std::sync::LazyLock<Db> = std::sync::LazyLock::new(|| shared().database());
    &DATABASE
}
