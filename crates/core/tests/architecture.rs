//! The rules of the architecture: which crate and which room may know what.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::collections::{BTreeMap, BTreeSet};
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
        ("places", &["vadegate-", "rusqlite", "actix", "clap"][..]),
        ("tables", &["vadegate-", "rusqlite", "actix", "clap", "notify", "tokio."]),
        // The driver of PostgreSQL has a runtime inside; the core itself knows none.
        ("core", &["vadegate-service", "actix", "clap", "tokio.", "comfy-table"]),
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
    for crate_name in ["core", "tables", "places"] {
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

/// The second part of each `Result<_, _>` that is written in a code.
fn errors_of(code: &str) -> impl Iterator<Item = String> + '_ {
    code.match_indices("Result<").filter_map(|(at, word)| {
        let inside = &code[at + word.len()..];
        let (mut depth, mut comma) = (0, None);
        for (at, letter) in inside.char_indices() {
            match letter {
                '<' | '(' | '[' => depth += 1,
                // The arrow of a function has no other side.
                '>' if inside[..at].ends_with('-') => {}
                '>' | ')' | ']' if depth == 0 => {
                    return comma.map(|comma: usize| inside[comma + 1..at].trim().to_owned());
                }
                '>' | ')' | ']' => depth -= 1,
                ',' if depth == 0 && comma.is_none() => comma = Some(at),
                _ => {}
            }
        }
        None
    })
}

#[test]
fn what_goes_wrong_has_a_type() {
    let found: Vec<String> =
        errors_of("fn a(b: fn() -> Result<(u8, T), String>) -> Result<Vec<Result<A, B>>, C<D>> {")
            .collect();
    assert_eq!(found, ["String", "C<D>", "B"]);
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut files = Vec::new();
    for crate_name in ["core", "tables", "places", "service", "cli"] {
        sources(&crates.join(crate_name).join("src"), &mut files);
    }
    let (mut results, mut texts) = (0, Vec::new());
    for file in files.iter().filter(|file| !file.display().to_string().contains("tests")) {
        let text = fs::read_to_string(file).unwrap();
        // What stands in the tests of a file is of the tests.
        let code = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or(&text);
        for error in errors_of(code) {
            results += 1;
            if error.trim_end_matches(',').trim() == "String" {
                texts.push(file.display().to_string());
            }
        }
    }
    assert!(results > 1000, "only {results} were found");
    assert!(texts.is_empty(), "a reason is a text in {texts:#?}");
}

/// Numbers of the ledger that are plain numbers in this code.
fn plain_numbers(code: &str) -> Vec<&str> {
    let kinds = [
        "entry",
        "entries",
        "batch",
        "output",
        "outputs",
        "change",
        "upload",
        "remote",
        "session",
        "token",
        "message",
        "config_change",
    ];
    let plain = ["i64", "Option<i64>", "Vec<i64>", "&[i64]"];
    let is_plain = |line: &&str| {
        let words: Vec<&str> = line.split([' ', ',', '(', ')']).collect();
        words.windows(2).any(|pair| {
            pair[0].strip_suffix(':').is_some_and(|name| kinds.contains(&name))
                && plain.contains(&pair[1])
        })
    };
    code.lines().filter(is_plain).collect()
}

#[test]
fn numbers_of_the_ledger_have_types_of_their_own() {
    assert_eq!(plain_numbers("fn a(entry: i64, b: u8)\nb: i64,\n    batch: Option<i64>,").len(), 2);
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut files = Vec::new();
    for crate_name in ["core", "service", "cli"] {
        sources(&crates.join(crate_name).join("src"), &mut files);
    }
    // Patterns do not know the ledger: there it is a number to be written into a name.
    files.retain(|file| !file.display().to_string().contains("/pattern/"));
    let mut typed = 0;
    for file in files {
        let text = fs::read_to_string(&file).unwrap();
        typed += text.matches("EntryId").count();
        assert_eq!(plain_numbers(&text), [""; 0], "{}", file.display());
    }
    assert!(typed > 200, "only {typed} were found");
}

#[test]
fn every_test_that_the_promises_name_is_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().parent().unwrap();
    let page = fs::read_to_string(root.join("docs/promises.md")).unwrap();
    let mut files = Vec::new();
    sources(&root.join("crates"), &mut files);
    let code: Vec<(&Path, String)> =
        files.iter().map(|file| (file.as_path(), fs::read_to_string(file).unwrap())).collect();
    let mut named = 0;
    for line in page.lines() {
        // The tests that were named since the last file, and the files that follow them.
        let (mut tests, mut homes): (Vec<&str>, Vec<&str>) = (Vec::new(), Vec::new());
        let mut held = |tests: &mut Vec<&str>, homes: &mut Vec<&str>| {
            for test in tests.drain(..) {
                let mut places =
                    code.iter().filter(|(_, text)| text.contains(&format!("fn {test}(")));
                let found = places.any(|(file, _)| homes.iter().any(|home| file.ends_with(home)));
                assert!(found, "there is no test {test} in {homes:?}");
                named += 1;
            }
            homes.clear();
        };
        for word in line.split('`').skip(1).step_by(2) {
            if word.contains('_') && word.chars().all(|c| c.is_ascii_lowercase() || c == '_') {
                if !homes.is_empty() {
                    held(&mut tests, &mut homes);
                }
                tests.push(word);
            } else if word.ends_with(".rs") {
                let there = files.iter().any(|file| file.ends_with(word));
                assert!(there, "there is no file {word}");
                homes.push(word);
            }
        }
        held(&mut tests, &mut homes);
    }
    assert!(named > 10, "{named} tests are named");
}

/// The rooms of the core: each may know those before it.
const ROOMS: [&str; 19] = [
    "fault", "words", "files", "pattern", "arrivals", "settings", "ledger", "people", "filing",
    "afar", "work", "config", "dues", "check", "engine", "ask", "act", "tell", "watch",
];

/// The modules of the core by their path, with their code: without comments, tests and what
/// they only hand on.
fn modules() -> BTreeMap<String, String> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut files = Vec::new();
    sources(&root, &mut files);
    let mut modules = BTreeMap::new();
    for file in files {
        let name = file.strip_prefix(&root).unwrap().with_extension("");
        let mut parts: Vec<&str> = name.iter().map(|part| part.to_str().unwrap()).collect();
        if parts.last() == Some(&"mod") {
            parts.pop();
        }
        if matches!(parts.last(), Some(&("lib" | "tests" | "plans" | "contract"))) {
            continue;
        }
        let text = fs::read_to_string(&file).unwrap();
        let text = text.split("#[cfg(test)]\nmod tests {").next().unwrap();
        let code: Vec<&str> =
            text.lines().map(|line| line.split("//").next().unwrap_or("")).collect();
        modules.insert(parts.join("::"), code.join("\n"));
    }
    modules
}

/// Paths of a `use` tree, written out.
fn written_out(prefix: &str, tree: &str, paths: &mut Vec<String>) {
    let tree = tree.trim();
    let Some((head, rest)) = tree.split_once('{') else {
        let path = tree.split(" as ").next().unwrap_or("").trim();
        paths.push(format!("{prefix}{path}"));
        return;
    };
    let inner = rest.trim_end().strip_suffix('}').unwrap_or(rest);
    let (mut depth, mut from) = (0, 0);
    for (at, letter) in inner.char_indices() {
        match letter {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                written_out(&format!("{prefix}{head}"), &inner[from..at], paths);
                from = at + 1;
            }
            _ => {}
        }
    }
    if !inner[from..].trim().is_empty() {
        written_out(&format!("{prefix}{head}"), &inner[from..], paths);
    }
}

/// What a module imports or names, as paths below the crate.
fn named(module: &str, code: &str) -> Vec<String> {
    let mut paths = Vec::new();
    for statement in code.split(';') {
        let Some(at) = statement.rfind("use ") else { continue };
        let before = statement[..at].trim_end();
        // What is only handed on is no knowledge of it.
        if before.ends_with("pub") || before.ends_with(')') && before.contains("pub(") {
            continue;
        }
        if before.is_empty() || before.ends_with(['}', '{', ']', ';']) {
            written_out("", &statement[at + 4..], &mut paths);
        }
    }
    let letter = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
    for (at, _) in code.match_indices("crate::") {
        let end = code[at..].find(|c| !letter(c)).map_or(code.len(), |end| at + end);
        paths.push(code[at..end].to_owned());
    }
    let absolute = |path: String| match path.strip_prefix("crate::") {
        Some(path) => path.to_owned(),
        None => match path.strip_prefix("super::") {
            Some(rest) => {
                let above = module.rsplit_once("::").map_or("", |(above, _)| above);
                format!("{above}::{rest}").trim_start_matches("::").to_owned()
            }
            // A child of a module that stands in its `mod.rs`.
            None => format!("{module}::{path}"),
        },
    };
    paths.into_iter().map(absolute).collect()
}

/// Which module knows which.
fn knows() -> BTreeMap<String, BTreeSet<String>> {
    let modules = modules();
    let longest = |path: &str| {
        let parts: Vec<&str> = path.split("::").collect();
        (1..=parts.len())
            .rev()
            .map(|end| parts[..end].join("::"))
            .find(|at| modules.contains_key(at))
    };
    let of = |(module, code): (&String, &String)| {
        let known = named(module, code).iter().filter_map(|path| longest(path)).collect();
        let mut known: BTreeSet<String> = known;
        known.remove(module);
        (module.clone(), known)
    };
    modules.iter().map(of).collect()
}

#[test]
fn rooms_know_only_those_below_them() {
    let room = |module: &str| {
        let name = module.split("::").next().unwrap().to_owned();
        ROOMS.iter().position(|room| *room == name).unwrap_or_else(|| panic!("a new room: {name}"))
    };
    let mut seen = 0;
    for (module, known) in knows() {
        for other in known {
            seen += 1;
            assert!(room(&other) <= room(&module), "{module} must not know {other}");
        }
    }
    assert!(seen > 300, "{seen} imports were seen");
}

#[test]
fn no_module_knows_itself_by_way_of_others() {
    let knows = knows();
    for module in knows.keys() {
        let (mut reached, mut next) = (BTreeSet::new(), vec![(module, vec![module.as_str()])]);
        while let Some((at, way)) = next.pop() {
            for other in &knows[at] {
                assert!(other != module, "a circle: {} -> {module}", way.join(" -> "));
                if reached.insert(other) {
                    let mut way = way.clone();
                    way.push(other);
                    next.push((other, way));
                }
            }
        }
    }
}

#[test]
fn nobody_but_the_works_and_the_ledger_tells_works_apart() {
    for (module, code) in modules() {
        let room = module.split("::").next().unwrap();
        if room == "work" || module == "ledger::words" {
            continue;
        }
        let told: Vec<&str> = code.lines().filter(|line| line.contains("WorkKind::")).collect();
        let told: Vec<&&str> =
            told.iter().filter(|line| !line.contains("WorkKind::Nothing")).collect();
        assert!(told.is_empty(), "{module} tells works apart: {told:?}");
    }
}
