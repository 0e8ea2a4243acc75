//! People, tokens, sessions and the audit log on the page; what a role may not do is not
//! offered; and every page is usable by all (axe finds nothing).

use std::path::Path;

use serde_json::{Value, json};

use crate::accounts::{PASSWORD, with_password};
use crate::browser::{Page, with_page};
use crate::support::{TestHome, filing_gate, text, wait};

const SIZE: (u32, u32) = (1280, 800);

fn coast() -> TestHome {
    let coast = TestHome::new(&format!(
        "{}[clear.scratch]\nfolder = \"scratch\"\nmatch = [\"*.tmp\"]\n",
        filing_gate("tide", "take = [\"*.csv\"]")
    ));
    coast.folder("drops/tide");
    coast.folder("scratch");
    for (name, role) in [("mara", "operator"), ("ada", "admin"), ("jon", "viewer")] {
        let added = with_password(&coast, &format!("user add {name} --role {role}"), PASSWORD);
        assert_eq!(added.code, 0, "{}", added.err);
    }
    coast.drop("drops/tide/a.csv", "");
    coast
}

async fn sign_in(page: &Page, name: &str) {
    page.type_in("//input[@id='name']", name).await;
    page.type_in("//input[@id='password']", PASSWORD).await;
    page.press("Sign in").await;
    page.find("//h1[text()='Morning']").await;
}

async fn sign_out(page: &Page) {
    page.click("//button[@aria-label='Settings']").await;
    page.press("Sign out").await;
    page.find("//input[@id='name']").await;
}

/// What axe finds on the page as it is (WCAG 2.2, levels A and AA).
pub async fn faults(page: &Page) -> Vec<String> {
    let axe = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../../console/node_modules/axe-core/axe.min.js");
    let axe = std::fs::read_to_string(axe).expect("`npm ci` in console installs axe");
    page.script(&format!("{axe}; return 1")).await;
    let run = "return axe.run({ runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'] })\
               .then((found) => found.violations.map((one) => ({ id: one.id, help: one.help, nodes: one.nodes.map((node) => node.html) })))";
    let found = page.script(run).await;
    let found = found.as_array().unwrap().iter();
    found.map(|one| format!("{}: {} {}", one["id"], one["help"], one["nodes"])).collect()
}

#[test]
fn every_page_is_usable_by_all() {
    let coast = coast();
    let service = coast.serve();
    wait("it is held", || coast.ledger().first().filter(|one| one["state"] == "held").cloned());
    with_page(SIZE, |page| async move {
        page.go(&service, "/sign-in").await;
        page.find("//input[@id='name']").await;
        assert_eq!(faults(&page).await, [""; 0], "/sign-in");
        sign_in(&page, "ada").await;
        for (path, there) in [
            ("/", "//h1"),
            ("/gates", "//article"),
            ("/gates/tide", "//h1"),
            ("/ledger", "//tr"),
            ("/held", "//*[@id='look']"),
            ("/outputs", "//h1"),
            ("/lineage?entry=1", "//li[contains(., 'entry') or contains(., 'Entry')]"),
            ("/configuration", "//*[contains(@class, 'cm-line')]"),
            ("/new-gate", "//*[@aria-labelledby='folder']//li//button"),
            ("/no-such-page", "//h1"),
            ("/entries/1", "//h1"),
            ("/clears", "//h2"),
            ("/account", "//tr"),
            ("/people", "//tr[contains(., 'mara')]"),
            ("/audit", "//tr[contains(., 'sign-in')]"),
        ] {
            page.go(&service, path).await;
            page.find(there).await;
            assert_eq!(faults(&page).await, [""; 0], "{path}");
            page.dark(true).await;
            assert_eq!(faults(&page).await, [""; 0], "{path}, dark");
            page.dark(false).await;
        }
        // Each dialog, as it opens.
        for (path, opens) in [
            ("/entries/1", "//button[contains(., 'File as it is')]"),
            ("/entries/1", "//button[contains(., 'Delete the file')]"),
            ("/gates/tide", "//button[contains(., 'Adopt')]"),
            ("/gates/tide", "//button[contains(., 'Pause')]"),
            ("/people", "//button[contains(., 'Password')]"),
            ("/gates", "//button[contains(., 'Search')]"),
        ] {
            page.go(&service, path).await;
            page.click(opens).await;
            page.find("//*[@role='dialog']//*[self::h2 or self::input]").await;
            assert_eq!(faults(&page).await, [""; 0], "{path} {opens}");
        }
    });
}

#[test]
fn a_page_that_is_gone_to_has_the_focus_at_its_heading_and_a_missing_piece_loads_it_anew() {
    let coast = coast();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.go(&service, "/sign-in").await;
        sign_in(&page, "ada").await;
        page.go(&service, "/gates").await;
        page.press("Ledger").await;
        page.find("//h1[text()='Ledger'][@tabindex='-1']").await;
        let focused = "return document.activeElement.textContent";
        assert_eq!(page.script(focused).await, json!("Ledger"));
        // Twice as large there is nothing to scroll sideways.
        page.resize(640, 400).await;
        for path in ["/", "/gates/tide", "/held", "/ledger", "/outputs"] {
            page.go(&service, path).await;
            page.find("//h1").await;
            let over = "return document.documentElement.scrollWidth - window.innerWidth";
            assert_eq!(page.script(over).await, json!(0), "{path}");
        }
        page.script("window.mark = 1; window.dispatchEvent(new Event('vite:preloadError', { cancelable: true }))").await;
        wait_async(&page, "return window.mark ?? 0", &json!(0)).await;
    });
}

/// Waits until a script says so.
async fn wait_async(page: &Page, script: &str, said: &Value) {
    let begun = std::time::Instant::now();
    while page.script(script).await != *said {
        assert!(begun.elapsed() < crate::support::PATIENCE, "{script} never said {said}");
    }
}

#[test]
fn what_a_role_may_not_do_is_not_offered() {
    let coast = coast();
    let service = coast.serve();
    wait("it is held", || coast.ledger().first().filter(|one| one["state"] == "held").cloned());
    with_page(SIZE, |page| async move {
        page.go(&service, "/").await;
        sign_in(&page, "jon").await;
        let offered = [
            ("/gates/tide", "//button[.='Pass now']", "operator"),
            ("/gates/tide", "//button[contains(., 'Adopt')]", "operator"),
            ("/entries/1", "//button[contains(., 'File as it is')]", "operator"),
            ("/entries/1", "//button[contains(., 'Delete the file')]", "admin"),
            ("/clears", "//button[.='Rehearse']", "admin"),
        ];
        let ranks = ["viewer", "operator", "admin"];
        for (name, role) in [("jon", "viewer"), ("mara", "operator"), ("ada", "admin")] {
            if name != "jon" {
                sign_out(&page).await;
                sign_in(&page, name).await;
            }
            let rank = |role: &str| ranks.iter().position(|one| *one == role).unwrap();
            for (path, button, wanted) in offered {
                page.go(&service, path).await;
                page.find("//h1|//h2").await;
                page.find("//*[@role='status'][contains(., 'Live')]").await;
                if rank(role) >= rank(wanted) {
                    page.find(button).await;
                } else {
                    assert!(!page.has(button).await, "{role} {path} {button}");
                }
            }
            page.click("//button[@aria-label='Settings']").await;
            page.find(&format!(
                "//*[@role='menu' or @role='none' or self::div][contains(., '{name}')]"
            ))
            .await;
            assert_eq!(page.has("//a[.='Audit log']").await, role == "admin", "{role}");
            page.click("//button[@aria-label='Settings']").await;
        }
        // What is done is recorded under the name, and nobody is asked for it.
        page.go(&service, "/entries/1").await;
        page.press("File as it is …").await;
        page.see("It is recorded as done by ada.").await;
        page.type_in("//input[@aria-label='Why']", "it may be empty").await;
        page.press("File as it is").await;
        page.see("filed by the next pass").await;
        assert!(coast.json("entry 1")["history"].to_string().contains("\"by\":\"ada\""));
    });
}

#[test]
fn an_admin_adds_people_makes_tokens_and_reads_the_log() {
    let coast = coast();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.go(&service, "/people").await;
        page.find("//input[@id='name']").await;
        page.type_in("//input[@id='name']", "ada").await;
        page.type_in("//input[@id='password']", PASSWORD).await;
        page.press("Sign in").await;
        page.find("//h1[text()='People']").await;
        let form = "//form[contains(., 'A new user')]";
        page.type_in(&format!("{form}//input[@type='password']"), "short").await;
        page.type_in(&format!("{form}//input[not(@type)]"), "lena").await;
        page.press("Add").await;
        page.see("the password is too short").await;
        page.type_in(&format!("{form}//input[@type='password']"), PASSWORD).await;
        page.press("Add").await;
        page.find(
            "//section[@aria-labelledby='users']//tr[contains(., 'lena')][contains(., 'operator')]",
        )
        .await;
        page.press("Make it").await;
        page.see("It is shown this once").await;
        let secret = page.find("//p[contains(@class, 'select-all')]").await.text().await.unwrap();
        assert!(secret.starts_with("vadegate_"), "{secret}");
        let asked =
            service.ask("GET", "/api/v1/gates", &[("Authorization", &format!("Bearer {secret}"))]);
        assert_eq!(asked.0, 200);
        page.click("//button[@aria-label='Revoke … viewer']").await;
        page.press("Revoke").await;
        page.see("There are no tokens.").await;
        let asked =
            service.ask("GET", "/api/v1/gates", &[("Authorization", &format!("Bearer {secret}"))]);
        assert_eq!(asked.0, 401);
        page.click("//button[@aria-label='Remove … lena']").await;
        page.press("Remove").await;
        wait("she is removed", || {
            let users = coast.json("user list");
            (!users.to_string().contains("lena")).then_some(())
        });
        page.go(&service, "/audit").await;
        page.find("//tr[contains(., 'remove-user')][contains(., 'lena')]").await;
        page.type_in("//input[@type='search']", "make-token\u{e007}").await;
        page.find("//tr[contains(., 'make-token')]").await;
        page.press("Verify").await;
        page.see("all as they were written").await;
        assert!(!page.has(&format!("//*[contains(., '{secret}')]")).await);
    });
}

#[test]
fn people_see_and_end_their_own_sessions_and_change_their_password() {
    let coast = coast();
    let service = coast.serve();
    with_page(SIZE, |page| async move {
        page.go(&service, "/account").await;
        page.find("//input[@id='name']").await;
        let (status, _, elsewhere) = crate::accounts::sign_in(&service, "mara", PASSWORD);
        assert_eq!(status, 204);
        page.type_in("//input[@id='name']", "mara").await;
        page.type_in("//input[@id='password']", PASSWORD).await;
        page.press("Sign in").await;
        page.see("with the role operator").await;
        page.see("(this one)").await;
        let signed_in = |cookie: &str| {
            let headers = [("Authorization", ""), ("Cookie", cookie)];
            let (_, session) = service.ask("GET", "/api/v1/session", &headers);
            let session: Value = serde_json::from_str(&session).unwrap();
            session["signed_in"] == json!(true)
        };
        assert!(signed_in(&elsewhere));
        page.press("End").await;
        wait("it is ended", || (!signed_in(&elsewhere)).then_some(()));
        let field = |number: usize| {
            format!("(//section[@aria-labelledby='password']//input[@type='password'])[{number}]")
        };
        page.type_in(&field(1), "a wrong one").await;
        for number in [2, 3] {
            page.type_in(&field(number), "another tide, another time").await;
        }
        page.press("Change the password").await;
        page.see("the password before is not right").await;
        page.type_in(&field(1), PASSWORD).await;
        page.press("Change the password").await;
        page.see("your other sessions have ended").await;
        assert_eq!(crate::accounts::sign_in(&service, "mara", PASSWORD).0, 403);
        let all = coast.json("audit --who mara");
        assert!(
            all.as_array().unwrap().iter().any(|line| text(line, "what") == "set-password"),
            "{all:#}"
        );
    });
}
