//! `merge`: many tables into one, without a gate.

use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use indicatif::HumanBytes;
use serde_json::json;
use vadegate_core::config::Exists;
use vadegate_core::pattern::{Pattern, Template};
use vadegate_core::work::hand::{HandError, HandSources, LeftOut};
use vadegate_core::work::merge::by_hand::{AdHocMerge, HandMade, HandMerge, HandPlan};
use vadegate_tables::dialect::Encoding;
use vadegate_tables::workbook::parse_range;
use vadegate_tables::{
    Header, Layout, Merged, Options, Reading, Repeated, Sheets, Stacking, Writing,
};

use super::keeping::bar;
use crate::args::{Dialect, IfThere, Merge, Misfits, Names};
use crate::failure::{FAILED, Failure};
use crate::show;

/// Sources that are told in the summary.
pub const TOLD: usize = 40;

pub fn merge(args: &Merge) -> Result<ExitCode, Failure> {
    let order = order(args)?;
    let mut plan = order.plan().map_err(|error| failure(&error))?;
    let made = match with_bar(&mut plan) {
        Ok(made) => made,
        Err(error) => {
            tell_left_out("left out", &plan.left_out);
            return Err(failure(&error));
        }
    };
    if args.json {
        let outputs: Vec<_> = made.iter().map(as_json).collect();
        let left_out = as_json_left_out(&plan.left_out);
        let earlier = &plan.earlier;
        show::json(
            &json!({ "outputs": outputs, "left_out": left_out, "earlier_outputs": earlier }),
        )?;
    } else {
        made.iter().try_for_each(print)?;
        tell_left_out("left out", &plan.left_out);
        tell_earlier(&plan.earlier);
    }
    let whole = !plan.left_out.iter().any(|one| one.faulty)
        && made.iter().all(|made| made.account.set_aside == 0);
    Ok(if whole { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

/// Names outputs of earlier merges that were taken with a folder.
fn tell_earlier(earlier: &[PathBuf]) {
    for path in earlier.iter().take(TOLD) {
        show::say(&format!(
            "taken: {}: was made by an earlier merge, so its rows may stand twice; leave it out with --take, or name the files that are meant",
            path.display()
        ));
    }
    if let Some(more) = show::beyond(earlier.len(), TOLD) {
        show::say(&format!("taken: {more} more that were made by an earlier merge"));
    }
}

fn failure(error: &HandError) -> Failure {
    if let HandError::Faulty(faulty) = error {
        tell_left_out("faulty", faulty);
    }
    Failure::Failed(error.to_string())
}

/// Merges while a bar shows how much was read.
fn with_bar(plan: &mut HandPlan) -> Result<Vec<HandMade>, HandError> {
    let bar = bar("merging");
    bar.set_length(plan.bytes);
    let read = std::sync::Arc::clone(&plan.read);
    let stopping = AtomicBool::new(false);
    let over = AtomicBool::new(false);
    let made = std::thread::scope(|scope| {
        let shower = scope.spawn(|| {
            while !over.load(Ordering::Relaxed) {
                bar.set_position(read.load(Ordering::Relaxed));
                std::thread::park_timeout(Duration::from_millis(100));
            }
        });
        let made = plan.merge(&stopping);
        over.store(true, Ordering::Relaxed);
        shower.thread().unpark();
        made
    });
    bar.finish_and_clear();
    made
}

fn as_json(made: &HandMade) -> serde_json::Value {
    json!({
        "output": made.output,
        "bytes": made.bytes,
        "rejects": made.rejects,
        "account": made.account,
    })
}

pub fn as_json_left_out(left_out: &[LeftOut]) -> Vec<serde_json::Value> {
    let one = |one: &LeftOut| json!({ "path": one.path, "why": one.why, "faulty": one.faulty });
    left_out.iter().map(one).collect()
}

/// Tells what takes no part; of files that were not asked for only how many there are.
pub fn tell_left_out(how: &str, left_out: &[LeftOut]) {
    let (unasked, others): (Vec<_>, Vec<_>) = left_out.iter().partition(|one| one.unasked);
    for one in others.iter().take(TOLD) {
        show::say(&format!("{how}: {}: {}", one.path.display(), one.why));
    }
    if let Some(more) = show::beyond(others.len(), TOLD) {
        show::say(&format!("{how}: {more} more"));
    }
    if !unasked.is_empty() {
        let files = show::counted(unasked.len() as u64, "file", "files");
        show::say(&format!("left out, not matched by --take: {files}"));
    }
}

fn print(made: &HandMade) -> Result<(), Failure> {
    let account = &made.account;
    let sheets = account.sources.iter().any(|one| one.sheet.is_some());
    let sheet = if sheets { "SHEET" } else { "" };
    let mut table = show::table(&["SOURCE", sheet, "ROWS", "TAKEN", "SET ASIDE", "LEFT OUT"]);
    for one in account.sources.iter().take(TOLD) {
        table.add_row([
            show::cell(&one.source),
            show::cell(one.sheet.as_deref().unwrap_or_default()),
            show::count(one.rows),
            show::count(one.taken),
            show::count(one.set_aside),
            show::count(one.left_out),
        ]);
    }
    if let Some(more) = show::beyond(account.sources.len(), TOLD) {
        table.add_row([show::cell(format!("and {more} more"))]);
    }
    show::unbroken(&mut table, &[2, 3, 4, 5]);
    show::print(&table)?;
    for one in &account.united {
        show::line(&format!("united: `{}` of {} as `{}`", one.from, one.source, one.to))?;
    }
    for column in &account.columns {
        if let Some(total) = &column.total {
            show::line(&format!("total of {}: {total}", column.name))?;
        }
    }
    let emptied: u64 = account.sources.iter().map(|one| one.emptied).sum();
    if emptied > 0 {
        show::line(&format!("values emptied: {}", show::grouped(emptied)))?;
    }
    if let Some(rejects) = &made.rejects {
        show::line(&format!("set aside: {}", rejects.display()))?;
    }
    show::line(&format!(
        "{}: {} of {}, {} ({} in = {} out + {} set aside + {} left out)",
        made.output.display(),
        show::counted(account.rows_out, "row", "rows"),
        show::counted(account.columns.len() as u64, "column", "columns"),
        HumanBytes(made.bytes),
        show::grouped(account.rows_in),
        show::grouped(account.rows_out),
        show::grouped(account.set_aside),
        show::grouped(account.left_out),
    ))
}

fn template(text: &str) -> Result<Template, Failure> {
    Template::parse(text).map_err(|error| Failure::Wrong(error.to_string()))
}

/// `out/all.csv` by `<station>` is `out/all-<station>.csv`.
fn output(args: &Merge) -> Result<Template, Failure> {
    let Some(by) = &args.by else { return template(&args.output) };
    let name_at = args.output.rfind('/').map_or(0, |at| at + 1);
    let dot = args.output[name_at..].find('.').map_or(args.output.len(), |at| name_at + at);
    template(&format!("{}-{by}{}", &args.output[..dot], &args.output[dot..]))
}

fn order(args: &Merge) -> Result<HandMerge, Failure> {
    let take = args.take.as_deref().map(|take| Pattern::parse(take, false)).transpose();
    let take = take.map_err(|error| Failure::Wrong(error.to_string()))?;
    let field = args.order.strip_prefix('<').and_then(|rest| rest.strip_suffix('>'));
    let order = match (args.order.as_str(), field) {
        ("name", _) => AdHocMerge::Name,
        ("oldest", _) => AdHocMerge::Oldest,
        ("newest", _) => AdHocMerge::Newest,
        (_, Some(field)) => AdHocMerge::Field(field.to_owned()),
        (other, None) => {
            return Err(Failure::Wrong(format!(
                "--order is `{other}`; expected name, oldest, newest or a field such as '<day>'"
            )));
        }
    };
    let mut add = Vec::new();
    for text in &args.add {
        let Some((column, value)) = text.split_once('=') else {
            let wanted = "--add is a name and a template: --add station='<station>'";
            return Err(Failure::Wrong(format!("{wanted}; got `{text}`")));
        };
        add.push((column.to_owned(), template(value)?));
    }
    Ok(HandMerge {
        sources: HandSources { paths: args.sources.clone(), take, subfolders: args.subfolders },
        output: output(args)?,
        order,
        add,
        sheet: args.sheet_each.as_deref().map(template).transpose()?,
        exists: match args.exists {
            IfThere::Fail => Exists::Fail,
            IfThere::Replace => Exists::Replace,
            IfThere::Append => Exists::Append,
            IfThere::Number => Exists::Number,
        },
        leave_faulty: args.leave_faulty,
        options: options(args)?,
    })
}

fn options(args: &Merge) -> Result<Options, Failure> {
    let mut layout = match &args.schema {
        Some(file) => schema(file)?,
        None => Layout { others: args.columns.is_empty(), ..Layout::default() },
    };
    if !args.columns.is_empty() {
        let known = std::mem::take(&mut layout.columns);
        layout = Layout::choosing(&args.columns);
        for column in &mut layout.columns {
            if let Some(known) = known.iter().find(|known| known.name == column.name) {
                *column = known.clone();
            }
        }
    }
    layout.names = match args.names {
        Names::Exact => vadegate_tables::Names::Exact,
        Names::Plain => vadegate_tables::Names::Plain,
        Names::Loose => vadegate_tables::Names::Loose,
    };
    layout.nothing.extend(args.nothing.iter().cloned());
    let each = args.sheet_each.is_some();
    // What follows from the output's name stands as zero here.
    let writing = Writing {
        stacking: if each { Stacking::Each } else { Stacking::One },
        ..Writing::delimited(0)
    };
    Ok(Options {
        reading: reading(&args.dialect)?,
        misfits: match args.misfits {
            Misfits::Hold => vadegate_tables::Misfits::Hold,
            Misfits::SetAside => vadegate_tables::Misfits::SetAside,
            Misfits::Empty => vadegate_tables::Misfits::Empty,
        },
        repeated: match &args.once {
            None => Repeated::Keep,
            Some(keys) if keys.is_empty() => Repeated::Drop,
            Some(keys) => Repeated::ByKey(keys.clone()),
        },
        totals: args.totals.clone(),
        guess: !args.as_text,
        ..Options::new(layout, writing)
    })
}

fn schema(file: &Path) -> Result<Layout, Failure> {
    let text = std::fs::read_to_string(file)
        .map_err(|error| Failure::Wrong(format!("`{}` cannot be read: {error}", file.display())))?;
    Layout::from_schema(&text)
        .map_err(|why| Failure::Wrong(format!("the Table Schema `{}`: {why}", file.display())))
}

fn byte(option: &str, text: &str) -> Result<u8, Failure> {
    match text.as_bytes() {
        [byte] if byte.is_ascii() && !byte.is_ascii_alphanumeric() => Ok(*byte),
        b"\\t" | b"tab" => Ok(b'\t'),
        _ => Err(Failure::Wrong(format!(
            "--{option} is `{text}`; expected one character such as `,`, `;` or `\\t`"
        ))),
    }
}

/// How tables are read, as the command line says.
pub fn reading(dialect: &Dialect) -> Result<Reading, Failure> {
    let given =
        |option, text: &Option<String>| text.as_deref().map(|text| byte(option, text)).transpose();
    let encoding = match dialect.encoding.as_deref() {
        None => None,
        Some(name) => Some(Encoding::of(name).ok_or_else(|| {
            let known = Encoding::USUAL.join(", ");
            Failure::Wrong(format!(
                "--encoding is `{name}`; known are {known} and the others of the Encoding Standard"
            ))
        })?),
    };
    let header = match (dialect.header.as_str(), dialect.header.parse::<u32>()) {
        ("first", _) => Header::First,
        ("none", _) => Header::None,
        (_, Ok(row)) if row > 0 => Header::Row(row),
        (other, _) => {
            return Err(Failure::Wrong(format!(
                "--header is `{other}`; expected first, none, or the number of a row"
            )));
        }
    };
    let sheets = match dialect.sheets.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        [] | ["first"] => Sheets::First,
        ["all"] => Sheets::All,
        [one] if one.parse::<usize>().is_ok() => Sheets::Number(one.parse().unwrap_or(1)),
        _ => Sheets::Named(dialect.sheets.clone()),
    };
    let range = match dialect.range.as_deref() {
        None => None,
        Some(text) => Some(parse_range(text).ok_or_else(|| {
            let wanted = "expected a range of cells such as B3:F200 or B3:";
            Failure::Wrong(format!("--range is `{text}`; {wanted}"))
        })?),
    };
    Ok(Reading {
        delimiter: given("delimiter", &dialect.delimiter)?,
        quote: match dialect.quote.as_deref() {
            None => Some(b'"'),
            Some("none") => None,
            Some(text) => Some(byte("quote", text)?),
        },
        encoding,
        header,
        preamble: dialect.preamble,
        comment: given("comment", &dialect.comment)?,
        ragged: dialect.ragged,
        sheets,
        hidden: dialect.hidden,
        range,
        merged: if dialect.fill_merged { Merged::Fill } else { Merged::First },
    })
}
