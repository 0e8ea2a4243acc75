//! Staging tables: the rows of many sources into hidden files.

use std::io::{self, Write};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;

use vadegate_tables::{Account, Input, Merger, Packing, Plan};

use crate::files::at::At;
use crate::filing::staging::Staging;
use crate::ledger::requests::MadeOutput;
use crate::work::outcome::Failure;
use crate::work::tables::source::{Source, copy_all, refused, strictest_mode};

/// What was staged.
pub(crate) struct Staged {
    pub rows: MadeOutput,
    /// The rows that were set aside, when there are any.
    pub rejects: Option<MadeOutput>,
    pub account: Account,
}

/// How the staged bytes begin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct StagePreamble {
    /// With the header line.
    pub header: bool,
    /// With a line end, because the output's last line lacks one.
    pub line_end: bool,
    /// With the rows of this output, which is written anew.
    pub base: Option<PathBuf>,
    /// Whether the bytes are summed as they are written.
    pub summed: bool,
    /// Permissions of what is staged; without them those of the strictest source.
    pub mode: Option<u32>,
}

/// Where rows that are set aside are staged.
pub(crate) struct RejectsAt<'a> {
    pub staged: &'a At,
    /// Whether the file begins with its header.
    pub header: bool,
}

/// `out/tide.csv` with the ending `rejects.csv` is `out/tide.rejects.csv`.
pub(crate) fn with_ending(output: &Path, ending: &str) -> PathBuf {
    let name = output.file_name().unwrap_or_default().to_string_lossy();
    let (name, _) = Packing::by_name(&name);
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    output.with_file_name(format!("{stem}.{ending}"))
}

/// Writes the rows of all sources to `staged` and makes them durable. A writer that gives
/// up (over a full disk, say) has failed the output, and no source.
pub(crate) fn stage(
    plan: Plan,
    sources: &[Source],
    staged: &At,
    opening: &StagePreamble,
    rejects: Option<&RejectsAt<'_>>,
    stopping: &AtomicBool,
) -> Result<Staged, Failure> {
    let write = || write_all(plan, sources, staged, opening, rejects, stopping);
    catch_unwind(AssertUnwindSafe(write)).unwrap_or_else(|panic| {
        let why = crate::words::panic_words(&*panic);
        Err(Failure::Output(io::Error::other(format!("its writer gave up: {why}"))))
    })
}

fn write_all(
    plan: Plan,
    sources: &[Source],
    staged: &At,
    opening: &StagePreamble,
    rejects: Option<&RejectsAt<'_>>,
    stopping: &AtomicBool,
) -> Result<Staged, Failure> {
    let mode = opening.mode.unwrap_or_else(|| strictest_mode(sources));
    let create = |place| Staging::create(place, opening.summed, mode).map_err(Failure::Output);
    let mut rows = create(staged)?;
    if opening.line_end {
        rows.write_all(b"\n").map_err(Failure::Output)?;
    }
    let mut aside = match rejects {
        Some(rejects) => Some(create(rejects.staged)?),
        None => None,
    };
    let mut merger = Merger::begin(Box::new(&mut rows), plan, opening.header).map_err(refused)?;
    if let (Some(aside), Some(rejects)) = (&mut aside, rejects) {
        merger.set_aside_to(Box::new(aside), rejects.header).map_err(refused)?;
    }
    if let Some(base) = &opening.base {
        let opened = staged.reach().at(base).and_then(|at| at.open());
        let file = opened.map_err(Failure::Output)?;
        let name = base.display().to_string();
        let input =
            Input { name: &name, file: &file, added: &[], sheet: None, read: None, stop: None };
        merger.copy(&input).map_err(refused)?;
    }
    copy_all(&mut merger, sources, stopping, |_| ())?;
    let account = merger.finish().map_err(refused)?;
    let json = serde_json::to_string(&account).unwrap_or_default();
    let rejects = match aside {
        Some(aside) if account.set_aside > 0 => {
            Some(aside.finish(account.set_aside, None).map_err(Failure::Output)?)
        }
        _ => None,
    };
    let rows = rows.finish(account.rows_out, Some(json)).map_err(Failure::Output)?;
    Ok(Staged { rows, rejects, account })
}
