//! A report as one page that needs nothing from outside: good in a browser, in mail (without
//! its picture) and on paper.

use std::fmt::Write;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::dues::types::DueState;
use crate::ledger::Happening;
use crate::ledger::ids::EntryId;
use crate::settings::values::write_bytes;
use crate::watch::report::text::subject;
use crate::watch::report::types::{Report, TimelinePart};
use crate::words::{grouped, visible};

const STYLE: &str = "body{font:14px/1.45 system-ui,sans-serif;color:#1b2733;background:#fff;\
max-width:62rem;margin:2rem auto;padding:0 1rem}h1{font-size:1.3rem}h2{font-size:1.05rem;\
margin:1.6rem 0 .4rem}table{border-collapse:collapse;width:100%}th,td{text-align:left;\
padding:.25rem .6rem .25rem 0;border-bottom:1px solid #dde3e9;vertical-align:top}\
th{color:#51606e;font-weight:600}.n{text-align:right;font-variant-numeric:tabular-nums}\
.bad{color:#9b2c2c;font-weight:600}.warn{color:#8a5a00;font-weight:600}.good{color:#1f6f4a}\
.quiet{color:#51606e}svg{width:100%;height:auto}@media print{body{margin:0;max-width:none}}";

/// The page; with its picture where that is understood.
pub fn html(report: &Report, zone: &TimeZone, picture: bool) -> String {
    let mut page = Page { html: String::new(), zone };
    let title = escape(&subject(report, zone));
    page.html.push_str(&format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title>\
         <style>{STYLE}</style></head><body><h1>{title}</h1><p class=\"quiet\">Times in {}</p>",
        escape(&report.zone)
    ));
    if picture {
        page.timeline(&report.timeline);
    }
    page.dues(report);
    page.gates(report);
    page.table(
        "Held",
        &["Gate", "Files", "Reason", "First"],
        report.held.iter().map(|one| {
            let first = one.entries.first().map(EntryId::to_string).unwrap_or_default();
            vec![text(&one.gate), number(one.count), text(&one.reason), format!("entry {first}")]
        }),
    );
    page.happenings("Broken limits", &report.breaches);
    page.happenings("Troubles of gates", &report.troubles);
    page.happenings("Unusual files", &report.unusual);
    page.table(
        "Removed",
        &["Rule", "Files", "Bytes"],
        report
            .removed
            .iter()
            .map(|one| vec![text(&one.rule), number(one.files), text(&write_bytes(one.bytes))]),
    );
    page.table(
        "Outputs",
        &["Output", "Batches", "Rows", "Bytes"],
        report.outputs.iter().map(|one| {
            let bytes = text(&write_bytes(one.bytes));
            vec![text(&one.path), number(one.batches), number(one.rows), bytes]
        }),
    );
    page.html.push_str("</body></html>\n");
    page.html
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A text from outside, as it may stand in a page.
fn text(text: &str) -> String {
    escape(&visible(text))
}

fn number(number: u64) -> String {
    grouped(number)
}

struct Page<'a> {
    html: String,
    zone: &'a TimeZone,
}

impl Page<'_> {
    fn table(&mut self, title: &str, heads: &[&str], rows: impl Iterator<Item = Vec<String>>) {
        let rows: Vec<Vec<String>> = rows.collect();
        if rows.is_empty() {
            return;
        }
        let head: String = heads.iter().map(|head| format!("<th>{head}</th>")).collect();
        // Writing to a String does not fail.
        let _ = write!(self.html, "<h2>{title}</h2><table><tr>{head}</tr>");
        for row in rows {
            let cells: String = row.iter().map(|cell| format!("<td>{cell}</td>")).collect();
            let _ = write!(self.html, "<tr>{cells}</tr>");
        }
        self.html.push_str("</table>");
    }

    fn at(&self, at: Timestamp) -> String {
        self.zone.to_datetime(at).strftime("%Y-%m-%d %H:%M").to_string()
    }

    fn dues(&mut self, report: &Report) {
        if report.dues.is_empty() {
            return;
        }
        let here = report.count(DueState::Here) + report.count(DueState::HereLate);
        let _ =
            write!(self.html, "<h2>Expected</h2><p>{here} of {} are here.</p>", report.dues.len());
        let open = report.dues.iter().filter(|cell| cell.state != DueState::Here);
        let rows = open.map(|cell| {
            let class = match cell.state {
                DueState::Missing | DueState::Late => "bad",
                DueState::DueSoon | DueState::HereLate => "warn",
                _ => "quiet",
            };
            let word = cell.state.word().replace('-', " ");
            vec![
                format!("<span class=\"{class}\">{word}</span>"),
                text(&cell.due),
                text(cell.value.as_deref().unwrap_or("")),
                cell.day.to_string(),
                text(&cell.words),
            ]
        });
        let rows: Vec<Vec<String>> = rows.collect();
        let heads = ["State", "Due", "Value", "Day", "What"];
        self.table("Not here, or late", &heads, rows.into_iter());
    }

    fn gates(&mut self, report: &Report) {
        let rows = report.gates.iter().map(|gate| {
            let now = &gate.now;
            let held = match now.held {
                0 => number(0),
                held => format!("<span class=\"bad\">{}</span>", number(held)),
            };
            vec![
                text(&now.gate),
                number(now.files),
                number(gate.files_before),
                text(&write_bytes(now.bytes)),
                text(&write_bytes(gate.bytes_before)),
                number(now.rows),
                number(now.repeats),
                held,
            ]
        });
        let heads =
            ["Gate", "Files", "A week before", "Bytes", "A week before", "Rows", "Repeats", "Held"];
        self.table("Gates", &heads, rows);
    }

    fn happenings(&mut self, title: &str, all: &[Happening]) {
        let rows: Vec<Vec<String>> = all
            .iter()
            .map(|one| {
                let ended = one.ended_at.map(|at| self.at(at)).unwrap_or_default();
                vec![self.at(one.at), ended, text(&one.about), text(&one.subject), text(&one.words)]
            })
            .collect();
        self.table(title, &["Since", "Until", "Where", "Of", "What"], rows.into_iter());
    }

    /// Files entered and held, by time.
    fn timeline(&mut self, moments: &[TimelinePart]) {
        const WIDTH: f64 = 960.0;
        const HEIGHT: f64 = 150.0;
        const BOTTOM: f64 = 22.0;
        let most = moments.iter().map(|one| one.entered.max(one.held)).max().unwrap_or(0);
        if most == 0 || moments.is_empty() {
            self.html.push_str("<p class=\"quiet\">Nothing arrived in this time.</p>");
            return;
        }
        let step = WIDTH / moments.len() as f64;
        let tall = |count: u64| count as f64 / most as f64 * (HEIGHT - BOTTOM - 14.0);
        let base = HEIGHT - BOTTOM;
        let _ = write!(
            self.html,
            "<h2>Files by time</h2><svg viewBox=\"0 0 {WIDTH} {HEIGHT}\" role=\"img\" \
             aria-label=\"Files entered and held by time\"><text x=\"0\" y=\"10\" font-size=\"11\" \
             fill=\"#51606e\">{} files at the most; held in red</text>",
            grouped(most)
        );
        let mut bar = |at: usize, count: u64, colour: &str| {
            let (x, height) = (at as f64 * step, tall(count));
            let _ = write!(
                self.html,
                "<rect x=\"{x:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{height:.1}\" fill=\"{colour}\"/>",
                base - height,
                (step - 1.0).max(0.5)
            );
        };
        for (at, one) in moments.iter().enumerate() {
            bar(at, one.entered, "#3f7cac");
            bar(at, one.held, "#b23b3b");
        }
        let marks = (moments.len() / 8).max(1);
        // The last has no room for its words.
        let last = moments.len().saturating_sub(marks / 2);
        for (at, one) in moments.iter().enumerate().take(last).step_by(marks) {
            let time = self.zone.to_datetime(one.begins).strftime("%d. %H:%M");
            let _ = write!(
                self.html,
                "<text x=\"{:.1}\" y=\"{:.1}\" font-size=\"11\" fill=\"#51606e\">{time}</text>",
                at as f64 * step,
                HEIGHT - 6.0
            );
        }
        self.html.push_str("</svg>");
    }
}
