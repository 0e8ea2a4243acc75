//! `reopen`, `release`, `forget`, `unload` and `adopt`: what people do to entries.

use std::io::{self, IsTerminal, Write};
use std::process::ExitCode;

use vadegate_core::act::{Adoption, Done, EntryAction};
use vadegate_core::config::Config;
use vadegate_service::{AdoptOrder, Order, OrderBy};

use super::ledger::query;
use crate::args::{Adopt, ByWhom, Filter, How, People, Release};
use crate::client::{Doer, who};
use crate::failure::{FAILED, Failure};
use crate::show;
use vadegate_core::ledger::EntryId;

/// What is told of at the most.
const SHOWN: usize = 20;

pub fn reopen(config: Config, args: &People) -> Result<ExitCode, Failure> {
    to_entries(config, EntryAction::Reopen, &args.entries, &args.filter, &args.by)
}

pub fn forget(config: Config, args: &People) -> Result<ExitCode, Failure> {
    to_entries(config, EntryAction::Forget, &args.entries, &args.filter, &args.by)
}

pub fn unload(config: Config, args: &People) -> Result<ExitCode, Failure> {
    to_entries(config, EntryAction::Unload, &args.entries, &args.filter, &args.by)
}

pub fn release(config: Config, args: &Release) -> Result<ExitCode, Failure> {
    let action = match args.how {
        How::Again => EntryAction::Again,
        How::File => EntryAction::File,
        How::Delete => EntryAction::Delete,
    };
    to_entries(config, action, &args.entries, &args.filter, &args.by)
}

fn to_entries(
    config: Config,
    action: EntryAction,
    entries: &[EntryId],
    filter: &Filter,
    by: &ByWhom,
) -> Result<ExitCode, Failure> {
    let zone = config.service.timezone.clone();
    let fitting = query(filter, &zone)?;
    let narrowed = fitting != query(&Filter::default(), &zone)?;
    match (entries.is_empty(), narrowed) {
        (true, false) => {
            return Err(Failure::Wrong(
                "say which entries: by their numbers, or by a filter such as --gate tide --state held".into(),
            ));
        }
        (false, true) => {
            return Err(Failure::Wrong(
                "say entries by their numbers or by a filter, not both".into(),
            ));
        }
        _ => {}
    }
    let mut order = Order {
        action,
        entries: entries.to_vec(),
        fitting: narrowed.then_some(fitting),
        by: OrderBy { who: who(by.by.as_deref()), why: by.why.clone() },
        rehearse: true,
        twice: by.twice,
        expected: None,
    };
    let doer = Doer::of(config)?;
    let would = doer.apply_action(&order)?;
    let all = would.done.len() + would.refused.len();
    // What is worked again is asked about, since rows may come to stand twice.
    let asks = narrowed || matches!(action, EntryAction::Delete | EntryAction::Reopen);
    let sure = by.yes || !asks && would.made.is_empty();
    if !by.json {
        tell(&would, action, true)?;
    }
    if !would.done.is_empty() && !sure {
        confirm(&format!("{} {}?", verb(action), counted(would.done.len())), "--yes")?;
    }
    let done = if would.done.is_empty() {
        would
    } else {
        order.rehearse = false;
        order.expected = Some(all as u64);
        doer.apply_action(&order)?
    };
    if by.json {
        show::json(&done)?;
    } else {
        tell(&done, action, false)?;
    }
    Ok(if done.refused.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

pub fn adopt(config: Config, args: &Adopt) -> Result<ExitCode, Failure> {
    let mut order = AdoptOrder {
        pattern: args.pattern.clone(),
        by: OrderBy { who: who(args.by.by.as_deref()), why: args.by.why.clone() },
        rehearse: true,
    };
    let doer = Doer::of(config)?;
    let would = doer.adopt(&args.gate, &order)?;
    if !args.by.json {
        tell_adoption(&would, true)?;
    }
    if !would.adopted.is_empty() && !args.by.yes {
        let files = show::counted(would.adopted.len() as u64, "file", "files");
        confirm(&format!("Enter {files} of gate `{}` as already worked?", args.gate), "--yes")?;
    }
    let adoption = if would.adopted.is_empty() {
        would
    } else {
        order.rehearse = false;
        doer.adopt(&args.gate, &order)?
    };
    if args.by.json {
        show::json(&adoption)?;
    } else {
        tell_adoption(&adoption, false)?;
    }
    Ok(ExitCode::SUCCESS)
}

fn tell(done: &Done, action: EntryAction, would: bool) -> Result<(), Failure> {
    if would {
        for made in done.made.iter().take(SHOWN) {
            for output in &made.outputs {
                let rows =
                    output.rows.map(|rows| format!(", {}", show::counted(rows, "row", "rows")));
                show::line(&format!(
                    "entry {} was worked into {} ({}{}), which stays",
                    made.by,
                    output.path,
                    output.mode,
                    rows.unwrap_or_default()
                ))?;
            }
        }
        more(done.made.len())?;
        let twice: u64 = done.made.iter().map(|made| made.rows_twice).sum();
        if twice > 0 {
            let rows = show::counted(twice, "row", "rows");
            show::line(&format!("{rows} would stand twice."))?;
        }
        return Ok(());
    }
    for refused in done.refused.iter().take(SHOWN) {
        show::line(&format!("entry {}: not done: {}", refused.entry, refused.because))?;
    }
    more(done.refused.len())?;
    let count = done.done.len();
    show::line(&match (action, count) {
        (_, 0) => "Nothing was done.".to_owned(),
        (EntryAction::Reopen | EntryAction::Again, _) => {
            format!(
                "{}: the next pass works {}.",
                counted(count),
                if count == 1 { "it" } else { "them" }
            )
        }
        (EntryAction::File, _) => {
            format!("{}: filed as they are by the next pass.", counted(count))
        }
        (EntryAction::Delete, _) => format!("{}: deleted.", counted(count)),
        (EntryAction::Forget, _) => {
            format!("{}: forgotten; the same can come again.", counted(count))
        }
        (EntryAction::Unload, _) => {
            format!(
                "{}: its rows are out of the database (its history says how many).",
                counted(count)
            )
        }
    })
}

fn tell_adoption(adoption: &Adoption, would: bool) -> Result<(), Failure> {
    if would {
        for path in adoption.adopted.iter().take(SHOWN) {
            show::line(&format!("  {path}"))?;
        }
        more(adoption.adopted.len())?;
        for left in adoption.left.iter().take(SHOWN) {
            show::line(&format!("{}: left: {}", left.path, left.because))?;
        }
        return more(adoption.left.len());
    }
    show::line(&match adoption.adopted.len() {
        0 => "No file was adopted.".to_owned(),
        1 => "1 file is entered as already worked.".to_owned(),
        count => format!(
            "{} are entered as already worked.",
            show::counted(count as u64, "file", "files")
        ),
    })
}

fn more(count: usize) -> Result<(), Failure> {
    match show::beyond(count, SHOWN) {
        Some(more) => show::line(&format!("… and {more} more (--json tells all)")),
        None => Ok(()),
    }
}

fn verb(action: EntryAction) -> &'static str {
    match action {
        EntryAction::Reopen => "Reopen",
        EntryAction::Again => "Have worked again",
        EntryAction::File => "File without work",
        EntryAction::Delete => "Delete the files of",
        EntryAction::Forget => "Forget",
        EntryAction::Unload => "Take the rows out of the database of",
    }
}

fn counted(count: usize) -> String {
    show::counted(count as u64, "entry", "entries")
}

/// Asks on the terminal; without one nobody can answer.
pub fn confirm(question: &str, instead: &str) -> Result<(), Failure> {
    if !io::stdin().is_terminal() {
        return Err(Failure::Wrong(format!("{question} Nobody can answer here; say {instead}")));
    }
    eprint!("{question} [y/N] ");
    io::stderr().flush()?;
    let mut answer = String::new();
    io::stdin().read_line(&mut answer)?;
    match answer.trim().to_lowercase().as_str() {
        "y" | "yes" => Ok(()),
        _ => Err(Failure::Failed("nothing was done".into())),
    }
}
