//! Lists of any length in the console: drop folders and the ledger.

use serde_json::json;

use crate::browser::{Page, with_page};
use crate::support::TestHome;

const SIZE: (u32, u32) = (1280, 900);
const FILES: usize = 3_000;

fn coast() -> TestHome {
    let coast = TestHome::new(
        "timezone = \"Europe/Oslo\"\n[gate.tide]\ndrop = \"drops/tide\"\ntake = [\"<station>_<number>.csv\"]\nsettle = \"0s\"\n\
         archive = { into = \"archive\" }\n",
    );
    coast.folder("drops/tide");
    coast
}

/// Scrolls the list below the pointer to its end.
async fn to_the_end(page: &Page, caption: &str) {
    let script = format!(
        "const list = document.querySelector(`[role=region][aria-label=\"{caption}\"]`); list.scrollTop = list.scrollHeight; return list.querySelectorAll('tbody tr').length"
    );
    let rows = page.script(&script).await.as_u64().unwrap();
    assert!(rows < 120, "{rows} rows are in the page at once");
}

#[test]
fn a_drop_folder_of_thousands_is_searched_filtered_and_scrolled_on_the_server() {
    let coast = coast();
    for number in 0..FILES {
        coast.drop(&format!("drops/tide/chart {number}.dat"), "x");
    }
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/gates/tide").await;
        page.find("//h2[contains(., 'Drop folder')]/span[.='3,000 files']").await;
        page.find("//tr[contains(., 'chart 9.dat')]").await;
        // In the order of numbers, and no page ends it.
        let mut last = "chart 199.dat".to_owned();
        for page_end in [399, 599] {
            page.find(&format!("//tr[contains(., '{last}')] | //tr[@aria-rowindex]")).await;
            to_the_end(&page, "What lies in the drop folder").await;
            last = format!("chart {page_end}.dat");
            let rows = format!("//table[@aria-rowcount >= {}]", page_end + 2);
            page.find(&rows).await;
        }
        page.type_in("//input[@aria-label='Search the drop folder']", "CHART 29\u{e007}").await;
        page.find("//h2[contains(., 'Drop folder')]/span[.='111 files']").await;
        page.find("//tr[contains(., 'chart 290.dat')][contains(., 'leave')]").await;
        page.click("//button[contains(., 'Verdict')]").await;
        page.click("//*[@role='option'][contains(., 'take:')]").await;
        page.see("No file is so.").await;
        page.type_in("//input[@id='pattern']", "chart <n>.dat").await;
        page.see("It takes 3,000 files and leaves 0. The first of each are below.").await;
    });
}

#[test]
fn the_ledger_tells_what_is_new_and_does_not_move_under_the_reader() {
    let coast = coast();
    for number in 0..250 {
        coast.drop(&format!("drops/tide/ullin_{number}.csv"), format!("{number}"));
    }
    let service = coast.serve();
    coast.wait("all is filed", |coast| coast.files("archive").len() == 250);
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/ledger").await;
        page.see("250 entries, ").await;
        page.find("//tr[@aria-rowindex='2'][contains(., '250')]").await;
        to_the_end(&page, "Entries").await;
        page.find("//table[@aria-rowcount='201']").await;
        to_the_end(&page, "Entries").await;
        page.find("//table[@aria-rowcount='251']").await;
        page.script("document.querySelector('[role=region]').scrollTop = 0").await;
        for name in ["corran_1", "corran_2"] {
            coast.drop(&format!("drops/tide/{name}.csv"), name);
        }
        page.find("//button[starts-with(normalize-space(.), '2 new')]").await;
        page.see("252 entries, ").await;
        let first = "//tr[@aria-rowindex='2'][.//a[normalize-space(.)='250']]";
        assert!(page.has(first).await, "the list stays as it is");
        page.click("//button[starts-with(normalize-space(.), '2 new')]").await;
        page.find("//tr[@aria-rowindex='2'][.//a[normalize-space(.)='252']]").await;
        // A whole row leads to its entry.
        page.script(
            "const cell = document.querySelector('tr[aria-rowindex=\"3\"] td:nth-child(4)'); \
             const { x, y } = cell.getBoundingClientRect(); \
             document.elementFromPoint(x + 5, y + 5).click()",
        )
        .await;
        page.find("//p[contains(., 'Entry 251 of gate')]").await;
    });
}

#[test]
fn the_ledger_is_sorted_shown_by_fields_narrowed_to_days_and_saved() {
    let coast = coast();
    for (name, content) in [("ullin_1", "1"), ("corran_22", "1234"), ("fennick_3", "12")] {
        coast.drop(&format!("drops/tide/{name}.csv"), content);
    }
    let service = coast.serve();
    coast.wait("all is filed", |coast| coast.files("archive").len() == 3);
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/ledger").await;
        page.see("3 entries, 7 B").await;
        page.press("Size").await;
        page.find("//tr[@aria-rowindex='2'][contains(., 'corran_22')]").await;
        page.press("Size").await;
        page.find("//tr[@aria-rowindex='2'][contains(., 'ullin_1')]").await;
        page.press("File").await;
        page.find("//tr[@aria-rowindex='3'][contains(., 'fennick_3')]").await;
        page.find("//th[@aria-sort='descending'][contains(., 'File')]").await;
        page.click("//button[contains(., 'Columns')]").await;
        page.click("//*[@role='option'][contains(., 'station')]").await;
        page.find("//tr[@aria-rowindex='3']/td[normalize-space(.)='fennick']").await;
        page.find("//th[normalize-space(.)='station']").await;
        page.go(&service, "/ledger?field=station%3Dcorran&columns=number").await;
        page.see("1 entry, 4 B").await;
        page.find("//tr[@aria-rowindex='2']/td[normalize-space(.)='22']").await;
        // What is saved is what is shown.
        let link = page.find("//a[normalize-space(.)='CSV']").await;
        let saved = "const link = arguments[0]; link.removeAttribute('download'); \
             link.addEventListener('click', event => event.preventDefault()); link.click(); \
             return link.href";
        let target = serde_json::to_value(&link).unwrap();
        let href = page.client.execute(saved, vec![target]).await.unwrap();
        assert!(href.as_str().unwrap().ends_with("/entries.csv?field=station%3Dcorran"), "{href}");
        let table = page
            .client
            .execute_async(
                "const done = arguments[1]; fetch(arguments[0]).then(answer => answer.text()).then(done)",
                vec![href],
            )
            .await
            .unwrap();
        let lines: Vec<&str> = table.as_str().unwrap().lines().collect();
        assert_eq!(lines.len(), 2, "{lines:?}");
        assert!(lines[0].starts_with("entry,gate,") && lines[1].contains("corran_22.csv"));
        // By days, in the service's time zone.
        let day = jiff::Timestamp::now().in_tz("Europe/Oslo").unwrap().date();
        page.go(&service, &format!("/ledger?from={day}&to={day}")).await;
        page.see("3 entries, 7 B").await;
        page.go(&service, &format!("/ledger?to={}", day.yesterday().unwrap())).await;
        page.see("No entry is so.").await;
        assert_eq!(
            page.script("return document.querySelectorAll('input[type=date]').length").await,
            json!(2)
        );
    });
}
