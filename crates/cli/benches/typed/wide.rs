//! Wide tables: as many cells in 25, 2,500 and 16,384 columns.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::Command;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use super::{ROUNDS, common, middle};

const WIDTHS: [usize; 3] = [25, 2_500, 16_384];
const CELLS: usize = 10_000_000;

pub fn wide(home: &Path) {
    println!("wide tables, {} million cells of decimals, types guessed", CELLS / 1_000_000);
    for out in ["wide-out.parquet", "wide-out.jsonl"] {
        let mut narrow = None;
        for width in WIDTHS {
            let source = home.join(format!("wide-{width}.csv"));
            if !source.is_file() {
                make(&source, width);
            }
            let mut memory: f64 = 0.0;
            let rounds: Vec<f64> = (0..ROUNDS)
                .map(|_| {
                    let mut command = Command::new(env!("CARGO_BIN_EXE_vadegate"));
                    let args = ["merge", "--exists", "replace", "-o", out];
                    let took = common::run(command.args(args).arg(&source).current_dir(home));
                    assert_eq!(took.code, Some(0), "{width} columns");
                    memory = memory.max(took.memory);
                    took.seconds
                })
                .collect();
            let seconds = middle(rounds.into_iter());
            let narrow = *narrow.get_or_insert(seconds);
            println!(
                "  {out:<18} {width:>6} columns {seconds:>8.2} s {memory:>6.0} MiB   {:.1} times that of {} columns",
                seconds / narrow,
                WIDTHS[0]
            );
        }
    }
}

fn make(path: &Path, width: usize) {
    let mut random = ChaCha8Rng::seed_from_u64(3);
    let mut out = BufWriter::new(File::create(path).expect("a file"));
    let line = |cells: Vec<String>| cells.join(",");
    let names = line((0..width).map(|at| format!("level_{at}_m")).collect());
    writeln!(out, "{names}").expect("the header");
    for _ in 0..CELLS / width {
        let mut level = || {
            let any: u32 = random.random();
            format!("{}.{:02}", any % 8, any / 8 % 100)
        };
        writeln!(out, "{}", line((0..width).map(|_| level()).collect())).expect("a row");
    }
    out.flush().expect("the rest");
}
