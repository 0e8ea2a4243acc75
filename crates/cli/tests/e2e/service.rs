//! The HTTP interface, live events, sign-in, starting and stopping.

use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::PermissionsExt;
use std::time::Duration;

use serde_json::{Value, json};

use crate::support::{Service, TestHome, filing_gate, text, wait};

pub(crate) fn coast() -> (TestHome, Service) {
    // With an hour between sweeps only notices can make it fast.
    let gate = filing_gate("tide", "take = [\"*.csv\"]").replace("500ms", "1h");
    let coast = TestHome::new(&gate);
    coast.folder("drops/tide");
    let service = coast.serve();
    (coast, service)
}

pub(crate) fn filed(coast: &TestHome, count: usize) {
    coast.wait("all are filed", |coast| coast.files("archive").len() == count);
}

#[test]
fn nothing_is_shown_or_done_without_the_token() {
    let (coast, service) = coast();
    for (method, path) in [
        ("GET", "/api/v1/gates"),
        ("GET", "/api/v1/events"),
        ("GET", "/api/v1/entries/1"),
        ("POST", "/api/v1/gates/tide/pause"),
        ("GET", "/metrics"),
        ("GET", "/api/v1/nothing"),
    ] {
        for authorization in ["", "Bearer wrong", "Basic eDp5"] {
            let (status, body) = service.ask(method, path, &[("Authorization", authorization)]);
            assert_eq!(status, 401, "{method} {path}");
            assert!(
                body.contains("sign in first") || body.contains("the token is not known"),
                "{body}"
            );
        }
    }
    for open in ["/healthz", "/readyz", "/api/v1/openapi.json", "/", "/ledger"] {
        assert_eq!(service.ask("GET", open, &[("Authorization", "")]).0, 200, "{open}");
    }
    let mode = fs::metadata(coast.path("state/token")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    assert_eq!(fs::metadata(coast.path("state")).unwrap().permissions().mode() & 0o777, 0o700);
    assert!(!service.log().contains(&service.token), "the token is in the log");
}

#[test]
fn other_hosts_and_pages_of_other_origins_are_refused() {
    let (_coast, service) = coast();
    let (status, body) = service.ask("GET", "/api/v1/gates", &[("Host", "evil.example")]);
    assert_eq!(status, 421);
    assert!(body.contains("`evil.example` is not a host of this service"), "{body}");
    let foreign = [("Origin", "https://evil.example")];
    assert_eq!(service.ask("POST", "/api/v1/gates/tide/pause", &foreign).0, 403);
    let own = [("Origin", service.base.as_str())];
    assert_eq!(service.ask("POST", "/api/v1/gates/tide/pause", &own).0, 200);
}

#[test]
fn the_console_signs_in_with_the_token_for_a_cookie() {
    let (_coast, service) = coast();
    let sign_in = |token: &str| {
        let body = json!({ "token": token }).to_string();
        let request = service.agent().post(service.url("/api/v1/session"));
        request.header("Content-Type", "application/json").send(body).unwrap()
    };
    let wrong = sign_in("guess");
    assert_eq!(wrong.status(), 403);
    assert_eq!(wrong.headers()["content-type"], "application/problem+json");
    let right = sign_in(&service.token);
    assert_eq!(right.status(), 204);
    let cookie = right.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let pair = cookie.split(';').next().unwrap();
    let with = |cookie: &str| {
        service.ask("GET", "/api/v1/gates", &[("Authorization", ""), ("Cookie", cookie)]).0
    };
    assert_eq!(with(pair), 200);
    assert_eq!(with(&format!("{pair}0")), 401, "a cookie that was changed");
    let (_, session) =
        service.ask("GET", "/api/v1/session", &[("Authorization", ""), ("Cookie", pair)]);
    let session: Value = serde_json::from_str(&session).unwrap();
    assert_eq!((&session["signed_in"], &session["local"]), (&true.into(), &true.into()));
    assert_eq!((&session["role"], &session["by_name"]), (&"admin".into(), &false.into()));
}

#[test]
fn problems_are_documents_that_say_what_to_do() {
    let (_coast, service) = coast();
    for (path, status, words) in [
        ("/api/v1/gates/tid", 404, "there is no gate `tid`; the configuration has `tide`"),
        ("/api/v1/entries/77", 404, "there is no entry 77; `vadegate ledger` lists them"),
        ("/api/v1/entries?state=lost", 400, "unknown variant"),
        ("/api/v1/entries?gat=tide", 400, "unknown field `gat`"),
        ("/api/v1/entries/x", 400, "can not parse \"x\""),
        ("/api/v1/why?path=/elsewhere", 404, "nothing is known of `/elsewhere`"),
        ("/api/v1/gates/tide/matches?pattern=%5Ba", 400, "in pattern `[a`, character 1"),
        ("/api/v1/nothing", 404, "there is nothing at `/api/v1/nothing`"),
    ] {
        let (got, body) = service.ask("GET", path, &[]);
        let problem: Value = serde_json::from_str(&body).unwrap();
        assert_eq!(got, status, "{path}: {body}");
        assert_eq!(problem["status"], status, "{path}");
        assert!(text(&problem, "detail").contains(words), "{path}: {body}");
    }
    let large = "x".repeat(600_000);
    let answer = service.agent().post(service.url("/api/v1/session")).send(&large).unwrap();
    assert_eq!(answer.status(), 413);
}

/// A change of the configuration.
fn changed_config(service: &Service) -> String {
    let files = service.get("/api/v1/configuration");
    let order = json!({
        "path": files[0]["path"], "text": format!("{}# more\n", text(&files[0], "text")),
        "was": files[0]["sha256"], "who": "ada", "why": "more",
    });
    let request = service.agent().put(service.url("/api/v1/configuration"));
    let request = request.header("Authorization", format!("Bearer {}", service.token));
    let answer = request.header("Content-Type", "application/json").send(order.to_string());
    assert_eq!(answer.unwrap().status(), 200);
    "/api/v1/configuration/changes/1".to_owned()
}

/// Where a file is received that is about to be handed in.
fn begun_upload(service: &Service) -> String {
    let request = service.agent().put(service.url("/api/v1/gates/tide/drop/begun.csv"));
    let answer = request
        .header("Authorization", format!("Bearer {}", service.token))
        .header("Upload-Complete", "?0")
        .send_empty()
        .unwrap();
    let place = answer.headers().get("location").expect("where it is received");
    place.to_str().unwrap().to_owned()
}

/// A path of the document as it can be asked.
fn asked(pattern: &str, service: &Service) -> String {
    let path = crate::guarding::filled(pattern).replace("/1", "/2");
    match path.rsplit('/').next().unwrap() {
        "rows" => path.replace("/2/", "/3/"),
        "report" => format!("{path}?since=2026-01-01T00:00:00Z"),
        "family" => format!("{path}?entry=1"),
        _ if path.contains("/configuration/changes/") => changed_config(service),
        _ if path.contains("/uploads/") => begun_upload(service),
        "why" => format!("{path}?path=a.csv"),
        "search" => format!("{path}?text=a"),
        "outputs" => format!("{path}?path=/out/x.csv"),
        "sample" => format!("{path}?path=sample.csv"),
        "matches" => format!("{path}?pattern=%3Cname%3E.txt"),
        _ => path,
    }
}

/// Every path of the document that is read with GET, and its answer held
/// against the schema.
#[test]
fn the_document_describes_what_is_answered() {
    let (coast, service) = coast();
    coast.drop("drops/tide/a.csv", "1");
    filed(&coast, 1);
    coast.drop("drops/tide/b.csv", "1");
    coast.drop("drops/tide/c.txt", "2");
    filed(&coast, 2);
    coast.drop("sample.csv", "time,level_m\n06:00,1.5\n");
    let loads = "[gate.waves]\ndrop = \"drops/waves\"\nsettle = \"20ms\"\narchive = { into = \"archive/waves\" }\n\
                 load = { to = \"sqlite:out/sound.db\", table = \"waves\", if_missing = \"create\" }\n\
                 [lookout.outbox]\nat = \"nowhere\"\nthere = true\nevery = \"200ms\"\n\
                 [due.tide]\ngate = \"tide\"\nby = \"00:00:01\"\ngive_up = \"00:00:02\"\n\
                 [tell.desk]\nof = [\"all\"]\ngather = \"0s\"\nrun = { program = \"false\" }\n";
    let office = vadegate_servers::FtpServer::start(&coast.folder("office"), false, true);
    coast.drop("office/list.csv", "1");
    coast.drop("word", "lighthouse\n");
    let loads = format!(
        "{loads}[place.office]\nat = \"{}\"\npassword = {{ file = \"word\" }}\n",
        office.address("/")
    );
    coast.drop("drops/waves/w.csv", "height_m\n1.5\n");
    fs::write(coast.path("vadegate.toml"), coast.read("vadegate.toml") + &loads).unwrap();
    service.post("/api/v1/reload");
    coast.wait("it is loaded", |coast| coast.files("archive/waves").len() == 1);
    coast.wait("something is told", |_| {
        service.get("/api/v1/messages").as_array().is_some_and(|all| !all.is_empty())
    });
    let document = service.get("/api/v1/openapi.json");
    assert!(text(&document, "openapi").starts_with("3.1"));
    let paths = document["paths"].as_object().unwrap();
    let mut held_against = 0;
    for (path, methods) in paths {
        let Some(schema) =
            methods["get"]["responses"]["200"]["content"]["application/json"].get("schema")
        else {
            continue;
        };
        let mut schema = schema.clone();
        // References inside it are to the document's components.
        schema["components"] = document["components"].clone();
        let path = asked(path, &service);
        let answer = service.get(&path);
        let validator = jsonschema::validator_for(&schema).unwrap();
        let faults: Vec<String> =
            validator.iter_errors(&answer).map(|fault| fault.to_string()).collect();
        assert!(faults.is_empty(), "{path}: {faults:?}\n{answer:#}");
        held_against += 1;
    }
    assert!(held_against >= 11, "{held_against} answers");
    for (path, method) in [("pass", "PassReport"), ("pause", "GateView"), ("resume", "GateView")] {
        let answer = service.post(&format!("/api/v1/gates/tide/{path}"));
        let schema = json!({
            "$ref": format!("#/components/schemas/{method}"), "components": document["components"],
        });
        assert!(jsonschema::is_valid(&schema, &answer), "{path}: {answer}");
    }
    // The check itself finds what is wrong.
    let gate =
        json!({ "$ref": "#/components/schemas/GateView", "components": document["components"] });
    assert!(!jsonschema::is_valid(&gate, &json!({ "name": "tide" })));
}

#[test]
fn lists_are_read_page_by_page_without_gaps() {
    let (coast, service) = coast();
    for number in 0..23 {
        coast.drop(&format!("drops/tide/{number}.csv"), format!("{number}"));
    }
    filed(&coast, 23);
    let mut ids = Vec::new();
    let mut path = "/api/v1/entries?limit=10".to_owned();
    loop {
        let page = service.get(&path);
        ids.extend(
            page["entries"].as_array().unwrap().iter().map(|one| one["id"].as_i64().unwrap()),
        );
        match page["next"].as_i64() {
            Some(next) => path = format!("/api/v1/entries?limit=10&cursor={next}"),
            None => break,
        }
    }
    assert_eq!(ids, (1..=23).rev().collect::<Vec<_>>());
    service.post("/api/v1/gates/tide/pause");
    for number in 0..7 {
        coast.drop(&format!("drops/tide/later {number}.csv"), format!("later {number}"));
    }
    let first = service.get("/api/v1/gates/tide/files?limit=5");
    assert_eq!((first["files"].as_array().unwrap().len(), &first["total"]), (5, &7.into()));
    let next = text(&first, "next").replace(' ', "%20");
    let second = service.get(&format!("/api/v1/gates/tide/files?cursor={next}"));
    let names: Vec<_> =
        second["files"].as_array().unwrap().iter().map(|one| text(one, "name")).collect();
    assert_eq!(names, ["later 5.csv", "later 6.csv"]);
    assert_eq!(second["next"], Value::Null);
}

/// Reads events from a stream until `enough` of them are changes.
fn changes(service: &Service, last: Option<i64>, enough: usize) -> Vec<(i64, Value)> {
    let mut request = service
        .agent()
        .get(service.url("/api/v1/events"))
        .header("Authorization", format!("Bearer {}", service.token));
    if let Some(last) = last {
        request = request.header("Last-Event-ID", last.to_string());
    }
    let answer = request.call().unwrap();
    assert_eq!(answer.headers()["content-type"], "text/event-stream");
    let mut found = Vec::new();
    let mut id = 0;
    for line in BufReader::new(answer.into_body().into_reader()).lines() {
        let line = line.unwrap();
        if let Some(number) = line.strip_prefix("id: ") {
            id = number.parse().unwrap();
        } else if let Some(data) = line.strip_prefix("data: ")
            && data.contains("\"words\"")
        {
            found.push((id, serde_json::from_str(data).unwrap()));
            if found.len() == enough {
                break;
            }
        }
    }
    found
}

#[test]
fn live_events_come_as_things_happen_and_go_on_where_they_were_cut_off() {
    let (coast, service) = coast();
    coast.drop("drops/tide/a.csv", "1");
    filed(&coast, 1);
    let all = changes(&service, Some(0), 2);
    let told: Vec<_> = all.iter().map(|(_, change)| text(change, "state")).collect();
    assert_eq!(told, ["ready", "filed"]);
    let newest = all[1].0;
    // Two listeners: one from now on, one that goes on after the first change.
    std::thread::scope(|scope| {
        let live = scope.spawn(|| changes(&service, Some(newest), 2));
        let resumed = scope.spawn(|| changes(&service, Some(all[0].0), 3));
        coast.drop("drops/tide/b.csv", "2");
        let live = live.join().unwrap();
        assert_eq!(live.iter().map(|(id, _)| *id).collect::<Vec<_>>(), [newest + 1, newest + 2]);
        assert_eq!(text(&live[1].1, "path"), "b.csv");
        let resumed = resumed.join().unwrap();
        assert_eq!(
            resumed.iter().map(|(id, _)| *id).collect::<Vec<_>>(),
            [newest, newest + 1, newest + 2]
        );
    });
    let (status, body) = service.ask("GET", "/api/v1/events", &[("Last-Event-ID", "x")]);
    assert_eq!((status, body.contains("`Last-Event-ID` is no number")), (400, true));
}

#[test]
fn a_pause_is_kept_over_a_restart() {
    let (coast, service) = coast();
    assert_eq!(service.post("/api/v1/gates/tide/pause")["state"], "paused");
    coast.drop("drops/tide/a.csv", "1");
    wait("it is noticed", || {
        (service.get("/api/v1/gates/tide")["counts"]["arriving"] == 1).then_some(())
    });
    assert_eq!(service.stop(), Some(0));
    let service = coast.serve();
    assert_eq!(service.post("/api/v1/gates/tide/pass")["paused"], true);
    assert!(coast.files("archive").is_empty());
    wait("it has settled, and waits", || {
        let because = service.get("/api/v1/gates/tide/files")["files"][0]["because"].clone();
        (because == "complete; it will be taken when the gate is resumed").then_some(())
    });
    assert!(coast.ledger().is_empty());
    service.post("/api/v1/gates/tide/resume");
    filed(&coast, 1);
}

#[test]
fn it_stops_on_sigterm_with_all_that_was_settled_filed_or_left() {
    let (coast, service) = coast();
    for number in 0..500 {
        coast.drop(&format!("drops/tide/{number}.csv"), format!("{number}"));
    }
    // A listener must not keep it from stopping.
    let (listens, listening) = std::sync::mpsc::channel();
    let listener = std::thread::spawn({
        let (base, token) = (service.base.clone(), service.token.clone());
        move || {
            let elsewhere = Service::elsewhere(&base, &token);
            let answer = elsewhere.agent().get(elsewhere.url("/api/v1/events"));
            let answer = answer.header("Authorization", format!("Bearer {token}")).call().unwrap();
            listens.send(()).unwrap();
            BufReader::new(answer.into_body().into_reader()).lines().map_while(Result::ok).count()
        }
    });
    listening.recv().unwrap();
    coast.wait("some are filed", |coast| !coast.files("archive").is_empty());
    let begun = std::time::Instant::now();
    assert_eq!(service.stop(), Some(0));
    assert!(begun.elapsed() < Duration::from_secs(15));
    listener.join().unwrap();
    assert!(!coast.path("state/address").try_exists().unwrap());
    assert_eq!(coast.files("archive").len() + coast.files("drops").len(), 500);
    for entry in coast.ledger() {
        assert_eq!(entry["state"], "filed", "{entry}");
    }
    let service = coast.serve();
    filed(&coast, 500);
    wait("the ledger has them all", || {
        (service.get("/api/v1/gates/tide")["counts"]["filed"] == 500).then_some(())
    });
}

#[test]
fn a_running_program_is_told_to_stop_and_its_entry_waits_for_a_person() {
    let coast = TestHome::new(
        "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = { into = \"archive\" }\n\
         [gate.job.run]\nprogram = \"/bin/sh\"\nargs = [\"-c\", \"echo > began; exec sleep 60\"]\n",
    );
    coast.drop("drops/a.txt", "x");
    let service = coast.serve();
    coast.wait("the program runs", |coast| coast.path("began").try_exists().unwrap());
    assert_eq!(service.stop(), Some(0));
    let entry = coast.entry("a.txt");
    assert_eq!(text(&entry, "state"), "held");
    assert!(text(&entry, "reason").contains("nobody can know how far it came"), "{entry}");
}

#[test]
fn an_address_that_is_taken_is_told() {
    let (coast, service) = coast();
    let other = TestHome::new(&filing_gate("tide", ""));
    let address = service.base.strip_prefix("http://").unwrap();
    let ran = other.run(&format!("serve --listen {address}"));
    assert_eq!(ran.code, 1);
    assert!(ran.err.contains(&format!("cannot listen on `{address}`")), "{}", ran.err);
    assert!(ran.err.contains("another port"), "{}", ran.err);
    drop(coast);
}
