//! `report`: what a time did.

use jiff::Timestamp;
use vadegate_core::config::Config;
use vadegate_core::watch::report::{Report, as_html, as_text};

use super::export;
use super::ledger::since_until;
use crate::args;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn report(config: Config, args: &args::Report) -> Result<(), Failure> {
    let zone = config.service.timezone.clone();
    let span = match args.day {
        Some(day) => format!("{day}..{day}"),
        None => args.since.clone(),
    };
    let (since, until) = since_until(&span, None, &zone)?;
    let now = Timestamp::now();
    // What is to come has not happened yet.
    let until = until.unwrap_or(now).min(now);
    let report = Client::of(config)?.report(since, until)?;
    if args.json {
        return show::json(&report);
    }
    if args.csv {
        return print_csv(&report);
    }
    if let Some(file) = &args.html {
        std::fs::write(file, as_html(&report, &zone)).map_err(|error| {
            Failure::Wrong(format!("`{}` cannot be written: {error}", file.display()))
        })?;
        return show::line(&format!("The report is in {}.", file.display()));
    }
    show::line(as_text(&report, &zone).trim_end())
}

fn print_csv(report: &Report) -> Result<(), Failure> {
    show::line("gate,files,bytes,rows,repeats,held,files_week_before,bytes_week_before")?;
    for gate in &report.gates {
        let now = &gate.now;
        let numbers = [
            now.files,
            now.bytes,
            now.rows,
            now.repeats,
            now.held,
            gate.files_before,
            gate.bytes_before,
        ];
        let cells = std::iter::once(now.gate.clone());
        let cells: Vec<String> = cells.chain(numbers.map(|number| number.to_string())).collect();
        export::line(&cells)?;
    }
    Ok(())
}
