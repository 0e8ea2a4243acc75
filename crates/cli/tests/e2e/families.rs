//! What came from what, over gates and works, both ways; and all that was made.

use std::collections::BTreeSet;

use serde_json::Value;

use crate::browser::with_page;
use crate::made_archives::zip_of;
use crate::support::{TestHome, shown, text};

fn coast() -> TestHome {
    let coast = TestHome::new(
        "[gate.buoys]\ndrop = \"drops/buoys\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"archive/buoys\" }\nunpack = { into = \"drops/waves\" }\n\
         [gate.waves]\ndrop = \"drops/waves\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"archive/waves\" }\nmerge = { into = \"out/waves.csv\" }\n",
    );
    coast.folder("drops/buoys");
    coast.folder("drops/waves");
    let bundle = zip_of(&[("deep_1.csv", "t,m\n1,0.5\n"), ("deep_2.csv", "t,m\n2,0.6\n3,0.7\n")]);
    coast.drop("drops/buoys/night.zip", bundle);
    coast
}

fn names(family: &Value, kind: &str) -> BTreeSet<String> {
    let members = family["members"].as_array().unwrap().iter();
    let of_kind = members.filter(|member| member["kind"] == kind);
    of_kind.map(|member| text(member, "name").rsplit('/').next().unwrap().to_owned()).collect()
}

#[test]
fn a_family_goes_from_the_archive_to_the_table_and_back() {
    let coast = coast();
    let service = coast.serve();
    coast.wait("all is merged", |coast| coast.files("archive/waves").len() == 2);
    let output = shown(&coast.path("out/waves.csv"));
    let coded = output.replace('/', "%2F");
    let all = |names: &[&str]| names.iter().map(ToString::to_string).collect::<BTreeSet<_>>();
    // Whole from each end, and from the middle.
    for question in ["entry=1", &format!("output={coded}")] {
        let family = service.get(&format!("/api/v1/family?{question}"));
        assert_eq!(
            names(&family, "entry"),
            all(&["night.zip", "deep_1.csv", "deep_2.csv"]),
            "{question}: {family:#}"
        );
        assert_eq!(
            names(&family, "output"),
            all(&["deep_1.csv", "deep_2.csv", "waves.csv"]),
            "{question}"
        );
        assert!(names(&family, "work").is_superset(&all(&["unpack", "merge"])), "{family:#}");
        assert_eq!(family["more"], false);
        let links = family["links"].as_array().unwrap();
        let linked = |from: &str, to: &str| {
            links
                .iter()
                .any(|link| text(link, "from").starts_with(from) && text(link, "to").ends_with(to))
        };
        assert!(linked("entry 1", "work 1") && linked("work", "waves.csv"), "{family:#}");
        assert!(linked("output", "entry 2") && linked("output", "entry 3"), "{family:#}");
    }
    // What was made, and what was not.
    let made = service.get("/api/v1/outputs/all?text=WAVES.csv");
    assert_eq!(made["outputs"].as_array().unwrap().len(), 1, "{made:#}");
    assert_eq!(text(&made["outputs"][0], "path"), output);
    let first = service.get("/api/v1/outputs/all?limit=1");
    let rest = service.get(&format!(
        "/api/v1/outputs/all?limit=9&cursor={}",
        text(&first, "next").replace('/', "%2F")
    ));
    assert_eq!(rest["outputs"].as_array().unwrap().len(), 2, "{first:#} {rest:#}");
    let (status, content) = service.ask("GET", &format!("/api/v1/outputs/file?path={coded}"), &[]);
    assert_eq!((status, content), (200, coast.read("out/waves.csv")));
    for path in ["/etc/passwd", "vadegate.toml", "state/token"] {
        let asked = format!("/api/v1/outputs/file?path={}", path.replace('/', "%2F"));
        assert_eq!(service.ask("GET", &asked, &[]).0, 404, "{path}");
    }
    // A link in its place leads nowhere.
    std::fs::remove_file(coast.path("out/waves.csv")).unwrap();
    std::os::unix::fs::symlink(coast.path("state/token"), coast.path("out/waves.csv")).unwrap();
    assert_eq!(service.ask("GET", &format!("/api/v1/outputs/file?path={coded}"), &[]).0, 404);
    let nothing = service.get("/api/v1/family?entry=99");
    assert!(nothing["members"].as_array().unwrap().is_empty());
    assert_eq!(service.ask("GET", "/api/v1/family", &[]).0, 400);
}

#[test]
fn the_picture_of_a_family_leads_both_ways() {
    let coast = coast();
    let service = coast.serve();
    coast.wait("all is merged", |coast| coast.files("archive/waves").len() == 2);
    with_page((1280, 900), |page| async move {
        page.sign_in(&service).await;
        page.press("Outputs").await;
        page.find("//tr[contains(., 'waves.csv')][contains(., 'download')]").await;
        page.click(
            "//a[starts-with(@aria-label, 'lineage of')][contains(@aria-label, 'out/waves.csv')]",
        )
        .await;
        let picture = "//*[@role='region'][@aria-label='What came from what']";
        page.find(&format!("{picture}//li[contains(., 'night.zip')]")).await;
        let left = |words: &str| {
            format!(
                "return [...document.querySelectorAll('[aria-label=\"What came from what\"] li')].find(one => one.textContent.includes('{words}')).offsetLeft"
            )
        };
        let at = |value: Value| value.as_i64().unwrap();
        let archive = at(page.script(&left("night.zip")).await);
        let member = at(page.script(&left("buoys 1")).await);
        let table = at(page.script(&left("waves.csv")).await);
        assert!(archive == 0 && archive == member && table > archive, "{archive} {table}");
        page.click(&format!("{picture}//a[normalize-space(.)='night.zip']")).await;
        page.find("//h1[contains(., 'night.zip')]").await;
        page.press("Lineage").await;
        page.find(&format!("{picture}//li[contains(., 'waves.csv')]")).await;
    });
}
