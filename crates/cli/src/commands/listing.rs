//! Printing what `files` lists. Up to some thousands they stand in order of name;
//! more go by as they come, so that a million need no memory.

use std::collections::{BTreeMap, BinaryHeap};
use std::io::{self, Write};

use serde::Serialize;
use vadegate_core::arrivals::Kind;
use vadegate_core::ask::quoted;
use vadegate_core::pattern::{natural_order, split_name};

use super::listed::{Listed, word};
use crate::args::{FileOrder, Files};
use crate::failure::Failure;
use crate::show;

/// So many are put in order and fitted in one table; when there are more, they are
/// printed in the folder's own order, in pieces of this many.
const PIECE: usize = 20_000;

/// What was listed, on its way to being printed.
pub struct Listing<'a> {
    args: &'a Files,
    kept: Vec<Listed>,
    newest: BinaryHeap<OldestFirst>,
    counted: BTreeMap<String, Counted>,
    /// How many were printed already.
    printed: usize,
}

impl<'a> Listing<'a> {
    pub fn of(args: &'a Files) -> Self {
        let (kept, newest) = (Vec::new(), BinaryHeap::new());
        Listing { args, kept, newest, counted: BTreeMap::new(), printed: 0 }
    }

    pub fn add(&mut self, one: Listed) -> Result<(), Failure> {
        if self.args.count || self.args.by.is_some() {
            self.count(&one);
        } else if let Some(newest) = self.args.newest {
            if one.kind() == Kind::File {
                self.newest.push(OldestFirst(one));
            }
            if self.newest.len() > newest {
                self.newest.pop();
            }
        } else {
            self.kept.push(one);
            if self.args.order.is_none() && self.kept.len() > PIECE {
                if self.printed == 0 && self.args.json {
                    writeln!(io::stdout(), "[")?;
                }
                self.print_piece()?;
            }
        }
        Ok(())
    }

    pub fn finish(mut self) -> Result<(), Failure> {
        if self.args.by.is_some() {
            let counts: Vec<Counted> = self.counted.into_values().collect();
            return print_counts(&counts, self.args.json, true);
        }
        if self.args.count {
            let all = self.counted.into_values().next();
            let nothing = || Counted { ext: String::new(), files: 0, bytes: 0 };
            return print_counts(&[all.unwrap_or_else(nothing)], self.args.json, false);
        }
        if self.args.newest.is_some() {
            let newest = std::mem::take(&mut self.newest);
            self.kept = newest.into_sorted_vec().into_iter().map(|one| one.0).collect();
        } else if let Some(order) = self.args.order {
            sort(&mut self.kept, order);
        } else if self.printed == 0 {
            sort(&mut self.kept, FileOrder::Name);
        }
        if self.args.json {
            if self.printed == 0 {
                return show::json(&self.kept);
            }
            self.print_piece()?;
            return show::line("]");
        }
        if self.printed == 0 && self.kept.is_empty() && !self.args.csv {
            let narrowed = self.args.verdict.is_some() || self.args.pattern.is_some();
            return show::line(if narrowed { "No file is so." } else { "Nothing lies there." });
        }
        self.print_piece()
    }

    fn print_piece(&mut self) -> Result<(), Failure> {
        let piece = std::mem::take(&mut self.kept);
        match (self.args.json, self.args.csv) {
            (true, _) => print_objects(&piece, self.printed == 0)?,
            (_, true) => print_csv(&piece, self.printed == 0)?,
            _ if piece.is_empty() => {}
            _ => print_table(&piece)?,
        }
        self.printed += piece.len();
        Ok(())
    }

    fn count(&mut self, one: &Listed) {
        if one.kind() != Kind::File {
            return;
        }
        let name = one.path().rsplit('/').next().unwrap_or_default();
        let ext =
            if self.args.by.is_some() { split_name(name).1.to_lowercase() } else { "all".into() };
        let of_ext = self.counted.entry(ext.clone());
        let counted = of_ext.or_insert(Counted { ext, files: 0, bytes: 0 });
        counted.files += 1;
        counted.bytes += one.bytes();
    }
}

/// A file whose order is its age, so that a heap gives up the oldest first.
struct OldestFirst(Listed);

impl Ord for OldestFirst {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        let newer = other.0.modified().cmp(&self.0.modified());
        newer.then_with(|| natural_order(self.0.path(), other.0.path()))
    }
}

impl PartialOrd for OldestFirst {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for OldestFirst {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for OldestFirst {}

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

/// The inside of a JSON array, an object a line.
fn print_objects(listed: &[Listed], first: bool) -> Result<(), Failure> {
    let mut out = io::BufWriter::new(io::stdout().lock());
    for (at, one) in listed.iter().enumerate() {
        if at > 0 || !first {
            writeln!(out, ",")?;
        }
        serde_json::to_writer(&mut out, one).map_err(io::Error::other)?;
    }
    writeln!(out)?;
    out.flush()?;
    Ok(())
}

/// How many files, and how large.
#[derive(Serialize)]
struct Counted {
    ext: String,
    files: u64,
    bytes: u64,
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
            show::cell(if one.ext.is_empty() { "(none)" } else { &one.ext }),
            show::count(one.files),
            show::cell(show::bytes(one.bytes)).set_alignment(comfy_table::CellAlignment::Right),
        ]);
    }
    show::print(&table)
}

/// Delimited text (RFC 4180), row by row.
fn print_csv(listed: &[Listed], header: bool) -> Result<(), Failure> {
    let mut out = io::BufWriter::new(io::stdout().lock());
    if header {
        writeln!(out, "gate,path,kind,bytes,modified,owner,verdict,because,entry")?;
    }
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

fn print_table(listed: &[Listed]) -> Result<(), Failure> {
    let plain = listed.iter().all(|one| matches!(one, Listed::InFolder(_)));
    let mut table = if plain {
        show::table(&["PATH", "SIZE", "MODIFIED", "OWNER"])
    } else {
        show::table(&["GATE", "PATH", "SIZE", "MODIFIED", "VERDICT", "BECAUSE"])
    };
    for one in listed {
        let size = show::cell(size(one)).set_alignment(comfy_table::CellAlignment::Right);
        let modified = show::cell(show::ago(Some(one.modified())));
        match one {
            Listed::InFolder(file) if plain => {
                table.add_row([show::cell(&file.path), size, modified, show::cell(file.owner)]);
            }
            Listed::InFolder(file) => {
                table.add_row([show::cell(""), show::cell(&file.path), size, modified]);
            }
            Listed::OfGate(file) => {
                let (verdict, because) =
                    (show::word(word(file.verdict)), show::cell(&file.because));
                let (gate, path) = (show::cell(&file.gate), show::cell(&file.place));
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
