//! The pictures of `docs/screenshots`, made from the demo. Run by `make shots`;
//! not a test, so it is ignored.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::browser::{Page, with_page};
use crate::demo::{Demo, start};
use crate::support::{TestHome, filing_gate, wait};

fn place(name: &str) -> PathBuf {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/screenshots");
    std::fs::create_dir_all(&folder).unwrap();
    folder.join(format!("{name}.png"))
}

async fn picture(page: &Page, name: &str) {
    // Pictures and fonts are there, and nothing moves any more.
    page.script("return document.fonts.ready.then(() => true)").await;
    std::fs::write(place(name), page.client.screenshot().await.unwrap()).unwrap();
}

/// A command in a terminal window, on a screen that nobody sees.
fn terminal(demo: &Demo, name: &str, lines: &[&str]) {
    let mut script = String::from("cd \"$1\"; export PATH=\"$2:$PATH\" TERM=xterm-256color\n");
    for line in lines {
        script.push_str(&format!("printf '\\033[1;36m$ \\033[0m%s\\n' '{line}'; {line}; echo\n"));
    }
    script.push_str("touch \"$3\"; exec sleep 60\n");
    let binary = Path::new(env!("CARGO_BIN_EXE_vadegate")).parent().unwrap();
    let ready = demo.folder().join(format!("{name}.ready"));
    let mut screen = Command::new("xvfb-run")
        .args(["-a", "-s", "-screen 0 1280x800x24", "sh", "-c"])
        .arg(
            "xterm -fa 'DejaVu Sans Mono' -fs 10 -bg '#0e1719' -fg '#e4eded' -b 14 \
             -geometry 155x46+0+0 -e sh -c \"$0\" sh \"$1\" \"$2\" \"$3\" & \
             while [ ! -e \"$3\" ]; do sleep 0.1; done; sleep 1; \
             import -window root \"$4\"; kill $!",
        )
        .arg(script)
        .arg(demo.folder())
        .arg(binary)
        .arg(&ready)
        .arg(place(name))
        .stdin(Stdio::null())
        .spawn()
        .expect("xvfb-run, xterm and import are installed by `make shots`");
    wait("the picture is made", || screen.try_wait().unwrap());
}

async fn pages(demo: &Demo, page: Page) {
    let service = &demo.service();
    page.resize(1280, 800).await;
    page.go(service, "/sign-in").await;
    page.find("//h1[contains(., 'Sign in')]").await;
    page.sign_in(service).await;
    page.find("//article[@data-gate='buoys']").await;
    // Long enough for a held file, a repeat and a slow one.
    page.find("//article[@data-gate='manifests']//dd[contains(@class, 'text-danger')]").await;
    page.find("//article[@data-gate='tide']//dd[contains(@class, 'text-danger')]").await;
    picture(&page, "gates").await;
    page.go(service, "/gates/tide").await;
    page.find("//td[contains(., 'no pattern takes it')]").await;
    picture(&page, "gate").await;
    // The lower half of the page: the rehearsal and the pattern that is tried.
    // Paused, so that what has settled is still there.
    service.post("/api/v1/gates/tide/pause");
    wait("files have settled", || {
        let files = service.get("/api/v1/gates/tide/rehearsal");
        let of = |will: &str| {
            files.as_array().unwrap().iter().filter(|file| file["will"] == will).count()
        };
        (of("work") > 2).then_some(())
    });
    page.press("Rehearse").await;
    page.find("//*[@aria-labelledby='rehearsal']//li[contains(., 'work')]").await;
    page.type_in("//input[@id='pattern']", "<station>/<station> <day:%d-%m-%Y>*.csv").await;
    page.find("//*[@aria-labelledby='tester']//li[contains(., 'day 2026-03-01')]").await;
    page.script(
        "document.getElementById('rehearsal').scrollIntoView(); window.scrollBy(0, -64); return 1",
    )
    .await;
    picture(&page, "gate-rehearsal").await;
    service.post("/api/v1/gates/tide/resume");
    morning(demo, &page).await;
    ledger_pages(demo, page).await;
}

/// What is due, late, missing and excused, with one of them looked into.
async fn morning(demo: &Demo, page: &Page) {
    page.go(&demo.service(), "/").await;
    page.click(
        "//button[contains(@aria-label, 'morrow-skerry') and contains(@aria-label, 'late')]",
    )
    .await;
    page.see("nothing is here").await;
    picture(page, "morning").await;
}

async fn ledger_pages(demo: &Demo, page: Page) {
    let service = &demo.service();
    page.go(service, "/ledger").await;
    page.find("//table//td").await;
    picture(&page, "ledger").await;
    page.go(service, "/ledger?state=filed&gate=buoys").await;
    page.click("//table//tr[@aria-rowindex='2']/td[1]/a").await;
    page.press("Lineage").await;
    page.find("//*[@aria-label='What came from what']//li[contains(., '.csv')]").await;
    picture(&page, "lineage").await;
    page.go(service, "/held?gate=tide").await;
    page.find("//tr[@aria-current='true']").await;
    picture(&page, "held").await;
    page.go(service, "/clears").await;
    page.press("Rehearse").await;
    page.find("//p[contains(., 'would go') or contains(., 'Would remove')]").await;
    page.find("//table//td").await;
    picture(&page, "clears").await;
    page.go(service, "/ledger?state=filed&gate=tide").await;
    page.click("//table//tr[contains(., ' rows')]/td[1]/a").await;
    page.see("Batch").await;
    picture(&page, "entry").await;
    page.click("//li[.//span[normalize-space()='Output']]//a[contains(., 'look inside')]").await;
    page.see("First rows").await;
    page.find("//h2[contains(., 'Account')]").await;
    picture(&page, "table").await;
    page.go(service, "/configuration").await;
    page.click("//*[contains(@class, 'cm-line')][contains(., 'settle')]").await;
    page.find("//*[@aria-labelledby='help'][contains(., 'complete')]").await;
    let edit = "const content = document.querySelector('.cm-content'); \
         const view = content.cmTile?.view ?? content.cmView?.rootView?.view ?? content.cmView?.view; \
         const at = view.state.doc.toString().indexOf('3s'); \
         view.dispatch({ changes: { from: at, to: at + 2, insert: '3x' } }); return 1";
    page.script(edit).await;
    page.find("//*[@aria-labelledby='outcome']//li").await;
    picture(&page, "configuration").await;
    page.press("Take back").await;
    new_gate(demo, &page).await;
    page.go(service, "/ledger?state=filed&gate=waves").await;
    page.click("//table//tr[contains(., '5 rows')]/td[1]/a").await;
    page.click("//a[contains(., 'its rows there')]").await;
    page.find("//*[@aria-labelledby='account']").await;
    page.script("document.documentElement.dataset.theme = 'dark'; return 1").await;
    picture(&page, "rows-dark").await;
    page.script("document.documentElement.dataset.theme = 'light'; return 1").await;
    page.resize(390, 844).await;
    page.go(service, "/").await;
    page.find("//h1[text()='Morning']").await;
    page.see("late or missing").await;
    picture(&page, "phone").await;
}

/// A coast with many gates: six kinds of files from each of twenty places.
fn many_gates() {
    const PLACES: &str = "fennick-point garrow-light ullin-bay tarn-ness ullin-roads outer-stack \
        morrow-skerry hollow-head skerrow-deep skerrow-outer grey-holm low-quay tern-rock \
        sable-head eastness long-strand kelp-sound mill-creek north-mole whinny-isle";
    const KINDS: [&str; 6] = ["tide", "waves", "manifests", "berths", "catches", "soundings"];
    let names: Vec<(&str, String)> = KINDS
        .iter()
        .flat_map(|kind| PLACES.split_whitespace().map(move |at| (*kind, format!("{kind}-{at}"))))
        .collect();
    let gate = |(kind, name): &(&str, String)| {
        let more = format!("take = [\"*.csv\"]\nempty = \"hold\"\ngroup = \"{kind}\"");
        filing_gate(name, &more)
    };
    let count = |coast: &TestHome, state: &str| {
        coast.json(&format!("ledger --state {state} --limit 1000")).as_array().unwrap().len()
    };
    let coast = TestHome::new(&names.iter().map(gate).collect::<String>());
    let mut files = 0;
    for (at, (_, name)) in names.iter().enumerate() {
        coast.folder(&format!("drops/{name}"));
        for number in 0..at * 7 % 13 {
            let path = coast.path(&format!("drops/{name}/{name}_{number:02}.csv"));
            std::fs::write(path, format!("{name} {number}\n")).unwrap();
            files += 1;
        }
    }
    let service = coast.serve();
    coast.wait("they are filed", |coast| count(coast, "filed") == files);
    std::fs::write(coast.path("drops/tide-tarn-ness/tide-tarn-ness_20.csv"), "").unwrap();
    std::fs::write(coast.path("drops/berths-low-quay/berths.txt"), "1").unwrap();
    service.post("/api/v1/gates/waves-grey-holm/pause");
    coast.wait("one is held", |coast| count(coast, "held") == 1);
    with_page((1280, 800), |page| async move {
        page.resize(1280, 800).await;
        page.sign_in(&service).await;
        page.go(&service, "/gates").await;
        page.find("//tr[contains(., 'berths-low-quay')]").await;
        picture(&page, "gates-120").await;
    });
}

/// A gate made from a folder in which nobody looks yet.
async fn new_gate(demo: &Demo, page: &Page) {
    let folder = demo.folder().join("drops/soundings-new");
    std::fs::create_dir_all(&folder).unwrap();
    for (boat, day) in [("Mara", 28), ("Mara", 27), ("Sable Tern", 28)] {
        let rows = format!("time;depth_m;note\n2026-02-{day} 06:00:00;12.5;{boat}\n");
        std::fs::write(folder.join(format!("{boat}_202602{day}.csv")), rows).unwrap();
    }
    page.go(&demo.service(), "/new-gate").await;
    for name in ["drops", "soundings-new", "Mara_20260228.csv"] {
        page.click(&format!("//*[@aria-labelledby='folder']//li//button[contains(., '{name}')]"))
            .await;
    }
    page.click("//*[@role='radio'][contains(., 'Merge their rows')]").await;
    page.find("//*[@aria-label='The new gate'][contains(., 'depth_m')]").await;
    page.find("//*[@aria-labelledby='outcome']//li").await;
    page.script("window.scrollTo(0, 0); return 1").await;
    picture(page, "new-gate").await;
}

fn merging_by_hand(demo: &Demo) {
    let service = demo.service();
    // A table is not merged by hand while a gate adds to it.
    service.post("/api/v1/gates/tide/pause");
    wait("the gate has ended what it was doing", || {
        demo.json("gates tide")[0]["doing"].is_null().then_some(())
    });
    terminal(
        demo,
        "command-merge",
        &[
            "vadegate sample archive/soundings/2025/skerrow-sound_2025_Jan.xlsx",
            "vadegate merge out/tide -o day.csv --take \"<station>_<day:%Y-%m-%d>.csv\" --totals level_m",
        ],
    );
    service.post("/api/v1/gates/tide/resume");
}

#[test]
#[ignore = "makes pictures; run it with `make shots`"]
fn shots() {
    let demo = start(&["--pace", "250"]);
    with_page((1280, 800), |page| pages(&demo, page));
    terminal(
        &demo,
        "command-gates",
        &[
            "vadegate gates",
            "vadegate files tide --verdict wait",
            "vadegate ledger --state held --limit 3",
        ],
    );
    terminal(
        &demo,
        "command-why",
        &[
            "vadegate why drops/tide/fennick-point/fennick-point_20260301T0500.csv",
            "vadegate why manifest_ullin-bay_101.txt",
            "vadegate entry 30",
            "vadegate events --limit 5",
        ],
    );
    // The workbooks of a year are filed together.
    wait("the soundings of a year are filed", || {
        demo.folder()
            .join("archive/soundings/2025/skerrow-sound_2025_Jan.xlsx")
            .is_file()
            .then_some(())
    });
    merging_by_hand(&demo);
    terminal(&demo, "command-board", &["vadegate board"]);
    many_gates();
}
