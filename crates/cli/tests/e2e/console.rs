//! The page, in headless Chromium.

use serde_json::json;

use crate::browser::with_page;
use crate::support::{TestHome, filing_gate, text};

fn coast() -> TestHome {
    let coast = TestHome::new(&format!(
        "{}{}",
        filing_gate("tide", "take = [\"<station>_<n:int>.csv\"]"),
        "[gate.sums]\ndrop = \"drops/sums\"\nsettle = \"50ms\"\narchive = { into = \"archive/sums\" }\n\
         [gate.sums.merge]\ninto = \"out/sums.csv\"\n"
    ));
    coast.folder("drops/tide");
    coast.folder("drops/sums");
    coast
}

pub(crate) const SIZE: (u32, u32) = (1280, 800);

#[test]
fn signing_in_needs_the_token_and_leads_back() {
    let coast = coast();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.go(&service, "/ledger").await;
        let field = page.find("//input[@id='token']").await;
        field.send_keys("a guess").await.unwrap();
        page.press("Sign in").await;
        page.see("this is not the token").await;
        page.type_in("//input[@id='token']", &format!("{}\u{e007}", service.token)).await;
        page.find("//h1[text()='Ledger']").await;
        page.see("The ledger is empty.").await;
        page.click("//button[@aria-label='Settings']").await;
        page.press("Sign out").await;
        page.find("//input[@id='token']").await;
        page.go(&service, "/").await;
        page.find("//input[@id='token']").await;
    });
}

#[test]
fn the_gates_page_follows_what_happens_by_itself() {
    let coast = coast();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.see("Nothing is held.").await;
        page.see("Nothing has happened yet.").await;
        page.see("nothing held, no trouble").await;
        page.find("//*[@role='status'][contains(., 'Live')]").await;
        // The page is not loaded again: this mark would be gone.
        page.script("window.mark = 1; return 1").await;
        coast.drop("drops/tide/ullin_1.csv", "1");
        coast.drop("drops/tide/ullin_2.csv", "1");
        coast.drop("drops/sums/bad.csv", "a,b\n1\n");
        page.find("//article[@data-gate='tide']//dt[.='Filed today']/following-sibling::dd[normalize-space(.)='2']").await;
        page.find("//article[@data-gate='tide']//dt[.='Repeats today']/following-sibling::dd[normalize-space(.)='1']").await;
        page.find("//article[@data-gate='sums']//dt[.='Held']/following-sibling::dd[normalize-space(.)='1']").await;
        page.see("line 2: 1 fields where the header has 2").await;
        page.see("2 files filed today, 1 held").await;
        let told = page.find("//article[@data-gate='tide']//*[@role='img']").await;
        let label = told.attr("aria-label").await.unwrap().unwrap();
        assert!(label.starts_with("2 arrivals from "), "{label}");
        assert_eq!(page.script("return window.mark").await, json!(1));
    });
}

#[test]
fn a_gates_page_shows_the_drop_folder_with_verdicts_and_can_pause() {
    let coast = coast();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.press("tide").await;
        page.see("The drop folder is empty.").await;
        coast.drop("drops/tide/misnamed.csv", "x");
        let row = "//tr[contains(., 'misnamed.csv')]";
        page.find(&format!("{row}[contains(., 'leave')][contains(., 'comes closest')]")).await;
        page.press("Pause …").await;
        page.see("Pause the gate tide?").await;
        page.press("Pause").await;
        page.find("//h1[contains(., 'paused')]").await;
        coast.drop("drops/tide/ullin_1.csv", "1");
        page.find("//tr[contains(., 'ullin_1.csv')][contains(., 'when the gate is resumed')]")
            .await;
        page.click("//button[contains(., 'Verdict')]").await;
        page.click("//*[@role='option'][contains(., 'leave')]").await;
        page.find("//*[@aria-labelledby='drop'][not(.//tr[contains(., 'ullin_1.csv')])]").await;
        assert!(page.has(row).await);
        let tester = page.find("//input[@id='pattern']").await;
        page.see("It takes 1 file and leaves 1.").await;
        tester.send_keys("[").await.unwrap();
        page.see("a `[` without its `]`").await;
        page.type_in("//input[@id='pattern']", "mis<what>.csv").await;
        page.find("//*[@aria-labelledby='tester']//li[contains(., 'misnamed.csv')][contains(., 'what named')]").await;
        page.press("Rehearse").await;
        page.find("//*[@aria-labelledby='rehearsal']//li[contains(., 'ullin_1.csv')][contains(., 'archive/tide/ullin_1.csv')]").await;
        page.press("Resume").await;
        page.find("//h1[contains(., 'open')]").await;
        page.find(
            "//*[@aria-labelledby='newest']//tr[contains(., 'ullin_1.csv')][contains(., 'filed')]",
        )
        .await;
        page.press("Pass now").await;
        page.see("Pass done: 0 files entered").await;
    });
}

#[test]
fn the_ledger_is_searched_and_an_entry_tells_its_history() {
    let coast = coast();
    for n in 1..=60 {
        coast.drop(&format!("drops/tide/ullin_{n}.csv"), format!("{n}"));
    }
    coast.drop("drops/sums/a.csv", "x\n1\n2\n");
    let service = coast.serve();
    coast.wait("all is filed", |coast| coast.files("archive").len() == 61);
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.press("Ledger").await;
        page.see("61 entries, ").await;
        let search = page.find("//input[@type='search']").await;
        search.send_keys("ullin_42\u{e007}").await.unwrap();
        page.see("1 entry, 2 B").await;
        assert!(
            page.client.current_url().await.unwrap().query().unwrap().contains("text=ullin_42")
        );
        page.type_in("//input[@type='search']", "no such file\u{e007}").await;
        page.see("No entry is so.").await;
        page.go(&service, "/ledger?gate=sums").await;
        page.see("1 entry, 6 B").await;
        page.click("//table//td[1]/a").await;
        page.find("//h1[contains(., 'a.csv')]").await;
        for words in [
            "first noticed in the drop folder",
            "settled",
            "worked: 2 rows",
            "moved to the archive",
        ] {
            page.find(&format!("//*[@aria-labelledby='history']//li[contains(., '{words}')]"))
                .await;
        }
        page.find("//*[@aria-labelledby='batch']//li[contains(., 'out/sums.csv')]").await;
        let sum = text(&coast.entry("a.csv"), "sha256").to_owned();
        page.see(&sum).await;
        page.go(&service, "/entries/999").await;
        page.see("there is no entry 999").await;
        page.go(&service, "/nowhere").await;
        page.see("There is no such page.").await;
    });
}

#[test]
fn the_page_works_by_keyboard_on_a_phone_and_in_the_dark() {
    let coast = coast();
    let service = coast.serve();
    coast.drop(
        "drops/sums/a-name-that-is-much-longer-than-a-phone-is-wide-and-has-no-gap.csv",
        "a,b\n1\n",
    );
    coast.wait("it is held", |coast| {
        coast.ledger().first().is_some_and(|entry| entry["state"] == "held")
    });
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/gates").await;
        page.find("//article").await;
        // From the top: the jump to the content, the name, the pages.
        let mut reached = Vec::new();
        for _ in 0..9 {
            let key = "\u{e004}";
            page.client.active_element().await.unwrap().send_keys(key).await.unwrap();
            let name = "const e = document.activeElement; return e.getAttribute('aria-label') || e.innerText";
            reached.push(page.script(name).await.as_str().unwrap().trim().to_owned());
        }
        assert!(
            reached.join("|").starts_with(
                "To the content|Vadegate|Morning|Gates|Held|Ledger|Outputs|Clears|Search"
            ),
            "{reached:?}"
        );
        page.resize(390, 844).await;
        for path in ["/gates", "/gates/sums", "/ledger", "/entries/1"] {
            page.go(&service, path).await;
            page.find("//h1").await;
            page.see("a-name-that-is-much-longer").await;
            let over = "return document.documentElement.scrollWidth - window.innerWidth";
            assert_eq!(page.script(over).await, json!(0), "{path} is wider than the phone");
            let reached = "return [...document.querySelectorAll('header a, header button')].every((one) => one.getBoundingClientRect().right <= window.innerWidth)";
            assert_eq!(
                page.script(reached).await,
                json!(true),
                "{path}: the bar goes out of the phone"
            );
        }
        let ground = "return getComputedStyle(document.documentElement).backgroundColor";
        let light = page.script(ground).await;
        page.click("//button[@aria-label='Settings']").await;
        page.press("Dark").await;
        let dark = page.script(ground).await;
        assert_ne!(light, dark);
        page.go(&service, "/ledger").await;
        page.find("//h1").await;
        assert_eq!(page.script(ground).await, dark, "the choice is kept");
    });
}

#[test]
fn trouble_is_shown_and_the_line_comes_back_after_a_restart() {
    let coast = coast();
    std::fs::remove_dir(coast.path("drops/tide")).unwrap();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.see("1 gate in trouble").await;
        page.find("//article[@data-gate='tide'][contains(., 'cannot be read')]").await;
        let address = service.base.strip_prefix("http://").unwrap().to_owned();
        service.kill();
        page.see("Connection lost, trying again").await;
        coast.folder("drops/tide");
        let again = crate::support::Service::start(&coast, |command| {
            command.args(["--listen", &address]);
        });
        page.find("//*[@role='status'][contains(., 'Live')]").await;
        page.see("nothing held, no trouble").await;
        drop(again);
    });
}

#[test]
fn a_held_entry_is_released_on_its_page_with_who_and_why() {
    let coast = coast();
    coast.drop("drops/sums/bad.csv", "a,b\n1\n");
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.press("bad.csv").await;
        page.see("Held because").await;
        page.see("the same file").await;
        page.press("File as it is …").await;
        page.see("1 entry.").await;
        // Without a name and a reason nothing can be done.
        assert!(page.has("//button[@disabled][normalize-space(.)='File as it is']").await);
        page.type_in("//input[@aria-label='Why']", "known to be short").await;
        page.type_in("//input[@aria-label='Who']", "Ada").await;
        page.press("File as it is").await;
        page.see("1 entry: filed by the next pass.").await;
        page.press("Close").await;
        page.see("released, to be filed as it is: known to be short").await;
        page.see("by Ada").await;
        page.find("//h1[contains(., 'filed')]").await;
        // The name is remembered; what was filed can be worked again.
        page.press("Reopen …").await;
        page.type_in("//input[@aria-label='Why']", "mended").await;
        page.find("//button[not(@disabled)][normalize-space(.)='Reopen']").await;
    });
    coast.wait("it is filed", |coast| coast.files("archive/sums").len() == 1);
}

#[test]
fn what_was_done_is_told_while_the_entry_goes_on() {
    let script = "[ -e mended ] || exit 3; while [ ! -e go ]; do sleep 0.05; done";
    let coast = TestHome::new(&format!(
        "[gate.job]\ndrop = \"drops/job\"\nsettle = \"50ms\"\n\
         archive = {{ into = \"archive\" }}\n[gate.job.run]\nprogram = \"/bin/sh\"\n\
         args = [\"-c\", \"{script}\"]\n"
    ));
    coast.drop("drops/job/1.txt", "1");
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.press("1.txt").await;
        page.press("Work again …").await;
        page.see("1 entry.").await;
        coast.drop("mended", "");
        page.type_in("//input[@aria-label='Why']", "mended").await;
        page.type_in("//input[@aria-label='Who']", "Ada").await;
        page.press("Work again").await;
        // Nothing can be done to a working entry; what was done is told all the same.
        page.find("//h1[contains(., 'working')]").await;
        page.see("1 entry: the next pass works it.").await;
        page.press("Close").await;
        page.find("//body[not(contains(., 'Work again'))]").await;
        coast.drop("go", "");
        page.find("//h1[contains(., 'filed')]").await;
        page.find("//button[normalize-space(.)='Reopen …']").await;
    });
}

#[test]
fn many_entries_are_released_at_once_and_files_adopted() {
    let coast = coast();
    for number in 0..12 {
        coast.drop(&format!("drops/sums/bad_{number}.csv"), format!("a,b\n{number}\n"));
    }
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.see("12 held").await;
        page.go(&service, "/ledger?state=held&gate=sums").await;
        page.press("Delete the file …").await;
        page.see("12 entries.").await;
        page.type_in("//input[@aria-label='Why']", "test files").await;
        page.type_in("//input[@aria-label='Who']", "Ada").await;
        page.press("Delete").await;
        page.see("12 entries: deleted.").await;
        page.press("Close").await;
        page.see("No entry is so.").await;
        // What lies in the drop folder of a paused gate can be adopted.
        service.post("/api/v1/gates/tide/pause");
        coast.drop("drops/tide/ullin_1.csv", "1");
        page.go(&service, "/gates/tide").await;
        page.find("//tr[contains(., 'ullin_1.csv')]").await;
        page.press("Adopt …").await;
        page.see("1 file.").await;
        page.type_in("//input[@aria-label='Why']", "worked before").await;
        page.press("Adopt").await;
        page.see("1 file entered as already worked.").await;
        assert_eq!(text(&coast.entry("ullin_1.csv"), "state"), "adopted");
        assert!(coast.files("drops/sums").is_empty());
    });
}

#[test]
fn pages_that_nobody_sees_hold_no_connection() {
    let coast = coast();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        // A browser has six connections for a service; each of these pages is kept for
        // going back, and would hold one.
        for _ in 0..5 {
            page.go(&service, "/ledger").await;
            page.see("The ledger is empty.").await;
            page.go(&service, "/").await;
            page.find("//*[@role='status'][contains(., 'Live')]").await;
        }
    });
}

#[test]
fn the_files_of_the_page_are_packed_for_who_can_read_it() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.folder("drops/tide");
    let service = coast.serve();
    let ask = |path: &str, accepts: &str| {
        let call = service.agent().get(service.url(path)).header("Accept-Encoding", accepts);
        let mut answer = call.call().unwrap();
        let of = |name: &str| {
            let value = answer.headers().get(name).map(|value| value.to_str().unwrap().to_owned());
            value.unwrap_or_default()
        };
        let (encoding, varies) = (of("content-encoding"), of("vary"));
        (encoding, varies, answer.body_mut().read_to_vec().unwrap())
    };
    let page = String::from_utf8(ask("/", "identity").2).unwrap();
    let at = page.find("/assets/index-").unwrap();
    let script = page[at..].split('"').next().unwrap();
    let (encoding, _, plain) = ask(script, "identity");
    assert_eq!(encoding, "");
    let (encoding, varies, packed) = ask(script, "gzip, deflate, br");
    assert_eq!((&*encoding, &*varies.to_lowercase()), ("br", "accept-encoding"));
    assert!(packed.len() * 2 < plain.len(), "{} of {}", packed.len(), plain.len());
    assert_eq!(ask(script, "gzip").0, "gzip");
    assert_eq!(ask(script, "gzip, br;q=0").0, "gzip");
}
