//! What is held, and files that are handed in, on the console's pages.

use serde_json::json;

use crate::browser::{Page, with_page};
use crate::support::{Service, TestHome, shown};

const SIZE: (u32, u32) = (1280, 900);

fn coast() -> TestHome {
    let coast = TestHome::new(
        "[gate.sums]\ndrop = \"drops/sums\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"archive\" }\n\
         merge = { into = \"out/all.csv\", column.level_m = { type = \"decimal\" } }\n",
    );
    coast.folder("drops/sums");
    coast
}

async fn name_and_why(page: &Page, why: &str) {
    page.type_in("//input[@aria-label='Why']", why).await;
    page.type_in("//input[@aria-label='Who']", "mara").await;
}

/// Chooses a file as a person does.
async fn choose(page: &Page, label: &str, coast: &TestHome, file: &str) {
    let input = page.find(&format!("//input[@type='file'][@aria-label='{label}']")).await;
    input.send_keys(&shown(&coast.path(file))).await.unwrap();
}

async fn begin(page: &Page, service: &Service) {
    page.sign_in(service).await;
    page.go(service, "/").await;
}

#[test]
fn held_files_are_looked_at_one_after_the_other_and_many_are_filed_at_once() {
    let coast = coast();
    for number in 1..=30 {
        coast.drop(&format!("drops/sums/short {number}.csv"), format!("time,level_m\n{number}\n"));
    }
    coast.drop("drops/sums/odd.csv", "time,level_m\n1,0.5\n2,high\n");
    let service = coast.serve();
    coast.wait("all is held", |coast| {
        coast.ledger().iter().filter(|one| one["state"] == "held").count() == 31
    });
    with_page(SIZE, |page| async move {
        begin(&page, &service).await;
        // From the morning to the text at the fault in one step.
        page.press("sums: 1 held").await;
        page.find("//h2[@id='look'][contains(., 'odd.csv')]").await;
        page.find("//tr[@aria-current='true']/th[normalize-space(.)='3']").await;
        page.find("//tr[@aria-current='true']//mark[.='high']").await;
        page.click("//section[@aria-label='Reasons']//a[contains(., '30')]").await;
        page.find("//section[@aria-labelledby='look']//span[.='1 of 30']").await;
        page.press("Next j").await;
        page.find("//section[@aria-labelledby='look']//span[.='2 of 30']").await;
        page.script("document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'k', bubbles: true }))").await;
        page.find("//section[@aria-labelledby='look']//span[.='1 of 30']").await;
        // Thirty at once: choose all, file them, say why.
        page.click("//label[contains(., 'All 30')]").await;
        page.see("30 chosen").await;
        page.click("//*[@aria-label='Reasons']//button[contains(., 'File as it is')]").await;
        page.find("//*[@role='dialog']//p[contains(., '30 entries.')]").await;
        name_and_why(&page, "known to be short").await;
        page.press("File as it is").await;
        page.see("30 entries: filed by the next pass.").await;
        page.press("Close").await;
        coast.wait("they are filed", |coast| {
            coast.ledger().iter().filter(|one| one["state"] == "filed").count() == 30
        });
        page.find("//h1[contains(., 'Held')]/span[.='1']").await;
        // What is deleted is named, and nothing is lost by a click beside it.
        page.click("//*[@aria-labelledby='look']//button[contains(., 'Delete the file')]").await;
        page.find("//*[@role='dialog']//ul[@aria-label='What is deleted']/li[contains(., 'drops/sums/odd.csv')]").await;
        page.find("//*[@role='dialog']//button[contains(@class, 'button-danger')]").await;
        name_and_why(&page, "no use").await;
        page.script("document.elementFromPoint(5, 300).dispatchEvent(new PointerEvent('pointerdown', { bubbles: true })); document.elementFromPoint(5, 300).click()").await;
        assert!(page.has("//*[@role='dialog']//input[@aria-label='Why']").await);
        page.press("Delete").await;
        page.see("1 entry: deleted.").await;
        page.press("Close").await;
        page.see("Nothing is held.").await;
        assert!(coast.files("drops").is_empty());
    });
}

#[test]
fn a_held_file_is_downloaded_and_a_mended_one_handed_in_in_its_place() {
    let coast = coast();
    coast.drop("drops/sums/odd one.csv", "time,level_m\n2,high\n");
    std::fs::write(coast.path("mended.csv"), "time,level_m\n2,0.75\n").unwrap();
    let service = coast.serve();
    coast.wait("it is held", |coast| coast.ledger().iter().any(|one| one["state"] == "held"));
    let there = &coast;
    let (status, content) = service.ask("GET", "/api/v1/entries/1/file", &[]);
    assert_eq!((status, content.as_str()), (200, "time,level_m\n2,high\n"));
    with_page(SIZE, |page| async move {
        let coast = there;
        begin(&page, &service).await;
        page.go(&service, "/held").await;
        page.find("//a[normalize-space(.)='Download it'][@href='/api/v1/entries/1/file']").await;
        page.type_in("//input[@aria-label='Who mends it']", "mara").await;
        choose(&page, "The mended file", coast, "mended.csv").await;
        page.see("Nothing is held.").await;
        page.see("The mended file came as entry 2").await;
        coast.wait("it is merged", |coast| {
            coast.files("out").len() == 1 && coast.read("out/all.csv") == "time,level_m\n2,0.75\n"
        });
        page.go(&service, "/entries/2").await;
        page.see("handed in by mara (local)").await;
    });
    // In its place another lies by now.
    std::fs::write(coast.path("archive/odd one.csv"), "longer than it was before").unwrap();
    let service = coast.serve();
    let (status, told) = service.ask("GET", "/api/v1/entries/1/file", &[]);
    assert!(status == 404 && told.contains("not the entry's file any more"), "{status} {told}");
}

#[test]
fn files_are_dropped_onto_a_gate_with_progress_and_with_who() {
    let coast = coast();
    std::fs::write(coast.path("one.csv"), "time,level_m\n1,0.5\n").unwrap();
    std::fs::write(coast.path("bad.csv"), "time,level_m\n1\n").unwrap();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        begin(&page, &service).await;
        page.go(&service, "/gates/sums").await;
        let panel = "//*[@aria-labelledby='hand-in']";
        page.type_in("//input[@aria-label='Who hands them in']", "mara").await;
        choose(&page, "Files to hand in", &coast, "one.csv").await;
        page.find(&format!("{panel}//li[contains(., 'one.csv')]//a[contains(., 'entry 1')]")).await;
        // As they are dropped by the pointer.
        let dropped = "const zone = document.querySelector('[aria-labelledby=hand-in]'); \
             const list = new DataTransfer(); \
             list.items.add(new File(['time,level_m\\n1\\n'], 'bad.csv')); \
             list.items.add(new File(['time,level_m\\n1,0.5\\n'], 'again.csv')); \
             list.items.add(new File(['x'.repeat(9 * 1024 * 1024)], 'large.tmp')); \
             zone.dispatchEvent(new DragEvent('drop', { dataTransfer: list, bubbles: true, cancelable: true }))";
        page.script(dropped).await;
        page.find(&format!(
            "{panel}//li[contains(., 'again.csv')][contains(., 'the same as entry 1')]"
        ))
        .await;
        page.find(&format!("{panel}//li[contains(., 'bad.csv')]//a[contains(., 'entry 2')]")).await;
        page.find(&format!("{panel}//li[contains(., 'large.tmp')][contains(., 'temporary file')]"))
            .await;
        page.press("Put these away").await;
        page.find(&format!("{panel}[not(.//li)]")).await;
        let log = page.script("return document.querySelectorAll('progress').length").await;
        assert_eq!(log, json!(0));
        page.go(&service, "/entries/1").await;
        page.see("handed in by mara (local)").await;
    });
}
