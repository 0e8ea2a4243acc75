//! What one small file costs a service that has worked many: processor time for each of a
//! few hundred files that come one at a time, after 1,000 batches and after 100,000, for a
//! gate that files, merges, loads, runs and offers. Flat is 1.00.
//!
//! The batches before are rows of the ledger that are made from those of the first file:
//! what they cost to make is not what is asked.

mod common;

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use common::Service;
use serde_json::{Value, json};

const FILES: usize = 300;
const BEFORE: [i64; 2] = [1_000, 100_000];

/// The works, and how a gate says them.
const WORKS: [(&str, &str); 5] = [
    ("none", ""),
    ("merge", "merge = { into = \"out.csv\" }"),
    ("load", "load = { to = \"sqlite:out.db\", table = \"tides\", if_missing = \"create\" }"),
    ("run", "run = { program = \"/bin/true\" }"),
    ("offer", "offer = { lease = \"60s\" }"),
];

fn main() {
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    println!("processor time for a file that comes alone, {FILES} of them");
    for (work, gate) in WORKS {
        let costs = BEFORE.map(|before| cost(work, gate, before));
        println!(
            "  {work:<6} {:>6.2} ms after {} batches   {:>6.2} ms after {}   ratio {:.2} (wanted 1.10 at most)",
            costs[0],
            BEFORE[0],
            costs[1],
            BEFORE[1],
            costs[1] / costs[0]
        );
    }
}

/// What growth asks of a service.
struct Served(Service);

impl Served {
    fn start(home: &Path) -> Self {
        Served(Service::start(home))
    }

    fn send(&self, path: &str, body: &Value) -> String {
        let asked = self.0.agent.post(format!("{}{path}", self.0.base));
        let asked = asked.header("Authorization", format!("Bearer {}", self.0.token));
        let answer = asked.send_json(body);
        answer.expect("an answer").body_mut().read_to_string().expect("its text")
    }

    fn used(&self) -> f64 {
        let stat =
            fs::read_to_string(format!("/proc/{}/stat", self.0.child.id())).expect("a process");
        let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or("").split_whitespace().collect();
        let ticks: f64 = fields[11..13].iter().filter_map(|text| text.parse::<f64>().ok()).sum();
        ticks * 10.0
    }

    /// Drops a file and waits until it is in the archive.
    fn one(&self, home: &Path, work: &str, name: &str) {
        let part = home.join(".under-way");
        fs::write(&part, format!("t,l\n{},1\n", name.trim_start_matches('f'))).expect("a file");
        fs::rename(&part, home.join("drops").join(name)).expect("a rename");
        let filed = home.join("archive").join(name);
        let begun = Instant::now();
        while !filed.try_exists().expect("the archive") {
            assert!(
                begun.elapsed() < Duration::from_secs(60),
                "{work}: {name} is not filed in {}",
                home.display()
            );
            if work == "offer" {
                let taken =
                    self.send("/api/v1/gates/g/take", &json!({ "worker": "one", "wait": "5s" }));
                let taken: Value = serde_json::from_str(&taken).expect("JSON");
                for lease in taken.as_array().into_iter().flatten() {
                    let path = format!("/api/v1/leases/{}/end", lease["fence"]);
                    self.send(&path, &json!({ "end": "done" }));
                }
            }
            std::thread::sleep(Duration::from_millis(2));
        }
    }
}

/// Milliseconds of processor time for one file.
fn cost(work: &str, gate: &str, before: i64) -> f64 {
    let home = tempfile::tempdir().expect("a folder");
    let home = home.path();
    fs::create_dir_all(home.join("drops")).expect("a folder");
    let text = format!(
        "[service]\nlisten = \"127.0.0.1:0\"\n[gate.g]\ndrop = \"drops\"\nsettle = \"0s\"\n\
         archive = {{ into = \"archive\" }}\n{gate}\n"
    );
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
    let served = Served::start(home);
    served.one(home, work, "f0");
    drop(served);
    multiply(&home.join("state/ledger.db"), before);
    let served = Served::start(home);
    (1..=20).for_each(|number| served.one(home, work, &format!("f{number}")));
    let used = served.used();
    (21..21 + FILES).for_each(|number| served.one(home, work, &format!("f{number}")));
    (served.used() - used) / FILES as f64
}

/// As many batches as if the first file had come so often, each with its entry.
fn multiply(ledger: &Path, times: i64) {
    let db = rusqlite::Connection::open(ledger).expect("the ledger");
    let many = format!(
        "WITH RECURSIVE n (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM n WHERE n < {times}) "
    );
    let columns = |table: &str| -> Vec<String> {
        let sql = format!("SELECT name FROM pragma_table_info('{table}')");
        let mut asked = db.prepare(&sql).expect("SQL");
        let names = asked.query_map([], |row| row.get(0)).expect("columns");
        names.map(|name| name.expect("a column")).collect()
    };
    db.execute_batch("BEGIN").expect("SQL");
    for table in ["entry", "batch", "part", "output", "history"] {
        let names = columns(table);
        // Numbers move on together; what must be unique is made so.
        let values = names.iter().map(|name| match name.as_str() {
            "id" if table == "history" => format!("{table}.id + 1000 * n"),
            "id" | "entry" | "batch" => format!("{table}.{name} + n"),
            "identity" => "randomblob(32)".to_owned(),
            "sha256" if table == "entry" => "randomblob(32)".to_owned(),
            "path" if table == "entry" => "'g' || n".to_owned(),
            "inode" if table == "entry" => "inode + n".to_owned(),
            other => format!("{table}.{other}"),
        });
        let sql = format!(
            "{many} INSERT INTO {table} ({}) SELECT {} FROM {table}, n",
            names.join(", "),
            values.collect::<Vec<_>>().join(", ")
        );
        db.execute_batch(&sql).expect("rows");
    }
    db.execute_batch("UPDATE span SET last = (SELECT max(id) FROM entry); COMMIT").expect("SQL");
    let found: i64 =
        db.query_row("SELECT count(*) FROM entry", [], |row| row.get(0)).expect("a count");
    assert_eq!(found, times + 1);
}
