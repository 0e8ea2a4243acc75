//! One search, by command and on the page; many gates, found and put in their groups.

use serde_json::Value;

use crate::browser::with_page;
use crate::support::{TestHome, filing_gate, text, wait};

fn coast() -> TestHome {
    let coast = TestHome::new(&format!(
        "{}{}",
        filing_gate("tide", "group = \"sea\"\ntake = [\"<station>_<n:int>.csv\"]"),
        "[gate.sums]\ngroup = \"office\"\ndrop = \"drops/sums\"\nsettle = \"50ms\"\narchive = { into = \"archive/sums\" }\n\
         [gate.sums.merge]\ninto = \"out/all-sums.csv\"\n\
         [gate.slow]\ndrop = \"drops/slow\"\nsettle = \"5m\"\narchive = { into = \"archive/slow\" }\n"
    ));
    ["tide", "sums", "slow"].iter().for_each(|gate| drop(coast.folder(&format!("drops/{gate}"))));
    coast
}

fn feed(coast: &TestHome) {
    coast.drop("drops/tide/haven_1.csv", "level 1");
    coast.drop("drops/tide/ullin_2.csv", "level 2");
    coast.drop("drops/sums/march.csv", "a,b\n1,2\n");
    coast.drop("drops/sums/broken.csv", "a,b\n1\n");
    coast.drop("drops/slow/half.bin", "x");
    wait("all is done that can be", || {
        let states = coast.ledger();
        let of = |state: &str| states.iter().filter(|entry| entry["state"] == state).count();
        (of("filed") == 3 && of("held") == 1).then_some(())
    });
}

/// Kinds and titles of what a text is about, the surest first.
fn found(coast: &TestHome, words: &str) -> Vec<(String, String)> {
    let ran = coast.run_args(&["find", words, "--json"]);
    assert_eq!(ran.code, 0, "{words}: {}", ran.err);
    let hits: Value = serde_json::from_str(&ran.out).unwrap();
    let hit = |hit: &Value| (text(hit, "kind").to_owned(), text(hit, "title").to_owned());
    hits.as_array().unwrap().iter().map(hit).collect()
}

#[test]
fn a_text_finds_what_it_is_about() {
    let coast = coast();
    let service = coast.serve();
    feed(&coast);
    let entry = coast.entry("haven_1.csv");
    let (id, sum) = (entry["id"].to_string(), text(&entry, "sha256").to_owned());
    let of_haven = format!("{id} haven_1.csv");
    for words in [
        &id,
        &format!("#{id}"),
        "haven",
        "HAVEN_1",
        &sum,
        &sum[..10],
        "station=haven",
        "haven_*.csv",
        "<x>_1.csv",
    ] {
        let found = found(&coast, words);
        assert_eq!(found.first(), Some(&("entry".into(), of_haven.clone())), "{words}: {found:?}");
    }
    let path = coast.path("archive/tide/haven_1.csv").display().to_string();
    for words in [path.as_str(), "archive/tide/haven_1.csv", "./archive/tide/haven_1.csv"] {
        let found = found(&coast, words);
        assert_eq!(found[0].0, "answer", "{words}: {found:?}");
    }
    for (words, kind, title) in [
        ("sums", "gate", "sums"),
        ("office", "gate", "sums"),
        ("1 fields where the header", "held", "1 held at sums"),
        ("half", "file", "half.bin"),
        ("all-sums", "output", "all-sums.csv"),
    ] {
        let found = found(&coast, words);
        let hit = found.iter().any(|(of, called)| of == kind && called.ends_with(title));
        assert!(hit, "{words}: {found:?}");
    }
    for words in
        ["nothing-of-that", "' OR 1=1 --", "%", "\u{1b}[2J", "99999", "[", "<", &"x".repeat(5000)]
    {
        assert_eq!(found(&coast, words), [], "{words}");
    }
    let told = coast.run("find haven");
    assert!(told.out.contains("filed at tide"), "{}", told.out);
    assert_eq!(service.stop(), Some(0));
    assert_eq!(found(&coast, "haven").len(), 1, "without a service too");
}

#[test]
fn the_search_is_opened_by_a_key_and_leads_where_the_answer_is() {
    let coast = coast();
    let service = coast.serve();
    feed(&coast);
    let id = coast.entry("broken.csv")["id"].clone();
    with_page((1280, 800), |page| async move {
        page.sign_in(&service).await;
        let body = page.find("//body").await;
        body.send_keys("/").await.unwrap();
        page.type_in("//input[@aria-label='Search']", "broken").await;
        page.find("//li[contains(., 'held at sums')]").await;
        page.find("//input[@aria-label='Search']").await.send_keys("\u{e007}").await.unwrap();
        page.find("//h1[contains(., 'broken.csv')]").await;
        page.see(&format!("Entry {id} of gate sums")).await;
        page.press("Search").await;
        page.type_in("//input[@aria-label='Search']", "all-sums").await;
        page.click("//li[contains(., 'all-sums.csv')][contains(., 'output')]").await;
        page.find("//h1[contains(., 'all-sums.csv')]").await;
        page.press("Search").await;
        page.type_in("//input[@aria-label='Search']", "nothing-of-that").await;
        page.see("Nothing of that is known").await;
    });
}

#[test]
fn many_gates_are_a_table_in_groups_with_trouble_first() {
    let mut config = String::new();
    for number in 0..120 {
        let group = if number % 2 == 0 { "group = \"harbour\"\n" } else { "" };
        config.push_str(&format!(
            "[gate.g{number:03}]\n{group}drop = \"drops/{number}\"\nsettle = \"20ms\"\narchive = {{ into = \"archive/{number}\" }}\n"
        ));
    }
    let coast = TestHome::new(&config);
    (0..120).for_each(|number| drop(coast.folder(&format!("drops/{number}"))));
    coast.drop("drops/77/empty.dat", "");
    let service = coast.serve();
    wait("it is held", || coast.ledger().first().filter(|one| one["state"] == "held").cloned());
    with_page((1280, 800), |page| async move {
        page.sign_in(&service).await;
        page.find("//h2[.='harbour']").await;
        page.find("(//section[@aria-label='Gates of no group']//tbody/tr)[1][@data-gate='g077']")
            .await;
        page.click("//tr[@data-gate='g077']/td[6]/a | //tr[@data-gate='g077']//a[.='1']").await;
        page.find("//h1[.='Ledger']").await;
        page.find("//tr[contains(., 'empty.dat')]").await;
        page.go(&service, "/gates").await;
        page.type_in("//input[@aria-label='Find a gate']", "harbour g11").await;
        page.find("//tr[@data-gate='g110']").await;
        page.find("//tbody[count(tr)=5]").await;
        // At rest nothing is drawn for long, and little is asked.
        let watch = "window.long = []; new PerformanceObserver((list) => window.long.push(...list.getEntries().map((one) => one.duration))).observe({ type: 'longtask' }); performance.clearResourceTimings(); return 1";
        page.go(&service, "/gates").await;
        page.find("//tr[@data-gate='g119']").await;
        page.script(watch).await;
        page.script("return new Promise((done) => setTimeout(() => done(1), 6000))").await;
        let asked = page.script("return performance.getEntriesByType('resource').length").await;
        assert!(asked.as_u64().unwrap() < 10, "{asked} requests in six seconds at rest");
        let longest = page.script("return Math.max(0, ...window.long)").await.as_f64().unwrap();
        assert!(longest < 1000.0, "{longest} ms were drawn at a time");
    });
}
