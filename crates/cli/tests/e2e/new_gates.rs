//! A new gate, made from a folder that is picked by looking and a file in it.

use std::fs;
use std::os::unix::fs::symlink;

use serde_json::json;

use crate::accounts::token;
use crate::browser::with_page;
use crate::configuring::send;
use crate::console_people::faults;
use crate::support::{Service, TestHome, filing_gate, text};

const LEVELS: &str =
    "time;level_m;note\n2026-01-31 06:00:00;1.25;calm\n2026-01-31 07:00:00;-0.5;\n";

fn coast() -> TestHome {
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.folder("drops/tide");
    coast.folder("drops/levels");
    for name in ["Ullin Bay_20260131.csv", "Port Ellis_20260131.csv", "Port Ellis_20260201.csv"] {
        let rows = format!("{LEVELS}2026-01-31 08:00:00;2;{name}\n");
        fs::write(coast.path(&format!("drops/levels/{name}")), rows).unwrap();
    }
    fs::write(coast.path("drops/levels/list.txt"), "nothing").unwrap();
    coast
}

fn encoded(path: &str) -> String {
    url::form_urlencoded::byte_serialize(path.as_bytes()).collect()
}

fn folder(service: &Service, path: &str) -> (u16, String) {
    service.ask("GET", &format!("/api/v1/folders?path={}", encoded(path)), &[])
}

#[test]
fn a_gate_is_proposed_from_a_folder_and_a_sample() {
    let coast = coast();
    let service = coast.serve();
    let levels = coast.path("drops/levels").display().to_string();
    let view = service.get(&format!(
        "/api/v1/folders?path={}",
        encoded(&coast.path("drops").display().to_string())
    ));
    let names: Vec<&str> =
        view["folders"].as_array().unwrap().iter().map(|one| text(one, "name")).collect();
    assert_eq!(names, ["levels", "tide"]);
    assert_eq!(view["folders"][1]["gates"], json!(["tide"]));
    let chosen = json!({ "folder": levels, "sample": "Ullin Bay_20260131.csv" });
    let (status, proposal) = send(&service, ("POST", "/proposal"), &chosen);
    assert_eq!(status, 200, "{proposal}");
    let first = &proposal["patterns"][0];
    assert_eq!(text(first, "pattern"), "<part>_<day:%Y%m%d>.csv");
    assert_eq!((&first["taken"], &first["left"]), (&json!(3), &json!(1)));
    assert_eq!(first["fields"], json!({ "part": "Ullin Bay", "day": "2026-01-31" }));
    let columns = json!([
        { "name": "time", "type": "timestamp" },
        { "name": "level_m", "type": "decimal" },
        { "name": "note", "type": "text" },
    ]);
    assert_eq!(proposal["table"]["columns"], columns);
    assert_eq!(text(&proposal["table"], "delimiter"), ";");
    // What is proposed is understood as it stands, with each work.
    let table = &proposal["table"];
    for work in [
        json!({ "kind": "file" }),
        json!({ "kind": "merge", "into": proposal["output"], "table": table }),
        json!({ "kind": "load", "to": "sqlite:out/levels.db", "into": "levels", "table": table }),
    ] {
        let mut draft = proposal["draft"].clone();
        draft["work"] = work;
        let (status, edited) = send(&service, ("POST", "/draft"), &draft);
        assert_eq!(status, 200, "{edited}");
        let (_, tried) = send(&service, ("POST", "/try"), &edited);
        assert_eq!(tried["faults"], json!([]), "{}", text(&edited, "text"));
        assert_eq!((&tried["added"], &tried["taken_count"]), (&json!(["levels"]), &json!(3)));
    }
    // Nothing was touched, and a viewer is told nothing of it.
    assert_eq!(coast.files("drops/levels").len(), 4);
    assert!(!coast.path("gates.d").try_exists().unwrap());
    let viewer = token(&coast, "--role viewer");
    let call = service.url("/api/v1/folders");
    let answer = service
        .agent()
        .get(&call)
        .header("Authorization", format!("Bearer {viewer}"))
        .call()
        .unwrap();
    assert_eq!(answer.status(), 403);
}

#[test]
fn nothing_outside_the_roots_is_looked_at_and_odd_names_do_no_harm() {
    let coast = coast();
    let outside = tempfile::tempdir().unwrap();
    fs::write(outside.path().join("secret.csv"), "a\n1\n").unwrap();
    symlink(outside.path(), coast.path("drops/away")).unwrap();
    symlink(outside.path().join("secret.csv"), coast.path("drops/levels/link.csv")).unwrap();
    let service = coast.serve();
    let drops = coast.path("drops");
    let state = coast.path("state").display().to_string();
    let (_, listed) = folder(&service, &drops.display().to_string());
    assert!(!listed.contains("away"), "{listed}");
    for path in [
        outside.path().display().to_string(),
        drops.join("away").display().to_string(),
        format!("{}/../..", drops.display()),
        "/etc".into(),
        "drops".into(),
        "".into(),
        "\0".into(),
        state.clone(),
    ] {
        let (status, told) = folder(&service, &path);
        assert_eq!(status, 404, "{path:?}: {told}");
        let chosen = json!({ "folder": path, "sample": "secret.csv" });
        let (status, told) = send(&service, ("POST", "/proposal"), &chosen);
        assert_eq!(status, 404, "{path:?}: {told}");
    }
    let (status, root) = folder(&service, &drops.parent().unwrap().display().to_string());
    assert!(status == 200 && !root.contains("state"), "{root}");
    let levels = coast.path("drops/levels");
    for sample in ["../tide/x.csv", "link.csv", "", "nothing.csv"] {
        let chosen = json!({ "folder": levels.display().to_string(), "sample": sample });
        assert_eq!(send(&service, ("POST", "/proposal"), &chosen).0, 404, "{sample:?}");
    }
    // Names with every sign of patterns and of TOML.
    for odd in ["a[1]{2}*?<3>,\\_20260131.csv", "new\nline\u{1b}[2J\"quoted\".csv", "§ ¼.csv"] {
        let home = format!("odd-{}", odd.len());
        coast.folder(&format!("drops/{home}"));
        fs::write(coast.path(&format!("drops/{home}/{odd}")), LEVELS).unwrap();
        let at = coast.path(&format!("drops/{home}")).display().to_string();
        let (status, told) =
            send(&service, ("POST", "/proposal"), &json!({ "folder": at, "sample": odd }));
        assert_eq!(status, 200, "{told}");
        let (_, edited) = send(&service, ("POST", "/draft"), &told["draft"]);
        let (_, tried) = send(&service, ("POST", "/try"), &edited);
        assert_eq!(tried["faults"], json!([]), "{}", text(&edited, "text"));
        assert_eq!(tried["taken_count"], json!(1), "{odd:?}: {}", text(&edited, "text"));
    }
    // A folder whose name would be a pattern, or a variable, is told, and no other is watched.
    for odd in ["a<b>", "c*", "${HOME}"] {
        let at = coast.folder(&format!("drops/{odd}")).display().to_string();
        let (status, told) = send(&service, ("POST", "/proposal"), &json!({ "folder": at }));
        assert!(status == 409 && text(&told, "detail").contains("rename the folder"), "{told}");
    }
    // A name that is no name for a gate is told with its line, and its file lies in gates.d.
    let mut draft = json!({ "name": "../../x\"]", "drop": "drops/levels" });
    let (_, edited) = send(&service, ("POST", "/draft"), &draft);
    assert!(text(&edited, "path").ends_with("gates.d/x.toml"), "{edited}");
    let (_, tried) = send(&service, ("POST", "/try"), &edited);
    assert!(tried["faults"].to_string().contains("no name for a gate"), "{tried:#}");
    draft["surprise"] = json!(1);
    assert_eq!(send(&service, ("POST", "/draft"), &draft).0, 400);
}

#[test]
fn a_gate_is_made_on_the_page_without_knowing_toml() {
    let coast = coast();
    let service = coast.serve();
    with_page((1280, 900), |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/gates").await;
        page.click("//a[normalize-space(.)='New gate …']").await;
        page.see("Choose a folder first.").await;
        for name in ["drops", "levels", "Port Ellis_20260131.csv"] {
            page.click(&format!(
                "//*[@aria-labelledby='folder']//li//button[contains(., '{name}')]"
            ))
            .await;
        }
        let outcome = "//*[@aria-labelledby='outcome']";
        page.find(&format!("{outcome}[contains(., 'levels')][contains(., '3 would be taken')]"))
            .await;
        // Its rows into one table, one column less, a field with a name of one's own.
        page.click("//*[@role='radio'][contains(., 'Merge their rows')]").await;
        page.click("//label[contains(., 'note')]//input").await;
        assert_eq!(faults(&page).await, [""; 0]);
        page.dark(true).await;
        assert_eq!(faults(&page).await, [""; 0], "dark");
        page.dark(false).await;
        let typed = "const area = document.querySelector('textarea'); \
             area.value = area.value.replace('<part>', '<station>'); \
             area.dispatchEvent(new Event('input'))";
        page.script(typed).await;
        let editor = "//*[@aria-label='The new gate']";
        page.find(&format!("{editor}[contains(., '<station>')][contains(., 'level_m')]")).await;
        page.click("//button[normalize-space(.)='Save …'][not(@disabled)]").await;
        page.type_in("//input[@aria-label='Why']", "levels of two harbours").await;
        page.type_in("//input[@aria-label='Who']", "ada").await;
        page.press("Save").await;
        // One is at the new gate, and its files are worked.
        page.find("//h1[contains(., 'levels')]").await;
        coast.wait("they are filed", |coast| coast.files("drops/levels").len() == 1);
        let merged = coast.read("out/levels.csv");
        assert!(merged.starts_with("time,level_m\n"), "{merged}");
        assert_eq!(merged.lines().count(), 10);
        let written = coast.read("gates.d/levels.toml");
        assert!(written.contains("<station>_<day:%Y%m%d>.csv"), "{written}");
        let known = coast.json("ledger --gate levels");
        assert!(known.to_string().contains("Port Ellis"), "{known:#}");
    });
}

#[test]
fn what_was_written_by_hand_is_kept_until_it_is_written_anew() {
    let coast = coast();
    let service = coast.serve();
    with_page((1280, 900), |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/new-gate").await;
        for name in ["drops", "levels"] {
            page.click(&format!(
                "//*[@aria-labelledby='folder']//li//button[contains(., '{name}')]"
            ))
            .await;
        }
        page.press("Take it without a sample").await;
        let editor = "//*[@aria-label='The new gate']";
        page.find(&format!("{editor}[contains(., '*.csv')]")).await;
        page.find(editor).await.send_keys("\u{e009}\u{e010}").await.unwrap();
        page.find(editor).await.send_keys("\u{e000}# by hand").await.unwrap();
        page.see("You have written in it").await;
        page.type_in("//*[@aria-labelledby='which']//input", "levels-two").await;
        page.find(&format!("{editor}[contains(., '# by hand')]")).await;
        page.press("Write it anew").await;
        page.find(&format!("{editor}[contains(., 'levels-two')][not(contains(., 'by hand'))]"))
            .await;
        assert!(!coast.path("gates.d").try_exists().unwrap());
    });
}
