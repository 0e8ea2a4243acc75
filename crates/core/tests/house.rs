//! The rules of the house: which crate may know what.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::fs;
use std::path::{Path, PathBuf};

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            found.push(path);
        }
    }
}

/// Dependencies that a manifest names for the crate itself, not for its tests.
fn dependencies(crate_name: &str) -> String {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let manifest = fs::read_to_string(crates.join(crate_name).join("Cargo.toml")).unwrap();
    let begin = manifest.split_once("[dependencies]").unwrap().1;
    begin.split("\n[").next().unwrap().to_owned()
}

#[test]
fn imports_run_one_way() {
    for (crate_name, forbidden) in [
        ("tables", &["vadegate-", "rusqlite", "actix", "clap", "notify", "tokio."][..]),
        // The driver of PostgreSQL has a runtime inside; the core itself knows none.
        ("core", &["vadegate-service", "actix", "clap", "tokio.", "ureq", "comfy-table"]),
        ("service", &["clap", "comfy-table", "indicatif", "ureq"]),
    ] {
        let named = dependencies(crate_name);
        for word in forbidden {
            assert!(!named.contains(word), "{crate_name} must not depend on {word}");
        }
    }
}

#[test]
fn the_core_and_the_tables_print_nothing_and_read_no_arguments() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut files = Vec::new();
    for crate_name in ["core", "tables"] {
        sources(&crates.join(crate_name).join("src"), &mut files);
    }
    assert!(files.len() > 30, "the sources were found");
    for file in files {
        let text = fs::read_to_string(&file).unwrap();
        for word in ["println!", "eprintln!", "print!(", "std::env::args", "process::exit"] {
            assert!(!text.contains(word), "{} has {word}", file.display());
        }
    }
}

#[test]
fn every_test_that_the_promises_name_is_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().parent().unwrap();
    let page = fs::read_to_string(root.join("docs/promises.md")).unwrap();
    let mut files = Vec::new();
    sources(&root.join("crates"), &mut files);
    let code: String = files.iter().map(|file| fs::read_to_string(file).unwrap()).collect();
    let quoted: Vec<&str> = page.split('`').skip(1).step_by(2).collect();
    let mut named = 0;
    for word in quoted {
        if word.contains('_') && word.chars().all(|c| c.is_ascii_lowercase() || c == '_') {
            assert!(code.contains(&format!("fn {word}(")), "there is no test {word}");
            named += 1;
        } else if word.ends_with(".rs") {
            let there = files.iter().any(|file| file.ends_with(word));
            assert!(there, "there is no file {word}");
        }
    }
    assert!(named > 10, "{named} tests are named");
}
