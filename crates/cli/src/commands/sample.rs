//! `sample`: what is in a file.

use std::fs::File;
use std::path::Path;
use std::sync::atomic::AtomicU64;

use vadegate_core::ask::Sample as Found;
use vadegate_core::config::draft::{DraftTable, DraftWork, GateDraft, as_written};
use vadegate_core::pattern::split_name;
use vadegate_tables::Bytes;
use vadegate_tables::sample::{Bound, SampleColumn, SampleTable, sample as look_into};

use super::keeping::with_bar;
use super::merge::reading;
use crate::args::Sample;
use crate::failure::Failure;
use crate::show;

/// First rows that are printed, and columns of them.
const ROWS: usize = 10;
const COLUMNS: usize = 8;

pub fn sample(args: &Sample) -> Result<(), Failure> {
    let shown = args.file.display();
    let reading = reading(&args.dialect)?;
    let failed = |why: String| Failure::Failed(format!("`{shown}`: {why}"));
    let file = File::open(&args.file)
        .map_err(|error| Failure::Failed(format!("`{shown}` cannot be read: {error}")))?;
    if file.metadata()?.is_dir() {
        return Err(Failure::Wrong(format!("`{shown}` is a folder; name one file in it")));
    }
    let bound = Bound { rows: if args.rows == 0 { u64::MAX } else { args.rows }, tables: 100 };
    let read = AtomicU64::new(0);
    let bytes = Bytes { read: Some(&read), ..Bytes::of(&file) };
    let look = || look_into(bytes, &reading, bound);
    let found = if args.rows == 0 {
        with_bar("looking", file.metadata()?.len(), &read, look)
    } else {
        look()
    };
    let found = found.map_err(|fault| failed(fault.to_string()))?;
    if args.json {
        return show::json(&found);
    }
    let Some(first) = found.tables.first() else {
        return show::line(&format!("{shown}: {}, in which no table stands.", found.format));
    };
    if args.schema {
        return show::json(&first.layout().to_schema());
    }
    if args.toml {
        return show::line(&toml(args, &found));
    }
    let mut facts = vec![found.format.clone()];
    facts.extend(found.packed.map(|packing| format!("compressed ({})", packing.word())));
    facts.extend(found.encoding.map(str::to_owned));
    facts.extend(found.delimiter.as_deref().map(|text| match text {
        "\t" => "separated by tabs".to_owned(),
        text => format!("separated by `{text}`"),
    }));
    show::line(&format!("{shown}: {}", facts.join(", ")))?;
    found.tables.iter().try_for_each(print)
}

fn print(table: &SampleTable) -> Result<(), Failure> {
    show::line("")?;
    let more = match table.about {
        Some(about) => format!(" of about {}", show::grouped(rounded(about))),
        None if table.more => " and more".to_owned(),
        None => String::new(),
    };
    let sheet = table.sheet.as_ref().map(|sheet| format!("sheet `{sheet}`: ")).unwrap_or_default();
    let rows = match more.as_str() {
        "" => show::counted(table.rows, "row", "rows"),
        more => format!("{}{more} rows", show::grouped(table.rows)),
    };
    let columns = show::counted(table.columns.len() as u64, "column", "columns");
    show::line(&format!("{sheet}{rows}, {columns}"))?;
    if !table.columns.is_empty() {
        let mut columns =
            show::table(&["COLUMN", "TYPE", "EMPTY", "DIFFERENT", "LEAST", "GREATEST", "BARS"]);
        for one in &table.columns {
            let plus = if one.different_more { "+" } else { "" };
            columns.add_row([
                show::cell(&one.name),
                show::cell(one.kind),
                show::count(one.empty),
                show::cell(format!("{}{plus}", show::grouped(one.different))),
                show::cell(short(one.least.as_deref().unwrap_or_default())),
                show::cell(short(one.most.as_deref().unwrap_or_default())),
                show::cell(bars(one)),
            ]);
        }
        show::unbroken(&mut columns, &[1, 2, 3, 6]);
        show::print(&columns)?;
    }
    if !table.first.is_empty() {
        show::line("")?;
        let shown = table.columns.len().min(COLUMNS);
        let names: Vec<&str> =
            table.columns.iter().take(shown).map(|one| one.name.as_str()).collect();
        let mut rows = show::table(&names);
        for row in table.first.iter().take(ROWS) {
            let cell =
                |cell: &Option<String>| show::cell(short(cell.as_deref().unwrap_or_default()));
            rows.add_row(row.iter().take(shown).map(cell));
        }
        show::print(&rows)?;
        if table.columns.len() > shown {
            let rest: Vec<&str> =
                table.columns[shown..].iter().map(|one| one.name.as_str()).collect();
            show::line(&format!("and the columns {}", rest.join(", ")))?;
        }
    }
    if let Some(fault) = &table.fault {
        show::line(&format!("What follows cannot be read: {fault}"))?;
    }
    Ok(())
}

/// A number that is only about right, to two digits.
fn rounded(number: u64) -> u64 {
    let step = 10_u64.pow(number.checked_ilog10().unwrap_or(0).saturating_sub(1));
    number.saturating_add(step / 2) / step * step
}

fn short(text: &str) -> String {
    let line = text.replace(['\n', '\r'], " ");
    match line.char_indices().nth(30) {
        Some((end, _)) => format!("{}…", &line[..end]),
        None => line,
    }
}

/// The distribution of a column, a block of some height for each bar.
fn bars(column: &SampleColumn) -> String {
    const BLOCKS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let most = column.bars.iter().map(|bar| bar.count).max().unwrap_or(0);
    let block = |count: u64| match count {
        0 => ' ',
        count => BLOCKS[((count * 8).div_ceil(most.max(1)) as usize - 1).min(7)],
    };
    column.bars.iter().map(|bar| block(bar.count)).collect()
}

/// A gate for such files.
fn toml(args: &Sample, found: &Found) -> String {
    let name = args.file.file_name().unwrap_or_default().to_string_lossy();
    let (stem, ext) = split_name(&name);
    let letters = stem.chars().take_while(|c| c.is_ascii_alphabetic() || *c == '-');
    let gate = match letters.collect::<String>().to_lowercase().trim_matches('-') {
        "" => "tables".to_owned(),
        letters => letters.to_owned(),
    };
    let absolute = std::path::absolute(&args.file).unwrap_or_else(|_| args.file.clone());
    let folder = absolute.parent().unwrap_or(Path::new("/"));
    // As it is written in a configuration of the folder in which one is.
    let here = std::env::current_dir().unwrap_or_default();
    let table = DraftTable::of(found).unwrap_or_default();
    let draft = GateDraft {
        drop: as_written(folder, &here),
        take: vec![format!("*.{ext}")],
        work: DraftWork::Merge {
            into: format!("out/{gate}.csv"),
            table: DraftTable { preamble: args.dialect.preamble, ..table },
        },
        archive: Some(format!("archive/{gate}")),
        hold: None,
        name: gate,
    };
    draft.to_toml().trim_end().to_owned()
}
