//! kill -9 of the service and crashes of the database server at random moments while
//! rows are loaded. At the end every row of every file stands in its table exactly once,
//! beside one marker for each entry.
//!
//! `make chaos` runs the long form; `VADEGATE_KILLS` and `VADEGATE_SEED` as for `chaos`.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::chaos::number_of;
use crate::databases::{Db, Server};
use crate::support::{TestHome, wait};

const GATES: [&str; 3] = ["file", "server", "batches"];

fn configure(coast: &TestHome, server: &Db) {
    let gate = |name: &str, to: &str, more: &str| {
        format!(
            "[gate.{name}]\ndrop = \"drops/{name}\"\nsettle = \"10ms\"\nsweep = \"200ms\"\n\
             archive = {{ into = \"archive/{name}\" }}\n{more}[gate.{name}.load]\nto = \"{to}\"\n\
             table = \"{name}\"\nif_missing = \"create\"\nwait = \"20ms\"\nwait_up_to = \"100ms\"\n\
             add = {{ entry = \"<entry>\" }}\ncolumn.x = {{ type = \"real\" }}\n"
        )
    };
    let file = format!("sqlite:{}", coast.path("out/sound.db").display());
    let batch = "[gate.batches.batch.when]\nidle = \"100ms\"\ncount = 5\n";
    coast.configure(&format!(
        "{}{}{}",
        gate("file", &file, ""),
        gate("server", &server.to(), ""),
        gate("batches", &server.to(), batch)
    ));
    for gate in GATES {
        coast.folder(&format!("drops/{gate}"));
    }
}

/// Drops files until told to stop; gives how many rows each has, by gate and number.
fn feed(
    coast: &TestHome,
    seed: u64,
    stop: &AtomicBool,
) -> BTreeMap<&'static str, BTreeMap<u32, u32>> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut dropped: BTreeMap<_, BTreeMap<_, _>> = BTreeMap::new();
    let mut number = 0;
    while !stop.load(Ordering::Relaxed) {
        for gate in GATES {
            number += 1;
            let rows = random.random_range(1..4_000u32);
            let lines: Vec<String> =
                (0..rows).map(|row| format!("{number},{row},{}.5", row % 90)).collect();
            let content = format!("n,row,x\n{}\n", lines.join("\n"));
            coast.drop(&format!("drops/{gate}/{number}.csv"), content);
            dropped.entry(gate).or_default().insert(number, rows);
        }
        // The pace of the supplier, not a wait for anything.
        std::thread::sleep(Duration::from_millis(random.random_range(10..60)));
    }
    dropped
}

#[test]
fn chaos_of_loads_leaves_exactly_the_right_rows() {
    let kills = number_of("VADEGATE_KILLS", 10);
    let seed = number_of("VADEGATE_SEED", u64::from(std::process::id()));
    eprintln!("chaos of loads: {kills} kills, seed {seed}");
    let mut server = Server::start("trust", "none");
    let in_server = server.database();
    let coast = TestHome::new("");
    configure(&coast, &in_server);
    let stop = AtomicBool::new(false);
    let (service, dropped) = std::thread::scope(|scope| {
        let feeder = scope.spawn(|| feed(&coast, seed, &stop));
        let mut random = ChaCha8Rng::seed_from_u64(seed ^ 0x10AD5);
        let mut service = coast.serve();
        for _ in 0..kills {
            // The random moment of the kill.
            std::thread::sleep(Duration::from_millis(random.random_range(50..600)));
            if random.random_bool(0.5) {
                service.kill();
                service = coast.serve();
            } else {
                server.crash();
                server.go_on();
            }
        }
        stop.store(true, Ordering::Relaxed);
        (service, feeder.join().unwrap())
    });
    let mut left = usize::MAX;
    while left > 0 {
        wait("fewer files are left", || {
            // Files are moved when a pass has loaded all that it took: loading is progress too.
            let gates = coast.json("gates");
            let counts = gates.as_array().unwrap().iter().map(|gate| &gate["counts"]["ready"]);
            let ready: u64 = counts.filter_map(serde_json::Value::as_u64).sum();
            let now = coast.files("drops").len() + usize::try_from(ready).unwrap();
            (now < left).then(|| left = now)
        });
    }
    wait("the ledger has it all", || {
        let gates = coast.json("gates");
        let open = ["ready", "working", "worked", "arriving", "held"];
        let mut counts = gates.as_array().unwrap().iter().map(|gate| &gate["counts"]);
        counts.all(|counts| open.iter().all(|state| counts[*state] == 0)).then_some(())
    });
    assert_eq!(service.stop(), Some(0));
    let in_file = Db::sqlite(&coast.path("out/sound.db"));
    for (gate, files) in &dropped {
        let db = if *gate == "file" { &in_file } else { &in_server };
        let by_file = "n, count(*), count(DISTINCT row), count(DISTINCT entry)";
        let found = db.rows(&format!("SELECT {by_file} FROM {gate} GROUP BY n ORDER BY n"));
        let expected: Vec<String> =
            files.iter().map(|(number, rows)| format!("{number}|{rows}|{rows}|1")).collect();
        assert_eq!(found, expected, "{gate}");
        let marked = "count(*), count(DISTINCT entry), sum(rows)";
        let marked = db.rows(&format!("SELECT {marked} FROM vadegate_loads WHERE gate = '{gate}'"));
        let rows: u32 = files.values().sum();
        assert_eq!(marked, [format!("{0}|{0}|{rows}", files.len())], "{gate}");
        assert_eq!(coast.files(&format!("archive/{gate}")).len(), files.len(), "{gate}");
    }
    eprintln!("chaos of loads: {} files", dropped.values().map(BTreeMap::len).sum::<usize>());
}
