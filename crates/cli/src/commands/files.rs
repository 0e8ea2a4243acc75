//! `files`: what lies in drop folders, and in any folder inside the roots.

use std::io::{self, Write};

use comfy_table::Cell;
use serde::Serialize;
use vadegate_core::arrivals::{Kind, Seen, sweep};
use vadegate_core::config::Config;
use vadegate_core::engine::{FileView, Verdict};
use vadegate_core::pattern::{Pattern, natural_order, split_name};

use crate::args::{FileOrder, Files};
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

/// One thing in a folder; what a gate makes of it, if the folder is a gate's.
#[derive(Serialize)]
#[serde(untagged)]
enum Listed {
    OfGate(FileView),
    InFolder(Plain),
}

/// One thing in a folder that is no gate's.
#[derive(Serialize)]
struct Plain {
    path: String,
    name: String,
    kind: Kind,
    bytes: u64,
    modified: jiff::Timestamp,
    owner: u32,
}

impl Listed {
    fn path(&self) -> &str {
        match self {
            Listed::OfGate(file) => &file.path,
            Listed::InFolder(plain) => &plain.path,
        }
    }

    fn kind(&self) -> Kind {
        match self {
            Listed::OfGate(file) => file.kind,
            Listed::InFolder(plain) => plain.kind,
        }
    }

    /// Its size; nothing but a file has one.
    fn bytes(&self) -> u64 {
        let bytes = match self {
            Listed::OfGate(file) => file.bytes,
            Listed::InFolder(plain) => plain.bytes,
        };
        if self.kind() == Kind::File { bytes } else { 0 }
    }

    fn modified(&self) -> jiff::Timestamp {
        match self {
            Listed::OfGate(file) => file.modified,
            Listed::InFolder(plain) => plain.modified,
        }
    }
}

pub fn files(config: Config, args: &Files) -> Result<(), Failure> {
    let pattern = args.pattern.as_deref().map(|text| Pattern::parse(text, false)).transpose();
    let pattern = pattern.map_err(|error| Failure::Wrong(error.to_string()))?;
    let (mut listed, unread) = gather(config, args)?;
    listed.retain(|one| {
        let verdict = match (&args.verdict, one) {
            (None, _) => true,
            (Some(wanted), Listed::OfGate(file)) => word(file.verdict) == wanted,
            (Some(_), Listed::InFolder(_)) => false,
        };
        verdict && pattern.as_ref().is_none_or(|pattern| pattern.is_match(one.path()))
    });
    if let Some(order) = args.order.or(args.newest.map(|_| FileOrder::Newest)) {
        sort(&mut listed, order);
    }
    if let Some(newest) = args.newest {
        listed.retain(|one| one.kind() == Kind::File);
        listed.truncate(newest);
    }
    print(&listed, args)?;
    if unread.is_empty() { Ok(()) } else { Err(Failure::Failed(unread.join("\nvadegate: "))) }
}

/// What lies in the gates and folders asked for, and what could not be read.
fn gather(config: Config, args: &Files) -> Result<(Vec<Listed>, Vec<String>), Failure> {
    let (mut listed, mut unread) = (Vec::new(), Vec::new());
    let all = args.gates.is_empty();
    let names: Vec<String> = if all {
        config.gates.iter().map(|gate| gate.name.clone()).collect()
    } else {
        args.gates.clone()
    };
    let (folders, gates): (Vec<String>, Vec<String>) =
        names.into_iter().partition(|name| config.gate(name).is_none() && is_folder(name));
    for folder in &folders {
        let absolute = std::path::absolute(folder)?;
        config.really_within_roots(&absolute).map_err(Failure::Wrong)?;
        let problems =
            sweep(&absolute, u32::MAX, |seen| listed.push(Listed::InFolder(plain(seen))));
        let problems = problems.map_err(|problem| Failure::Failed(problem.to_string()))?;
        unread.extend(problems.iter().map(ToString::to_string));
    }
    if gates.is_empty() {
        return Ok((listed, unread));
    }
    let client = Client::of(config)?;
    for gate in &gates {
        match client.files(gate) {
            Ok(found) => listed.extend(found.into_iter().map(Listed::OfGate)),
            // One folder that cannot be read does not hide the others.
            Err(failure) if all => unread.push(format!("gate `{gate}`: {failure}")),
            Err(failure) => return Err(failure),
        }
    }
    Ok((listed, unread))
}

fn is_folder(name: &str) -> bool {
    std::fs::metadata(name).is_ok_and(|meta| meta.is_dir())
}

fn plain(seen: Seen) -> Plain {
    Plain {
        name: seen.path.rsplit('/').next().unwrap_or(&seen.path).to_owned(),
        path: seen.path,
        kind: seen.kind,
        bytes: seen.version.bytes,
        modified: jiff::Timestamp::from_nanosecond(i128::from(seen.version.modified_ns))
            .unwrap_or_default(),
        owner: seen.owner,
    }
}

fn sort(listed: &mut [Listed], order: FileOrder) {
    listed.sort_by(|a, b| {
        let first = match order {
            FileOrder::Name => std::cmp::Ordering::Equal,
            FileOrder::Oldest => a.modified().cmp(&b.modified()),
            FileOrder::Newest => b.modified().cmp(&a.modified()),
            FileOrder::Smallest => a.bytes().cmp(&b.bytes()),
            FileOrder::Largest => b.bytes().cmp(&a.bytes()),
        };
        first.then_with(|| natural_order(a.path(), b.path()))
    });
}

fn print(listed: &[Listed], args: &Files) -> Result<(), Failure> {
    if args.count {
        return print_counts(&[count("all", listed.iter())], args.json, false);
    }
    if args.by.is_some() {
        let mut by: std::collections::BTreeMap<String, Vec<&Listed>> = Default::default();
        for one in listed.iter().filter(|one| one.kind() == Kind::File) {
            let name = one.path().rsplit('/').next().unwrap_or_default();
            by.entry(split_name(name).1.to_lowercase()).or_default().push(one);
        }
        let counts: Vec<Counted> =
            by.iter().map(|(ext, files)| count(ext, files.iter().copied())).collect();
        return print_counts(&counts, args.json, true);
    }
    match (args.json, args.csv) {
        (true, _) => show::json(&listed),
        (_, true) => print_csv(listed),
        _ => print_table(listed, args),
    }
}

/// How many files, and how large.
#[derive(Serialize)]
struct Counted {
    ext: String,
    files: u64,
    bytes: u64,
}

fn count<'a>(ext: &str, listed: impl Iterator<Item = &'a Listed>) -> Counted {
    let files = listed.filter(|one| one.kind() == Kind::File);
    let (mut number, mut bytes) = (0, 0);
    files.for_each(|one| {
        number += 1;
        bytes += one.bytes();
    });
    Counted { ext: ext.to_owned(), files: number, bytes }
}

fn print_counts(counts: &[Counted], json: bool, by_ext: bool) -> Result<(), Failure> {
    if json {
        return match (by_ext, counts.first()) {
            (false, Some(all)) => {
                show::json(&serde_json::json!({ "files": all.files, "bytes": all.bytes }))
            }
            _ => show::json(&counts),
        };
    }
    if let (false, Some(all)) = (by_ext, counts.first()) {
        return show::line(&format!(
            "{} files, {}",
            show::grouped(all.files),
            show::bytes(all.bytes)
        ));
    }
    let mut table = show::table(&["ENDING", "FILES", "SIZE"]);
    for one in counts {
        table.add_row([
            Cell::new(if one.ext.is_empty() { "(none)" } else { &one.ext }),
            show::count(one.files),
            Cell::new(show::bytes(one.bytes)).set_alignment(comfy_table::CellAlignment::Right),
        ]);
    }
    show::print(&table)
}

/// Delimited text (RFC 4180), row by row.
fn print_csv(listed: &[Listed]) -> Result<(), Failure> {
    let mut out = io::BufWriter::new(io::stdout().lock());
    writeln!(out, "gate,path,kind,bytes,modified,owner,verdict,because,entry")?;
    for one in listed {
        let (gate, owner, verdict, because, entry) = match one {
            Listed::OfGate(file) => (
                file.gate.as_str(),
                file.owner,
                word(file.verdict),
                file.because.as_str(),
                file.entry.map(|entry| entry.to_string()).unwrap_or_default(),
            ),
            Listed::InFolder(plain) => ("", plain.owner, "", "", String::new()),
        };
        let cells = [
            gate,
            one.path(),
            kind(one.kind()),
            &one.bytes().to_string(),
            &one.modified().to_string(),
            &owner.to_string(),
            verdict,
            because,
            &entry,
        ];
        writeln!(out, "{}", cells.map(quoted).join(","))?;
    }
    out.flush()?;
    Ok(())
}

fn quoted(cell: &str) -> String {
    if cell.contains([',', '"', '\n', '\r']) {
        format!("\"{}\"", cell.replace('"', "\"\""))
    } else {
        cell.to_owned()
    }
}

fn print_table(listed: &[Listed], args: &Files) -> Result<(), Failure> {
    if listed.is_empty() {
        let narrowed = args.verdict.is_some() || args.pattern.is_some();
        return show::line(if narrowed { "No file is so." } else { "Nothing lies there." });
    }
    let plain = listed.iter().all(|one| matches!(one, Listed::InFolder(_)));
    let mut table = if plain {
        show::table(&["PATH", "SIZE", "MODIFIED", "OWNER"])
    } else {
        show::table(&["GATE", "PATH", "SIZE", "MODIFIED", "VERDICT", "BECAUSE"])
    };
    for one in listed {
        let size = Cell::new(size(one)).set_alignment(comfy_table::CellAlignment::Right);
        let modified = Cell::new(show::ago(Some(one.modified())));
        match one {
            Listed::InFolder(file) if plain => {
                table.add_row([Cell::new(&file.path), size, modified, Cell::new(file.owner)]);
            }
            Listed::InFolder(file) => {
                table.add_row([Cell::new(""), Cell::new(&file.path), size, modified]);
            }
            Listed::OfGate(file) => {
                let (verdict, because) = (show::word(word(file.verdict)), Cell::new(&file.because));
                let (gate, path) = (Cell::new(&file.gate), Cell::new(&file.path));
                table.add_row([gate, path, size, modified, verdict, because]);
            }
        }
    }
    if plain {
        show::unbroken(&mut table, &[1, 2, 3]);
    } else {
        show::unbroken(&mut table, &[0, 2, 3, 4]);
        show::at_least(&mut table, 1, 24);
        show::at_least(&mut table, 5, 28);
    }
    show::print(&table)
}

/// The size of a file; of anything else, what it is.
fn size(one: &Listed) -> String {
    match one.kind() {
        Kind::File => show::bytes(one.bytes()),
        other => kind(other).to_owned(),
    }
}

fn kind(kind: Kind) -> &'static str {
    match kind {
        Kind::File => "file",
        Kind::Folder => "folder",
        Kind::Link => "link",
        Kind::Special => "special",
    }
}

fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Take => "take",
        Verdict::Wait => "wait",
        Verdict::Leave => "leave",
        Verdict::Repeat => "repeat",
        Verdict::Known => "known",
        Verdict::Unreadable => "unreadable",
    }
}
