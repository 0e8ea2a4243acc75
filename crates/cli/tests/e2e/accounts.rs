//! Users, roles, tokens, sessions, and the log of who did what.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpStream};
use std::process::Stdio;
use std::time::Duration;

use serde_json::{Value, json};

use crate::guarding::filled;
use crate::support::{PATIENCE, Ran, Service, TestHome, filing_gate, text, wait};

pub(crate) const PASSWORD: &str = "the tide waits for no one";

const GATES: &str = "[gate.soundings]\ndrop = \"drops/soundings\"\nsettle = \"20ms\"\narchive = { into = \"archive\" }\n[gate.soundings.offer]\nlease = \"30s\"\n";

fn coast() -> TestHome {
    let coast = TestHome::new(&format!("{}{GATES}", filing_gate("tide", "take = [\"*.csv\"]")));
    coast.folder("drops/tide");
    coast.folder("drops/soundings");
    coast
}

/// Runs a command that reads a password.
pub(crate) fn with_password(coast: &TestHome, line: &str, password: &str) -> Ran {
    let mut child = coast
        .command()
        .args(line.split_whitespace())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    writeln!(child.stdin.take().unwrap(), "{password}").unwrap();
    Ran::of(&child.wait_with_output().unwrap())
}

/// Makes a token by the command line.
pub(crate) fn token(coast: &TestHome, args: &str) -> String {
    let made = coast.run(&format!("token new {args}"));
    assert_eq!(made.code, 0, "{}", made.err);
    assert!(made.err.contains("It is shown this once"), "{}", made.err);
    made.out.trim().to_owned()
}

/// The first line of an answer, however long the rest would go on.
fn status(service: &Service, method: &str, path: &str, headers: &str, body: &str) -> u16 {
    let host = service.base.strip_prefix("http://").unwrap();
    let mut stream = TcpStream::connect(host).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let length = body.len();
    let request = format!(
        "{method} {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {length}\r\n{headers}\r\n{body}"
    );
    stream.write_all(request.as_bytes()).unwrap();
    let mut begin = [0; 12];
    stream.read_exact(&mut begin).unwrap();
    String::from_utf8_lossy(&begin[9..12]).parse().unwrap()
}

fn bearer(token: &str) -> String {
    format!("Authorization: Bearer {token}\r\n")
}

/// Signs in by name; status and body of the answer, and the cookie.
pub(crate) fn sign_in(service: &Service, name: &str, password: &str) -> (u16, String, String) {
    let body = json!({ "name": name, "password": password }).to_string();
    let request = service.agent().post(service.url("/api/v1/session"));
    let mut answer = request.header("Content-Type", "application/json").send(body).unwrap();
    let cookies = answer.headers().get("set-cookie");
    let cookie = cookies.and_then(|text| text.to_str().ok()).unwrap_or_default();
    let cookie = cookie.split(';').next().unwrap_or_default().to_owned();
    (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap(), cookie)
}

#[test]
fn every_route_is_for_the_roles_that_it_names_and_for_nobody_else() {
    let coast = coast();
    let ended = token(&coast, "--role admin --for 1s --label soon-over");
    let worker = token(&coast, "--role worker --gate tide");
    let tokens = [
        ("supplier", token(&coast, "--role supplier --gate tide")),
        ("worker", worker),
        ("viewer", token(&coast, "--role viewer")),
        ("operator", token(&coast, "--role operator")),
        ("admin", token(&coast, "--role admin")),
    ];
    let service = coast.serve();
    wait("a token has ended", || {
        (status(&service, "GET", "/api/v1/gates", &bearer(&ended), "") == 401).then_some(())
    });
    let may = |role: &str, wanted: &str| match (role, wanted) {
        ("admin", _) => true,
        ("operator", wanted) => ["viewer", "operator", "supplier"].contains(&wanted),
        (role, wanted) => role == wanted,
    };
    let document = service.get("/api/v1/openapi.json");
    let mut seen = 0;
    for (pattern, item) in document["paths"].as_object().unwrap() {
        for (method, call) in item.as_object().unwrap() {
            let (method, path) = (method.to_uppercase(), filled(pattern));
            let wanted = text(call, "x-role");
            if wanted == "anybody" {
                continue;
            }
            for stranger in ["", &bearer("vadegate_wrong"), &bearer(&ended)] {
                let found = status(&service, &method, &path, stranger, "{}");
                assert_eq!(found, 401, "{method} {path} {stranger}");
            }
            for (role, token) in &tokens {
                let found = status(&service, &method, &path, &bearer(token), "{}");
                seen += 1;
                if may(role, wanted) {
                    assert!(![401, 403].contains(&found), "{role} {method} {path}: {found}");
                } else {
                    assert_eq!(found, 403, "{role} {method} {path}, which is for {wanted}");
                }
            }
        }
    }
    assert!(seen > 250, "{seen}");
    let proof = coast.run("audit --verify");
    assert!(proof.code == 0 && proof.out.contains("all as they were written"), "{}", proof.out);
}

#[test]
fn a_worker_has_its_own_gates_alone_and_their_leases() {
    let coast = coast();
    let (own, other) = (
        token(&coast, "--role worker --gate soundings --label boat"),
        token(&coast, "--role worker --gate tide"),
    );
    let service = coast.serve();
    coast.drop("drops/soundings/a.xyz", "1");
    let take = |token: &str| {
        let body = json!({ "worker": "one", "wait": "10s" }).to_string();
        let path = "/api/v1/gates/soundings/take";
        let request = service.agent().post(service.url(path));
        let request = request.header("Authorization", format!("Bearer {token}"));
        let mut answer = request.header("Content-Type", "application/json").send(body).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
    };
    let (refused, why) = take(&other);
    assert!(refused == 403 && why.contains("is not for the gate `soundings`"), "{refused} {why}");
    let (taken, offered) = take(&own);
    assert_eq!(taken, 200, "{offered}");
    let offered: Value = serde_json::from_str(&offered).unwrap();
    let fence = &offered[0]["fence"];
    let end = json!({ "end": "done" }).to_string();
    for (method, doing, body) in
        [("GET", "file", ""), ("POST", "prolong", "{}"), ("POST", "end", &end)]
    {
        let path = format!("/api/v1/leases/{fence}/{doing}");
        assert_eq!(status(&service, method, &path, &bearer(&other), body), 403, "{doing}");
        let done = status(&service, method, &path, &bearer(&own), body);
        assert!([200, 204].contains(&done), "{doing}: {done}");
    }
    let refused = coast.run("token new --role worker");
    assert!(
        refused.code == 2 && refused.err.contains("name them with `--gate`"),
        "{}",
        refused.err
    );
    let refused = coast.run("token new --role worker --gate tid");
    assert!(refused.code == 2 && refused.err.contains("there is no gate `tid`"), "{}", refused.err);
}

#[test]
fn who_does_something_is_who_signed_in() {
    let coast = coast();
    for (name, role) in [("mara", "operator"), ("ada", "admin"), ("jon", "viewer")] {
        let added = with_password(&coast, &format!("user add {name} --role {role}"), PASSWORD);
        assert_eq!(added.code, 0, "{}", added.err);
    }
    let service = coast.serve();
    let cookies = ["mara", "ada", "jon"].map(|name| {
        let (status, body, cookie) = sign_in(&service, name, PASSWORD);
        assert_eq!(status, 204, "{body}");
        cookie
    });
    let order = |cookie: &str, path: &str, body: &Value| {
        let request = service.agent().post(service.url(path)).header("Cookie", cookie);
        let request = request.header("Content-Type", "application/json");
        let mut answer = request.send(body.to_string()).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
    };
    let [mara, ada, jon] = &cookies;
    coast.drop("drops/tide/a.csv", "");
    wait("it is held", || coast.ledger().first().filter(|one| one["state"] == "held").cloned());
    let release = |action: &str, who: Option<&str>| json!({ "action": action, "entries": [1], "who": who, "why": "it may be empty" });
    let actions = "/api/v1/entries/actions";
    let (refused, why) = order(jon, actions, &release("file", None));
    assert!(refused == 403 && why.contains("it is for the role operator"), "{why}");
    let (refused, why) = order(mara, actions, &release("delete", None));
    assert!(refused == 403 && why.contains("deleting files is for the role admin"), "{why}");
    let (refused, why) = order(mara, actions, &release("file", Some("ada")));
    assert!(refused == 400 && why.contains("it is mara who asks"), "{why}");
    let (done, body) = order(mara, actions, &release("file", None));
    assert_eq!(done, 200, "{body}");
    let (done, _) = order(ada, "/api/v1/gates/tide/pause", &json!({}));
    assert_eq!(done, 200);
    assert_eq!(coast.json("gates tide")[0]["pause"]["by"], "ada");
    let history = coast.json("entry 1")["history"].to_string();
    assert!(history.contains("\"by\":\"mara\""), "{history}");
    // By the command line, with a token of their own.
    let (_, made) = order(mara, "/api/v1/tokens", &json!({ "role": "operator", "label": "night" }));
    let made: Value = serde_json::from_str(&made).unwrap();
    let resumed = Ran::of(
        &coast
            .command()
            .env("VADEGATE_TOKEN", text(&made, "secret"))
            .args(["resume", "tide"])
            .output()
            .unwrap(),
    );
    assert_eq!(resumed.code, 0, "{}", resumed.err);
    let secret = text(&made, "secret");
    all_of_it_is_in_the_log(&coast, secret);
}

fn all_of_it_is_in_the_log(coast: &TestHome, secret: &str) {
    let lines = coast.json("audit");
    let told = |who: &str, what: &str, status: u16| {
        let found = lines.as_array().unwrap().iter().any(|line| {
            text(line, "who") == who && text(line, "what") == what && line["status"] == status
        });
        assert!(found, "{who} {what} {status}: {lines:#}");
    };
    told("mara", "sign-in", 204);
    told("jon", "refused", 403);
    told("mara", "delete", 403);
    told("mara", "file", 200);
    told("ada", "pause", 200);
    told("mara by token night", "resume", 200);
    told("mara", "make-token", 200);
    assert!(!lines.to_string().contains(PASSWORD), "no password is in the log");
    assert!(!lines.to_string().contains(secret), "nor a token");
}

#[test]
fn a_wrong_name_and_a_wrong_password_get_the_same_and_too_many_must_wait() {
    let coast = coast();
    let added = with_password(&coast, "user add mara --role viewer", PASSWORD);
    assert_eq!(added.code, 0, "{}", added.err);
    let service = coast.serve();
    let wrong = sign_in(&service, "mara", "the tide waits");
    let unknown = sign_in(&service, "nobody", PASSWORD);
    assert_eq!((wrong.0, &wrong.1), (403, &unknown.1));
    let mut refused = (0, String::new(), String::new());
    for _ in 0..8 {
        refused = sign_in(&service, "mara", "a guess of somebody");
    }
    assert_eq!(refused.0, 429, "{}", refused.1);
    let problem: Value = serde_json::from_str(&refused.1).unwrap();
    assert!(problem["retry_after"].as_u64().unwrap() >= 1, "{problem}");
    // The right one is not looked at either, until its time.
    assert_eq!(sign_in(&service, "mara", PASSWORD).0, 429);
    let cookie = wait("it is looked at again", || {
        let (status, _, cookie) = sign_in(&service, "mara", PASSWORD);
        (status == 204).then_some(cookie)
    });
    let session =
        service.ask("GET", "/api/v1/session", &[("Authorization", ""), ("Cookie", &cookie)]);
    assert!(session.1.contains("\"name\":\"mara\""), "{}", session.1);
    let failed = coast.json("audit --what sign-in --failed");
    assert!(failed.to_string().contains("an unknown name"), "{failed:#}");
    assert!(!failed.to_string().contains("nobody"), "what is no name may be a password");
}

#[test]
fn what_is_revoked_ends_at_once_also_for_who_follows_the_events() {
    let coast = coast();
    let added = with_password(&coast, "user add mara --role viewer", PASSWORD);
    assert_eq!(added.code, 0, "{}", added.err);
    let token = token(&coast, "--role viewer --label graphs");
    let service = coast.serve();
    let (_, _, cookie) = sign_in(&service, "mara", PASSWORD);
    let follow = |header: &str| {
        let host = service.base.strip_prefix("http://").unwrap();
        let mut stream = TcpStream::connect(host).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        write!(stream, "GET /api/v1/events HTTP/1.1\r\nHost: {host}\r\n{header}\r\n\r\n").unwrap();
        let mut begin = [0; 12];
        stream.read_exact(&mut begin).unwrap();
        assert!(begin.ends_with(b"200"));
        stream
    };
    let by_token = follow(&format!("Authorization: Bearer {token}"));
    let by_session = follow(&format!("Cookie: {cookie}"));
    let ends = |mut stream: TcpStream| {
        let mut rest = Vec::new();
        stream.read_to_end(&mut rest).unwrap();
    };
    let revoked = coast.run("token revoke 1");
    assert_eq!(revoked.code, 0, "{}", revoked.err);
    ends(by_token);
    assert_eq!(status(&service, "GET", "/api/v1/gates", &bearer(&token), ""), 401);
    let removed = coast.run("user remove mara");
    assert_eq!(removed.code, 0, "{}", removed.err);
    ends(by_session);
    assert_eq!(sign_in(&service, "mara", PASSWORD).0, 403);
    assert_eq!(service.stop(), Some(0));
    // The same without a service, and with what was there before.
    assert_eq!(coast.json("user list"), json!([]));
    assert_eq!(coast.json("token list"), json!([]));
}

#[test]
fn the_log_is_searched_exported_and_shows_what_was_done_to_it() {
    let coast = coast();
    let weak = with_password(&coast, "user add mara --role viewer", "short");
    assert!(weak.code == 2 && weak.err.contains("too short"), "{}", weak.err);
    for line in ["user add mara --role viewer", "user password mara"] {
        assert_eq!(with_password(&coast, line, PASSWORD).code, 0);
    }
    assert_eq!(coast.run("user role mara operator").code, 0);
    assert_eq!(coast.run("pause tide --by Ada").code, 0);
    let all = coast.json("audit");
    let what: Vec<&str> = all.as_array().unwrap().iter().map(|line| text(line, "what")).collect();
    assert_eq!(what, ["pause", "set-role", "set-password", "add-user", "add-user"]);
    let status: Vec<_> =
        all.as_array().unwrap().iter().map(|line| line["status"].clone()).collect();
    assert_eq!(status, [200, 200, 200, 200, 400]);
    assert_eq!(text(&all[0], "who"), "Ada (local)");
    assert_eq!(coast.json("audit --text MARA --limit 2").as_array().unwrap().len(), 2);
    assert_eq!(coast.json("audit --failed").as_array().unwrap().len(), 1);
    let sum = text(&all[0], "sum");
    let proof = coast.run(&format!("audit --verify --known {sum}"));
    assert!(proof.code == 0 && proof.out.contains("stands in it"), "{}{}", proof.out, proof.err);
    let ledger = rusqlite::Connection::open(coast.path("state/ledger.db")).unwrap();
    let change = "UPDATE audit SET who = 'somebody else' WHERE id = 3";
    assert!(ledger.execute(change, []).unwrap_err().to_string().contains("never changed"));
    ledger.execute_batch(&format!("DROP TRIGGER audit_stays; {change};")).unwrap();
    let proof = coast.run("audit --verify");
    assert!(
        proof.code == 1 && proof.out.contains("line 3 is not as it was written"),
        "{}",
        proof.out
    );
}

/// Asks without waiting for the answers until one of them refuses, and gives its head: a caller
/// who waits for each answer may be slower than the limit where the machine is busy.
fn flood(service: &Service, token: &str) -> String {
    let address = service.url("").trim_start_matches("http://").trim_end_matches('/').to_owned();
    let request = format!(
        "GET /api/v1/session HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {token}\r\n\r\n"
    );
    let mut stream = TcpStream::connect(&address).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    let mut asking = stream.try_clone().unwrap();
    std::thread::scope(|scope| {
        // Ends when the stream is shut down below, at the latest.
        scope.spawn(move || (0..20_000).all(|_| asking.write_all(request.as_bytes()).is_ok()));
        let (mut told, mut buffer) = (String::new(), [0; 65536]);
        let refused = loop {
            let read = stream.read(&mut buffer).unwrap();
            assert!(read > 0, "the connection ends with {told}");
            told.push_str(&String::from_utf8_lossy(&buffer[..read]));
            let refused = told.find("HTTP/1.1 429").map(|at| told[at..].to_owned());
            match refused.filter(|head| head.contains("\r\n\r\n")) {
                Some(head) => break head,
                // A head that came in two pieces is found with the next one.
                None => drop(told.drain(..told.len().saturating_sub(4096))),
            }
        };
        stream.shutdown(Shutdown::Both).unwrap();
        refused
    })
}

#[test]
fn who_asks_for_too_much_must_wait_and_the_others_need_not() {
    let coast = coast();
    let (busy, calm) =
        (token(&coast, "--role viewer --label busy"), token(&coast, "--role viewer --label calm"));
    let service = coast.serve();
    let ask = |token: &str| {
        let request = service.agent().get(service.url("/api/v1/session"));
        request.header("Authorization", format!("Bearer {token}")).call().unwrap()
    };
    let refused = flood(&service, &busy);
    let pause = refused.split("retry-after: ").nth(1).and_then(|rest| rest.split("\r\n").next());
    assert!(pause.is_some_and(|pause| pause.parse().is_ok_and(|secs: u64| secs >= 1)), "{refused}");
    assert_eq!(ask(&calm).status(), 200);
    (0..20).for_each(|_| drop(ask(&busy)));
    let told = || service.log().matches("more requests than one caller may send").count();
    wait("it is told", || (told() > 0).then_some(()));
    assert_eq!(told(), 1, "and once");
    let lines = coast.json("audit --what refused");
    assert_eq!(lines.as_array().unwrap().len(), 1, "{lines:#}");
    wait("it may ask again", || (ask(&busy).status() == 200).then_some(()));
}
