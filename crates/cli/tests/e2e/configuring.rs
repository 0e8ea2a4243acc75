//! The configuration, edited by admins: tried before, never over what others wrote, kept with
//! who and why.

use serde_json::{Value, json};

use crate::accounts::token;
use crate::browser::with_page;
use crate::support::{Service, TestHome, filing_gate, shown, sum, text};

fn coast() -> TestHome {
    let coast = TestHome::new(&format!(
        "# Kept by hand.\n{}",
        filing_gate("tide", "take = [\"*.csv\"] # tables")
    ));
    coast.folder("drops/tide");
    coast.folder("drops/waves");
    coast
}

pub fn send(service: &Service, (method, path): (&str, &str), body: &Value) -> (u16, Value) {
    let request = http::Request::builder()
        .method(method)
        .uri(service.url(&format!("/api/v1/configuration{path}")))
        .header("Authorization", format!("Bearer {}", service.token))
        .header("Content-Type", "application/json");
    let mut answer = service.agent().run(request.body(body.to_string()).unwrap()).unwrap();
    let told = answer.body_mut().read_to_string().unwrap();
    (answer.status().as_u16(), serde_json::from_str(&told).unwrap_or(Value::String(told)))
}

fn order(path: &str, content: &str, was: Option<&str>) -> Value {
    json!({ "path": path, "text": content, "was": was.map(sum), "who": "ada", "why": "waves too" })
}

#[test]
fn an_edit_is_tried_saved_kept_and_never_over_what_somebody_else_wrote() {
    let coast = coast();
    let service = coast.serve();
    for name in ["a.csv", "b.txt", "c.txt"] {
        std::fs::write(coast.path(&format!("drops/tide/{name}")), "1").unwrap();
    }
    coast.wait("what is taken is filed", |coast| coast.files("archive/tide").len() == 1);
    let files = service.get("/api/v1/configuration");
    let (path, before) = (text(&files[0], "path").to_owned(), text(&files[0], "text").to_owned());
    assert_eq!(
        (before.as_str(), text(&files[0], "sha256")),
        (&*coast.read("vadegate.toml"), &*sum(&before))
    );
    // Faults with line and column, and nothing of it in force.
    let broken = before.replace("settle", "setle");
    let (status, tried) =
        send(&service, ("POST", "/try"), &json!({ "path": path, "text": broken }));
    assert_eq!(status, 200, "{tried}");
    let fault = &tried["faults"][0];
    assert!(text(fault, "message").contains("settle"), "{tried:#}");
    assert_eq!(
        broken.lines().nth(fault["line"].as_u64().unwrap() as usize - 1).unwrap().find("setle"),
        Some(0)
    );
    let (status, told) = send(&service, ("PUT", ""), &order(&path, &broken, Some(&before)));
    assert!(status == 422 && text(&told, "detail").contains("nothing was saved"), "{told}");
    // What would be taken that is not, and the reverse.
    let texts = before.replace("*.csv", "*.txt") + &filing_gate("waves", "");
    let (_, tried) = send(&service, ("POST", "/try"), &json!({ "path": path, "text": texts }));
    assert_eq!((&tried["added"], &tried["changed"]), (&json!(["waves"]), &json!(["tide"])));
    assert_eq!((&tried["taken_count"], &tried["left_count"]), (&json!(2), &json!(0)), "{tried:#}");
    assert_eq!(coast.read("vadegate.toml"), before);
    // Somebody else was quicker.
    std::fs::write(coast.path("vadegate.toml"), format!("{before}# and by hand again\n")).unwrap();
    let (status, told) = send(&service, ("PUT", ""), &order(&path, &texts, Some(&before)));
    assert!(status == 409 && text(&told, "detail").contains("by somebody else"), "{told}");
    assert!(coast.read("vadegate.toml").ends_with("by hand again\n"));
    let now = coast.read("vadegate.toml");
    let (status, saved) = send(&service, ("PUT", ""), &order(&path, &texts, Some(&now)));
    assert_eq!(status, 200, "{saved}");
    assert_eq!(saved["taken"]["added"], json!(["waves"]));
    assert_eq!(coast.read("vadegate.toml"), texts, "comments and all");
    coast.wait("what is taken now is filed", |coast| coast.files("archive/tide").len() == 3);
    back_to_what_it_was(&coast, &service, &now);
}

/// What was saved is known, and another file goes beside the first, and nowhere else.
fn back_to_what_it_was(coast: &TestHome, service: &Service, now: &str) {
    let beside = shown(&coast.path("gates.d/more.toml"));
    let more = filing_gate("more", "");
    let (status, told) = send(service, ("PUT", ""), &order(&beside, &more, None));
    assert_eq!(status, 200, "{told}");
    let (status, _) = send(service, ("PUT", ""), &order(&beside, &more, None));
    assert_eq!(status, 409, "over nothing that is there");
    for place in
        ["/etc/cron.d/x.toml", "gates.d/../x.toml", "gates.d/.x.toml", "gates.d/x", "state/x.toml"]
    {
        let place =
            if place.starts_with('/') { place.to_owned() } else { shown(&coast.path(place)) };
        let (status, told) = send(service, ("PUT", ""), &order(&place, "", None));
        assert_eq!(status, 404, "{place}: {told}");
    }
    // What it was, and back to it.
    let changes = service.get("/api/v1/configuration/changes");
    let told: Vec<(&str, &str)> = changes
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (text(one, "who"), text(one, "why")))
        .collect();
    let ada = ("ada (local)", "waves too");
    assert_eq!(told, [ada, ada, ("", "as it stood before")]);
    let first = service.get(&format!("/api/v1/configuration/changes/{}", changes[2]["id"]));
    assert_eq!(text(&first, "text"), now);
    let audit = coast.json("audit").to_string();
    assert!(audit.contains("save-config") && !audit.contains("try-config"), "{audit}");
    // For admins alone.
    let operator = format!("Bearer {}", token(coast, "--role operator"));
    for path in ["", "/changes"] {
        let asked = format!("/api/v1/configuration{path}");
        assert_eq!(service.ask("GET", &asked, &[("Authorization", &operator)]).0, 403);
    }
}

#[test]
fn the_configuration_is_edited_on_its_page_with_help_faults_and_a_difference() {
    let coast = coast();
    std::fs::write(coast.path("drops/tide/b.txt"), "1").unwrap();
    let service = coast.serve();
    with_page((1280, 900), |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/configuration").await;
        let editor = "//*[@aria-label='The configuration']";
        page.find(&format!("{editor}[contains(., 'Kept by hand')]")).await;
        page.see("It is right, and no gate would be otherwise").await;
        // The help follows the cursor; the keys are proposed.
        page.click(&format!("{editor}//*[contains(@class, 'cm-line')][contains(., 'settle')]"))
            .await;
        page.find("//*[@aria-labelledby='help'][contains(., 'when a file counts as complete')]")
            .await;
        let end = page.find(editor).await;
        end.send_keys("\u{e009}\u{e010}").await.unwrap();
        // Released again, or what follows would be a shortcut.
        end.send_keys("\u{e000}\n[gate.waves]\ndro").await.unwrap();
        page.find("//*[@role='option'][contains(., 'drop')]").await;
        end.send_keys("\u{e007}").await.unwrap();
        page.find(&format!("{editor}[contains(., 'drop = ')]")).await;
        end.send_keys("7").await.unwrap();
        page.find("//*[@aria-labelledby='outcome']//li[contains(., 'drop')]").await;
        page.find("//*[contains(@class, 'cm-lint-marker-error')]").await;
        assert!(page.has("//button[normalize-space(.)='Save …'][@disabled]").await);
        page.press("Take back").await;
        page.see("It is right, and no gate would be otherwise").await;
        // An edit, what it would come to, the difference, who and why.
        let typed = "const content = document.querySelector('.cm-content'); \
             const view = content.cmTile?.view ?? content.cmView?.rootView?.view ?? content.cmView?.view; \
             const at = view.state.doc.toString().indexOf('*.csv'); \
             view.dispatch({ changes: { from: at, to: at + 5, insert: '*' } })";
        page.script(typed).await;
        page.find("//*[@aria-labelledby='outcome'][contains(., 'tide')]//li[contains(., 'b.txt')][contains(., 'taken')]").await;
        page.press("Save …").await;
        page.find("//*[@role='dialog']//*[contains(@class, 'cm-changedLine') or contains(@class, 'cm-insertedLine')]").await;
        page.type_in("//input[@aria-label='Why']", "texts are taken too").await;
        page.type_in("//input[@aria-label='Who']", "ada").await;
        page.press("Save").await;
        page.find("//*[@aria-labelledby='config-history']//li[contains(., 'texts are taken too')]")
            .await;
        coast.wait("it is in force", |coast| coast.files("archive/tide").len() == 1);
        assert!(coast.read("vadegate.toml").contains("take = [\"*\"] # tables"));
        // Back to what it was.
        page.click(
            "//*[@aria-labelledby='config-history']//li[contains(., 'as it stood before')]//button",
        )
        .await;
        page.find(&format!("{editor}[contains(., '*.csv')]")).await;
        page.find("//button[normalize-space(.)='Save …'][not(@disabled)]").await;
        // Somebody else saves the file meanwhile: it is told, and not written over.
        let now = coast.read("vadegate.toml");
        std::fs::write(coast.path("vadegate.toml"), format!("{now}# by hand\n")).unwrap();
        page.press("Save …").await;
        page.type_in("//input[@aria-label='Why']", "back again").await;
        page.press("Save").await;
        page.find("//*[@role='dialog']//*[contains(., 'was changed by somebody else meanwhile')]")
            .await;
        assert!(coast.read("vadegate.toml").ends_with("# by hand\n"));
    });
}
