//! What the page costs the browser: figures, printed. Run by `make bench`; not a test, so it is
//! ignored.

use std::time::Duration;

use serde_json::Value;

#[path = "../../benches/common/filled.rs"]
mod filled;

use crate::browser::{Page, with_page};
use crate::support::{TestHome, filing_gate};

const SIZE: (u32, u32) = (1280, 800);
const GATES: usize = 120;
const FILES: usize = 100_000;

/// Counts long tasks from now on, and requests.
const WATCH: &str = "window.tasks = []; \
     new PerformanceObserver((list) => list.getEntries().forEach((one) => window.tasks.push(one.duration))) \
       .observe({ type: 'longtask' }); \
     performance.clearResourceTimings(); return 1";

async fn first_rows(page: &Page, row: &str) -> f64 {
    page.find(row).await;
    // From the answer that has them to the row that shows them.
    let script = "const all = performance.getEntriesByType('resource').filter((one) => one.name.includes('/api/')); \
         return performance.now() - Math.max(...all.map((one) => one.responseEnd))";
    page.script(script).await.as_f64().unwrap_or(f64::NAN)
}

async fn at_rest(page: &Page) -> Value {
    page.script(WATCH).await;
    // The time itself is what is measured.
    tokio::time::sleep(Duration::from_secs(20)).await;
    page.script(
        "return { requests: performance.getEntriesByType('resource').length, \
         tasks: window.tasks.length, longest: Math.max(0, ...window.tasks) }",
    )
    .await
}

/// From the request of the ledger's first page to its rows, and the same of the next ones.
const NEXT_PAGES: &str = "const table = document.querySelector('[role=region] table'); \
     const count = () => Number(table.getAttribute('aria-rowcount')); \
     const next = () => new Promise((done) => { \
       const begun = performance.now(); const had = count(); const region = table.parentElement; \
       const look = () => { if (count() > had) return done(performance.now() - begun); \
         region.scrollTo({ top: region.scrollHeight }); requestAnimationFrame(look); }; \
       look(); }); \
     return (async () => { const all = []; \
       for (let at = 0; at < 10; at += 1) all.push(await next()); \
       return { longest: Math.max(...all), rows: count() - 1 }; })()";

/// The pages of a ledger that has been kept for years.
fn long_ledger(coast: &TestHome) {
    let entries = std::env::var("VADEGATE_BENCH_ENTRIES").ok().and_then(|text| text.parse().ok());
    let entries = entries.unwrap_or(10_000_000);
    filled::fill(&coast.path("."), entries);
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        for what in ["first", "again"] {
            page.go(&service, "/ledger").await;
            page.find("//tr[@aria-rowindex='2']/td").await;
            let script = "const all = performance.getEntriesByType('resource').filter((one) => one.name.includes('/entries?')); \
                 return performance.now() - all.at(-1).startTime";
            let rows = page.script(script).await.as_f64().unwrap_or(f64::NAN);
            println!(
                "a ledger of {entries}, {what:<5} first rows {rows:>5.0} ms after they were asked for (wanted 300)"
            );
        }
        let next = page.script(NEXT_PAGES).await;
        println!(
            "10 more pages: the longest {:.0} ms, {} rows then (wanted 300 ms)",
            next["longest"].as_f64().unwrap_or(f64::NAN),
            next["rows"]
        );
    });
}

#[test]
#[ignore = "figures, for `make bench`"]
fn page_figures() {
    let coast = TestHome::new(&filing_gate("buoy", ""));
    coast.folder("drops/buoy");
    // The ledger is made by a service.
    drop(coast.serve());
    long_ledger(&coast);
    many_files();
}

fn many_files() {
    let gates: String = (0..GATES)
        .map(|number| filing_gate(&format!("gate-{number:03}"), "take = [\"*.csv\"]"))
        .collect();
    let coast = TestHome::new(&gates);
    for number in 0..GATES {
        coast.folder(&format!("drops/gate-{number:03}"));
    }
    for number in 0..FILES {
        std::fs::write(coast.path(&format!("drops/gate-000/buoy_{number:06}.dat")), "").unwrap();
    }
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        for (what, path, row) in [
            ("120 gates", "/gates", "//*[@data-gate='gate-119']"),
            ("the morning", "/", "//*[@aria-labelledby='night']"),
            ("a drop folder of 100,000", "/gates/gate-000", "//tr[contains(., 'buoy_000005')]"),
            ("the ledger", "/ledger", "//h1"),
        ] {
            page.go(&service, path).await;
            let rows = first_rows(&page, row).await;
            let rest = at_rest(&page).await;
            println!(
                "{what:<26} first rows {rows:>5.0} ms after the answer   in 20 s at rest: {} requests, {} long tasks, the longest {} ms",
                rest["requests"], rest["tasks"], rest["longest"]
            );
        }
    });
}
