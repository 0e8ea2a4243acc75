//! What people ask in the morning, each answered on the page in three actions at the most.

use std::cell::Cell;

use crate::browser::{Page, with_page};
use crate::support::TestHome;

const SIZE: (u32, u32) = (1280, 800);

/// A person in front of the page, whose actions are counted.
struct Person<'a> {
    page: &'a Page,
    actions: Cell<u32>,
}

impl Person<'_> {
    async fn click(&self, xpath: &str) {
        self.actions.set(self.actions.get() + 1);
        self.page.click(xpath).await;
    }

    /// Opens the search by its key, types, and takes what is found first, or all in the ledger.
    async fn search(&self, text: &str, all: bool) {
        self.actions.set(self.actions.get() + 2);
        let script = "document.body.dispatchEvent(new KeyboardEvent('keydown', { key: '/', bubbles: true }))";
        self.page.script(script).await;
        self.page.type_in("//input[@aria-label='Search']", text).await;
        let wanted = if all { "All entries that fit" } else { text };
        self.page.find(&format!("//*[@role='option'][contains(., '{wanted}')]")).await;
        if all {
            self.page.click(&format!("//*[@role='option'][contains(., '{wanted}')]")).await;
        } else {
            let keys = "\u{e007}";
            self.page.find("//input[@aria-label='Search']").await.send_keys(keys).await.unwrap();
        }
    }

    /// Chooses from a list.
    async fn choose(&self, list: &str, choice: &str) {
        self.actions.set(self.actions.get() + 1);
        self.page.click(&format!("//button[contains(., '{list}')]")).await;
        self.page.click(&format!("//*[@role='option'][contains(., '{choice}')]")).await;
    }

    async fn sees(&self, xpath: &str) {
        self.page.find(xpath).await;
    }

    /// The answer is there.
    fn done(&self, question: &str) {
        let actions = self.actions.replace(0);
        assert!(actions <= 3, "{question}: {actions} actions");
    }
}

fn coast() -> TestHome {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\ntake = [\"<station>_<number>.csv\"]\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"archive\" }\nmerge = { into = \"out/<station>.csv\" }\n\
         [due.tide-morning]\ngate = \"tide\"\neach = \"<station>\"\nof = [\"ullin\", \"morrow\"]\nby = \"00:01\"\n",
    );
    coast.folder("drops/tide");
    coast.drop("drops/tide/ullin_1.csv", "t,m\n1,0.5\n2,0.6\n");
    for number in 10..40 {
        coast.drop(&format!("drops/tide/fennick_{number}.csv"), format!("t,m\n{number}\n"));
    }
    coast.drop("drops/tide/ullin-2.csv", "t,m\n1,0.5\n");
    coast
}

#[test]
fn each_question_of_the_morning_is_answered_in_three_actions() {
    let coast = coast();
    let service = coast.serve();
    coast.wait("all is done that can be", |coast| {
        let of = |state: &str| coast.ledger().iter().filter(|one| one["state"] == state).count();
        of("held") == 30 && of("filed") == 1
    });
    with_page(SIZE, |page| async move {
        page.sign_in(&service).await;
        let person = Person { page: &page, actions: Cell::new(0) };
        let morning = async || page.go(&service, "/").await;

        morning().await;
        person.sees("//*[@aria-labelledby='expected']//*[contains(@aria-label, 'ullin')]").await;
        person.done("did everything come?");
        person.sees("//section[contains(., 'late or missing')]//li[contains(., 'morrow')]").await;
        person.done("what is late?");
        person.sees("//*[@aria-labelledby='night'][contains(., 'held')]").await;
        person.done("what did the night do?");

        person.search("ullin_1.csv", false).await;
        person.sees("//*[@aria-labelledby='history'][contains(., 'settled')]").await;
        person.done("what happened to this file?");

        morning().await;
        let script = "document.body.dispatchEvent(new KeyboardEvent('keydown', { key: '/', bubbles: true }))";
        page.script(script).await;
        page.type_in("//input[@aria-label='Search']", "drops/tide/ullin-2.csv").await;
        person.sees("//*[@role='option'][contains(., 'comes closest')]").await;
        person.done("why was it not taken?");

        morning().await;
        person.click("//a[contains(., '30 held')]").await;
        person.sees("//tr[@aria-current='true']").await;
        person.sees("//*[@aria-labelledby='look']//button[contains(., 'Work again')]").await;
        person.done("what is stuck, and what do I do?");

        person.click("//label[contains(., 'All 30')]").await;
        person.click("//*[@aria-label='Reasons']//button[contains(., 'File as it is')]").await;
        person.sees("//*[@role='dialog'][contains(., '30 entries.')]").await;
        person.done("take thirty held files at once");

        page.go(&service, "/").await;
        person.click("//nav//a[.='Outputs']").await;
        person.click("//a[normalize-space(.)='ullin.csv']").await;
        person.sees("//*[@aria-labelledby='account'][contains(., '2 rows in = 2 out')]").await;
        person.click("//a[normalize-space(.)='the files in it']").await;
        person.sees("//tr[contains(., 'ullin_1.csv')]").await;
        person.done("which sources are in this output, and do the rows add up?");

        morning().await;
        person.search("ullin_1.csv", false).await;
        person.click("//button[contains(., 'Reopen')]").await;
        person.sees("//*[@role='dialog'][contains(., 'would stand twice')]").await;
        person.done("can I run that again?");

        morning().await;
        person.search("station=fennick", true).await;
        let today =
            page.script("return new Date().toLocaleDateString('en-GB', { weekday: 'long' })").await;
        person.choose("Entered", today.as_str().unwrap()).await;
        person.sees("//*[@role='status'][contains(., '30 entries')]").await;
        person.sees("//button[contains(., 'Entered')][contains(., 'today')]").await;
        person.done("the files of one supplier of one day of last week");
    });
}
