//! `verify`, `backup`, `restore` and `trim`: keeping the ledger.

use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;
use vadegate_core::ask::{Difference, Differs, Verified};
use vadegate_core::config::Config;
use vadegate_core::engine::{Engine, StateLock};
use vadegate_core::ledger;
use vadegate_service::TrimOrder;

use super::ledger::moment;
use super::people::confirm;
use crate::args::{Backup, Restore, Trim, Verify};
use crate::client::Doer;
use crate::failure::{FAILED, Failure};
use crate::show;

/// What `verify --json` prints.
#[derive(Serialize)]
struct Report {
    #[serde(flatten)]
    verified: Verified,
    found: Vec<Difference>,
}

/// Does something while a bar shows how many of `length` bytes were read.
pub fn with_bar<T>(
    doing: &'static str,
    length: u64,
    read: &AtomicU64,
    work: impl FnOnce() -> T,
) -> T {
    let bar = bar(doing);
    bar.set_length(length);
    let over = AtomicBool::new(false);
    let done = std::thread::scope(|scope| {
        let shower = scope.spawn(|| {
            while !over.load(Ordering::Relaxed) {
                bar.set_position(read.load(Ordering::Relaxed));
                std::thread::park_timeout(Duration::from_millis(100));
            }
        });
        let done = work();
        over.store(true, Ordering::Relaxed);
        shower.thread().unpark();
        done
    });
    bar.finish_and_clear();
    done
}

/// A bar on stderr, where that is a terminal.
pub fn bar(what: &str) -> ProgressBar {
    let bar = ProgressBar::new(0);
    let style = format!("{{elapsed}} {what} {{bar:30}} {{human_pos}} of {{human_len}} {{eta}}");
    if let Ok(style) = ProgressStyle::with_template(&style) {
        bar.set_style(style);
    }
    bar
}

pub fn verify(config: Config, args: &Verify) -> Result<ExitCode, Failure> {
    let engine = Engine::open_to_ask(config)?;
    let bar = bar("verifying");
    let mut found = Vec::new();
    let verified = engine.verify(
        args.gate.as_deref(),
        args.deep,
        &mut |difference| found.push(difference),
        &mut |done, all| {
            bar.set_length(all);
            bar.set_position(done);
        },
    );
    bar.finish_and_clear();
    let report = Report { verified: verified?, found };
    if args.json {
        show::json(&report)?;
    } else {
        print(&report)?;
    }
    Ok(if report.found.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

fn print(report: &Report) -> Result<(), Failure> {
    if !report.found.is_empty() {
        let mut table = show::table(&["GATE", "DIFFERS", "ENTRY", "PATH", "BECAUSE"]);
        for one in &report.found {
            let word = match one.differs {
                Differs::Missing => "missing",
                Differs::Changed => "changed",
                Differs::Unreadable => "unreadable",
                Differs::Unknown => "unknown",
            };
            table.add_row([
                show::cell(&one.gate),
                show::word(word),
                show::cell(one.entry.map(|entry| entry.to_string()).unwrap_or_default()),
                show::cell(&one.path),
                show::cell(&one.because),
            ]);
        }
        show::unbroken(&mut table, &[0, 1, 2]);
        show::print(&table)?;
        show::line("")?;
    }
    let Verified { entries, outputs, files, differences } = &report.verified;
    show::line(&format!(
        "{} entries, {} outputs and {} files in archives looked at: {}",
        show::grouped(*entries),
        show::grouped(*outputs),
        show::grouped(*files),
        match differences {
            0 => "all is as the ledger has it.".to_owned(),
            1 => "1 difference.".to_owned(),
            count => format!("{} differences.", show::grouped(*count)),
        }
    ))
}

pub fn backup(config: Config, args: &Backup) -> Result<(), Failure> {
    let to = std::path::absolute(&args.to)?;
    if to.is_dir() {
        return Err(Failure::Wrong(format!(
            "`{}` is a folder; name a file in it",
            args.to.display()
        )));
    }
    if to.try_exists()? {
        return Err(Failure::Wrong(format!(
            "`{}` is there already; a backup replaces nothing",
            args.to.display()
        )));
    }
    let engine = Engine::open_to_ask(config)?;
    let bar = bar("copying");
    let copied = engine.ask(|ledger| {
        ledger.back_up(&to, |done, all| {
            bar.set_length(all);
            bar.set_position(done);
        })
    });
    bar.finish_and_clear();
    copied?;
    let bytes = std::fs::metadata(&to)?.len();
    show::line(&format!(
        "The ledger is backed up in {}, {}.",
        args.to.display(),
        show::bytes(bytes)
    ))
}

pub fn restore(config: &Config, args: &Restore) -> Result<(), Failure> {
    let state = &config.service.state;
    let _lock = StateLock::take(state).map_err(vadegate_core::engine::EngineError::from)?;
    if !args.from.is_file() {
        return Err(Failure::Wrong(format!("there is no backup `{}`", args.from.display())));
    }
    let aside = ledger::restore(state, &args.from)?;
    show::line(&format!("The ledger is that of {} again.", args.from.display()))?;
    if let Some(aside) = aside {
        show::line(&format!("What was there lies in {}.", aside.display()))?;
    }
    show::line(
        "`vadegate verify` tells what was filed after the backup; `vadegate rehearse` what the next pass would do.",
    )
}

pub fn trim(config: Config, args: &Trim) -> Result<(), Failure> {
    let zone = config.service.timezone.clone();
    let before = moment(&args.older, &zone)?;
    let doer = Doer::of(config)?;
    let would = doer.trim(&TrimOrder { before, rehearse: true })?.trimmed;
    if would == 0 {
        return show::line("No entry is so old.");
    }
    if !args.yes {
        confirm(
            &format!(
                "Trim the details of {} entries whose life ended before {}?",
                show::grouped(would),
                show::time(before, &zone)
            ),
            "--yes",
        )?;
    }
    let trimmed = doer.trim(&TrimOrder { before, rehearse: false })?.trimmed;
    show::line(&format!(
        "{} entries are trimmed; their identities are kept.",
        show::grouped(trimmed)
    ))
}
