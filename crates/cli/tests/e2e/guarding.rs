//! Nobody gets in: routes, the state folder, links, sessions, connections.

use crate::reaching::limit_files;
use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::os::unix::fs::symlink;
use std::time::Duration;

use serde_json::json;

use crate::passes::pass;
use crate::support::{Service, TestHome, filing_gate, wait};

pub(crate) fn coast() -> (TestHome, Service) {
    let coast = TestHome::new(&filing_gate("tide", "take = [\"*.csv\"]"));
    coast.folder("drops/tide");
    let service = coast.serve();
    (coast, service)
}

/// What a server answers to these bytes: status and all that comes.
pub(crate) fn raw(service: &Service, request: &str) -> (u16, String) {
    let address = service.base.strip_prefix("http://").unwrap();
    let mut stream = TcpStream::connect(address).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = Vec::new();
    // The server closes when it is asked to; what came by then is looked at.
    let _ = stream.read_to_end(&mut answer);
    let answer = String::from_utf8_lossy(&answer).into_owned();
    let status = answer.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0);
    (status, answer)
}

pub(crate) fn ask_raw(service: &Service, method: &str, path: &str, headers: &str) -> (u16, String) {
    let host = service.base.strip_prefix("http://").unwrap();
    raw(
        service,
        &format!("{method} {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n{headers}\r\n"),
    )
}

/// A session that was ended.
fn ended_session(service: &Service) -> String {
    let cookie = signed_in(service);
    let (status, _) =
        service.ask("DELETE", "/api/v1/session", &[("Authorization", ""), ("Cookie", &cookie)]);
    assert_eq!(status, 204);
    cookie
}

/// The cookie of a new session.
fn signed_in(service: &Service) -> String {
    let body = json!({ "token": service.token }).to_string();
    let request = service.agent().post(service.url("/api/v1/session"));
    let answer = request.header("Content-Type", "application/json").send(body).unwrap();
    assert_eq!(answer.status(), 204);
    let cookies = answer.headers()["set-cookie"].to_str().unwrap();
    cookies.split(';').next().unwrap().to_owned()
}

/// A pattern with values for its parts.
pub(crate) fn filled(pattern: &str) -> String {
    let parts = [
        ("{gate}", "tide"),
        ("{id}", "1"),
        ("{fence}", "1"),
        ("{name}", "nobody"),
        ("{path}", "x.dat"),
    ];
    let parts =
        parts.iter().chain(&[("{lookout}", "outbox"), ("{tell}", "desk"), ("{place}", "office")]);
    parts.fold(pattern.to_owned(), |path, (part, value)| path.replace(part, value))
}

/// Every route of the document: method, path with values for its parts, whether open.
fn routes(service: &Service) -> Vec<(String, String, bool)> {
    let document = service.get("/api/v1/openapi.json");
    let mut routes = Vec::new();
    for (pattern, item) in document["paths"].as_object().unwrap() {
        let path = filled(pattern);
        for (method, operation) in item.as_object().unwrap() {
            let open = operation["security"].as_array().is_some_and(|all| all.contains(&json!({})));
            routes.push((method.to_uppercase(), path.clone(), open));
        }
    }
    assert!(routes.len() > 30);
    routes
}

/// Other ways to write a path.
fn forms(path: &str) -> Vec<String> {
    let first = path[1..].chars().next().unwrap();
    let encoded = format!("/%{:02x}{}", u32::from(first), &path[2..]);
    let all: String = path[1..]
        .bytes()
        .map(|b| if b == b'/' { "/".into() } else { format!("%{b:02X}") })
        .collect();
    vec![
        encoded,
        format!("/{all}"),
        format!("/{path}"),
        path.replacen("/v1", "//v1", 1),
        format!("/.{path}"),
        format!("/x/..{path}"),
        format!("/%2e{path}"),
        path.to_uppercase(),
        path.replacen("/api/", "/Api/", 1),
        format!("{path}/"),
        format!("{path}%20"),
        format!("{path};x"),
    ]
}

#[test]
fn every_route_is_closed_in_whatever_form_its_path_is_written() {
    let (coast, service) = coast();
    coast.drop("drops/tide/a.csv", "secret levels");
    coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
    let ended = ended_session(&service);
    let strangers = [
        String::new(),
        "Authorization: Bearer wrong\r\n".to_owned(),
        format!("Cookie: {ended}\r\n"),
    ];
    let secrets = ["secret levels", "a.csv", &service.token, "drops/tide", "entry", "sha256"];
    for (method, path, open) in routes(&service) {
        for stranger in &strangers {
            let (status, body) = ask_raw(&service, &method, &path, stranger);
            assert!(open || status == 401, "{method} {path} {stranger}: {status} {body}");
            for form in forms(&path).into_iter().filter(|form| *form != path) {
                let (status, body) = ask_raw(&service, &method, &form, stranger);
                assert!(
                    [400, 401, 404, 405].contains(&status),
                    "{method} {form} {stranger}: {status} {body}"
                );
                if !open && status == 200 {
                    assert!(secrets.iter().all(|secret| !body.contains(secret)), "{form}: {body}");
                }
            }
        }
        // With the token a path that is written otherwise is refused too.
        let token = format!("Authorization: bEaReR {}\r\n", service.token);
        for form in forms(&path)
            .iter()
            .filter(|form| form.contains('%') || form.contains("//") || form.contains("/."))
        {
            let (status, body) = ask_raw(&service, &method, form, &token);
            // A space may be written so, and there is nothing of that name, nor is it taken.
            let expected: &[u16] =
                if form.ends_with("%20") { &[400, 404, 405, 422] } else { &[400] };
            assert!(expected.contains(&status), "{method} {form}: {body}");
        }
    }
    // The console's pages are open; nothing else is served beside them.
    for page in ["/", "/gates", "/ledger", "/gates/tide", "/entries/1", "/table", "/sign-in"] {
        assert_eq!(ask_raw(&service, "GET", page, "").0, 200, "{page}");
    }
    for nothing in
        ["/nothing", "/LEDGER", "/gates/", "/entries/x", "/assets/none.js", "/api", "/ledger/"]
    {
        let status = ask_raw(&service, "GET", nothing, "").0;
        assert!(status == 404 || nothing == "/api" && status == 401, "{nothing}: {status}");
    }
    let token = format!("Authorization: Bearer {}\r\n", service.token);
    for method in ["TRACE", "CONNECT", "PUT", "OPTIONS", "POST", "DELETE", "PATCH"] {
        for headers in ["", token.as_str()] {
            let (status, answer) = ask_raw(&service, method, "/ledger", headers);
            assert_eq!(status, 405, "{method}: {answer}");
            assert!(answer.to_lowercase().contains("allow: get, head"), "{answer}");
        }
    }
    let (status, _) = ask_raw(&service, "PUT", "/api/v1/gates", &token);
    assert_eq!(status, 405);
}

#[test]
fn refusals_and_answers_have_the_headers_that_protect_and_are_logged_with_who_and_from_where() {
    let (_coast, service) = coast();
    let (status, answer) = ask_raw(&service, "GET", "/api/v1/gates", "");
    let answer = answer.to_lowercase();
    assert_eq!(status, 401);
    for header in [
        "x-content-type-options: nosniff",
        "content-security-policy: default-src 'self'",
        "cache-control: no-store",
    ] {
        assert!(answer.contains(header), "{header}: {answer}");
    }
    let with_token = format!("Authorization: Bearer {}\r\n", service.token);
    let (_, answer) = ask_raw(&service, "GET", "/api/v1/gates", &with_token);
    assert!(answer.to_lowercase().contains("cache-control: no-store"), "{answer}");
    let wrong = json!({ "token": "guess" });
    assert_eq!(service.send("/api/v1/session", &wrong).0, 403);
    let cookie = signed_in(&service);
    let session = [("Authorization", ""), ("Cookie", cookie.as_str())];
    assert_eq!(service.ask("POST", "/api/v1/gates/tide/pause?who=ada", &session).0, 200);
    for words in [
        "from=127.0.0.1 method=GET path=/api/v1/gates status=401 refused: sign in first",
        "a sign-in failed: a wrong token",
        "signed in",
        "method=POST path=/api/v1/gates/tide/pause status=200",
        "gate=\"tide\" who=\"ada (local)\"",
    ] {
        // The formatter puts the message first and the fields behind it.
        let has =
            |log: &str| log.lines().any(|line| words.split(' ').all(|word| line.contains(word)));
        wait(&format!("the log has {words}"), || has(&service.log()).then_some(()));
    }
    assert!(!service.log().contains(&service.token));
}

#[test]
fn a_session_is_over_when_it_is_ended_also_after_a_restart() {
    let (coast, service) = coast();
    let (one, other) = (signed_in(&service), signed_in(&service));
    let port = service.base.rsplit(':').next().unwrap().to_owned();
    assert!(one.starts_with(&format!("vadegate_session_{port}=")), "{one}");
    let gates = |service: &Service, cookie: &str| {
        service.ask("GET", "/api/v1/gates", &[("Authorization", ""), ("Cookie", cookie)]).0
    };
    assert_eq!((gates(&service, &one), gates(&service, &other)), (200, 200));
    let (status, _) =
        service.ask("DELETE", "/api/v1/session", &[("Authorization", ""), ("Cookie", &one)]);
    assert_eq!((status, gates(&service, &one), gates(&service, &other)), (204, 401, 200));
    service.kill();
    let text = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(
        coast.path("vadegate.toml"),
        text.replace("127.0.0.1:0", &format!("127.0.0.1:{port}")),
    )
    .unwrap();
    let service = coast.serve();
    assert_eq!((gates(&service, &one), gates(&service, &other)), (401, 200));
    // What the ledger keeps of it opens nothing.
    let value = other.split('=').nth(1).unwrap();
    let kept = fs::read(coast.path("state/ledger.db")).unwrap();
    assert!(!kept.windows(value.len()).any(|part| part == value.as_bytes()));
}

#[test]
fn the_state_folder_is_never_data() {
    // The drop folder lies above it, and the roots hold it.
    let coast = TestHome::new(
        "[gate.all]\ndrop = \".\"\nsettle = \"50ms\"\nsweep = \"300ms\"\nsubfolders = true\nempty = \"take\"\nleave = [\"vadegate.toml\"]\n\
         [gate.all.archive]\ninto = \"../archived-<gate>\"\n",
    );
    let outside = tempfile::tempdir().unwrap();
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    let config = config.replace("../archived-<gate>", &outside.path().display().to_string());
    let roots = format!("roots = [\".\", \"{}\"]", outside.path().display());
    fs::write(coast.path("vadegate.toml"), config.replace("roots = [\".\"]", &roots)).unwrap();
    coast.drop("in/a.csv", "1");
    let service = coast.serve();
    wait("the file is filed", || outside.path().join("a.csv").try_exists().unwrap().then_some(()));
    assert_eq!(pass(&coast, "all")["entered"], 0);
    for kept in ["state/token", "state/ledger.db", "state/lock"] {
        assert!(coast.path(kept).try_exists().unwrap(), "{kept}");
    }
    let linked = coast.path("linked");
    symlink(coast.path("state"), &linked).unwrap();
    for path in ["state/token", "./state/token", "in/../state/token", "linked/token", "state"] {
        let (status, body) = service.ask("GET", &format!("/api/v1/sample?path={path}"), &[]);
        assert!(status == 404 || status == 422, "{path}: {status} {body}");
        assert!(!body.contains(&service.token), "{body}");
        let (_, body) = service.ask("GET", &format!("/api/v1/why?path={path}"), &[]);
        assert!(!body.contains(&service.token), "{body}");
    }
    assert!(coast.files("linked").is_empty() || coast.path("state/token").try_exists().unwrap());
    drop(service);
    let listed = coast.run("files all --json").out;
    assert!(!listed.contains("state/"), "{listed}");
    coast.configure(&filing_gate("state", "").replace("drops/state", "state"));
    let check = coast.run("check");
    assert!(check.out.contains("is the state folder, which is never data"), "{}", check.out);
}

#[test]
fn half_sent_bodies_stop_no_gate() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.folder("drops/tide");
    // With as many descriptors as a system gives by default.
    let service = Service::start(&coast, |command| {
        limit_files(command, 1024);
    });
    let address = service.base.strip_prefix("http://").unwrap().to_owned();
    let head = format!(
        "POST /api/v1/session HTTP/1.1\r\nHost: {address}\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{{"
    );
    let mut open = Vec::new();
    for _ in 0..900 {
        // The test has as few descriptors; those that it gets it keeps.
        let Ok(mut stream) = TcpStream::connect(&address) else { break };
        let _ = stream.write_all(head.as_bytes());
        open.push(stream);
    }
    assert!(open.len() > 500, "{} connections", open.len());
    let descriptors = fs::read_dir(format!("/proc/{}/fd", service.pid())).unwrap().count();
    assert!(descriptors < 900, "{descriptors} descriptors are open");
    coast.drop("drops/tide/a.csv", "1");
    coast.wait("the gate works", |coast| coast.files("archive").len() == 1);
    // A body that does not come ends its connection.
    let mut first = open.swap_remove(0);
    first.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    let mut answer = String::new();
    first.read_to_string(&mut answer).unwrap();
    assert!(answer.starts_with("HTTP/1.1 408"), "{answer}");
}
