//! Pages of works, and of what is due, in headless Chromium.

use serde_json::json;

use crate::browser::with_page;
use crate::console::SIZE;
use crate::support::TestHome;

#[test]
fn clears_are_rehearsed_and_done_on_their_page_and_what_was_edited_is_shown() {
    let coast = TestHome::new(
        "[gate.notes]\ndrop = \"drops\"\nsettle = \"50ms\"\narchive = { into = \"archive\" }\n\
         edit = { into = \"out\", replace = [{ find = \"bay\", with = \"Bay\" }] }\n\
         [clear.scratch]\nfolder = \"scratch\"\nmatch = [\"*.png\"]\nkeep = { newest = 1 }\n\
         at = \"03:00\"\n",
    );
    coast.folder("drops");
    for name in ["a.png", "b.png", "c.png"] {
        coast.drop(&format!("scratch/{name}"), name);
    }
    let service = coast.serve();
    coast.drop("drops/a.txt", "ullin bay\n");
    coast.wait("it is edited", |coast| coast.files("archive").len() == 1);
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/clears").await;
        page.see("Nothing was removed.").await;
        page.see("at 03:00").await;
        page.press("Rehearse").await;
        page.see("Would remove: 2 files, 10 B.").await;
        assert_eq!(coast.files("scratch").len(), 3);
        page.press("Clear now …").await;
        page.type_in("//input[@aria-label='Why']", "the disk is small").await;
        page.type_in("//input[@aria-label='Who']", "Ada Fennick").await;
        page.press("Remove").await;
        page.see("2 files removed.").await;
        page.see("Ada Fennick (local): the disk is small").await;
        page.resize(390, 844).await;
        page.see("Ada Fennick (local): the disk is small").await;
        let over = "return document.documentElement.scrollWidth - window.innerWidth";
        assert_eq!(page.script(over).await, json!(0), "it is wider than the phone");
        page.resize(SIZE.0, SIZE.1).await;
        assert_eq!(coast.files("scratch").len(), 1);
        page.go(&service, "/ledger").await;
        page.click("//table//td[1]/a").await;
        page.see("1 place replaced").await;
        page.find("//*[@aria-label='What was set']//li[contains(., '1 time')]").await;
    });
}

#[test]
fn the_morning_shows_what_is_late_and_an_excuse_is_given_there() {
    let (by, day) = crate::noon::wall(-3600);
    let coast = crate::noon::coast(&format!(
        "[due.tide-morning]\ngate = \"tide\"\neach = \"<station>\"\n\
         of = [\"haven\", \"garrow-light\"]\nby = \"{by}\"\n"
    ));
    coast.drop("drops/haven_1.csv", "1\n");
    coast.drop("drops/light_1.csv", "");
    let service = coast.serve();
    coast.wait("it is filed", |coast| coast.ledger().len() == 2);
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/morning?due=tide-morning").await;
        page.see("Something needs a person.").await;
        page.see("1 reason for which files are held").await;
        page.find(&format!("//button[@aria-label='haven {day}: here late']")).await;
        page.click(&format!("//button[@aria-label='garrow-light {day}: late']")).await;
        page.see("nothing is here").await;
        page.press("Excuse …").await;
        page.type_in("//input[@aria-label='Why']", "the gauge is repaired").await;
        page.type_in("//input[@aria-label='Who']", "Ada Fennick").await;
        page.press("It need not come").await;
        page.find(&format!("//button[@aria-label='garrow-light {day}: excused']")).await;
        page.see("excused by Ada Fennick (local): the gauge is repaired").await;
        page.click(&format!("//button[@aria-label='haven {day}: here late']")).await;
        page.resize(390, 844).await;
        page.see("1 file").await;
        let over = "return document.documentElement.scrollWidth - window.innerWidth";
        assert_eq!(page.script(over).await, json!(0), "it is wider than the phone");
        page.resize(SIZE.0, SIZE.1).await;
        page.click("//p[contains(., 'entries')]//a").await;
        page.find("//h1[contains(., 'haven_1.csv')]").await;
    });
}
