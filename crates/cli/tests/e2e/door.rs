//! Files that are handed in at the door of a gate.

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::TcpStream;

use http::Response;
use serde_json::Value;
use ureq::Body;
use vadegate_core::files::Sha256;

use crate::accounts::token;
use crate::support::{Service, TestHome, sum, text};

/// A gate that never finds a file complete by itself.
fn coast(more: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops/tide\"\ntake = [\"<station>_<number>.csv\"]\nsettle = \"1h\"\n\
         sweep = \"200ms\"\narchive = {{ into = \"archive\" }}\n{more}"
    ));
    coast.folder("drops/tide");
    coast.folder("drops/sums");
    coast
}

/// Nothing that was staged is left.
fn nothing_staged(coast: &TestHome) {
    let left = coast.files("drops");
    assert!(!left.iter().any(|path| path.contains(".vadegate-")), "{left:?}");
}

fn header(answer: &Response<Body>, name: &str) -> String {
    answer.headers().get(name).map_or("", |value| value.to_str().unwrap()).to_owned()
}

fn send(
    service: &Service,
    (method, path): (&str, &str),
    headers: &[(&str, &str)],
    body: &[u8],
) -> Response<Body> {
    let mut request = http::Request::builder().method(method).uri(service.url(path));
    if !headers.iter().any(|(name, _)| *name == "Authorization") {
        request = request.header("Authorization", format!("Bearer {}", service.token));
    }
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    service.agent().run(request.body(body.to_vec()).unwrap()).unwrap()
}

fn body(mut answer: Response<Body>) -> (u16, String) {
    (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
}

fn begin(service: &Service, path: &str, content: &str) -> (String, String) {
    let headers = [
        ("Upload-Complete", "?0"),
        ("Upload-Length", &content.len().to_string()),
        ("Repr-Digest", &Sha256::of(content.as_bytes()).to_digest()),
    ];
    let answer = send(service, ("PUT", &format!("/api/v1/gates/tide/drop/{path}")), &headers, b"");
    assert_eq!(answer.status(), 201, "{:?}", body(answer));
    (header(&answer, "location"), header(&answer, "upload-offset"))
}

fn piece(
    service: &Service,
    place: &str,
    (offset, complete): (usize, bool),
    bytes: &[u8],
) -> Response<Body> {
    let headers = [
        ("Content-Type", "application/partial-upload"),
        ("Upload-Offset", &offset.to_string()),
        ("Upload-Complete", if complete { "?1" } else { "?0" }),
    ];
    send(service, ("PATCH", place), &headers, bytes)
}

fn how_far(service: &Service, place: &str) -> String {
    header(&send(service, ("HEAD", place), &[], b""), "upload-offset")
}

#[test]
fn files_are_handed_in_by_the_command_and_are_complete_at_once() {
    let coast = coast("");
    let _service = coast.serve();
    std::fs::write(coast.path("ullin_1.csv"), "1").unwrap();
    let ran = coast.run("drop tide ullin_1.csv --by mara --json");
    assert_eq!(ran.code, 0, "{}", ran.err);
    let told: Value = serde_json::from_str(&ran.out).unwrap();
    assert_eq!((told[0]["entry"].as_i64(), text(&told[0], "sha256")), (Some(1), &*sum("1")));
    coast.wait("it is filed", |coast| coast.files("archive") == ["archive/ullin_1.csv"]);
    let history = coast.json("entry 1");
    assert_eq!(text(&history["history"][0], "words"), "handed in by mara (local)", "{history}");
    // The same content is told, and not worked again.
    let ran = coast.run("drop tide ullin_1.csv --as corran_2.csv");
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("the same as entry 1"), "{}", ran.out);
    // A name of which the gate takes nothing, and those that are none.
    for (name, why) in [
        ("ullin-1.csv", "comes closest"),
        ("../ullin_1.csv", "no part may be empty"),
        (".ullin_1.csv", "hidden"),
        ("deep/ullin_1.csv", "does not look so far down"),
    ] {
        let ran = coast.run_args(&["drop", "tide", "ullin_1.csv", "--as", name]);
        assert!(ran.code != 0 && ran.err.contains(why), "{name}: {} {}", ran.out, ran.err);
    }
    // A paused gate takes it in, and it waits.
    assert_eq!(coast.run("pause tide").code, 0);
    std::fs::write(coast.path("ullin_3.csv"), "3").unwrap();
    let ran = coast.run("drop tide ullin_3.csv");
    assert!(ran.code == 0 && ran.out.contains("arriving"), "{}{}", ran.out, ran.err);
    let ran = coast.run("drop tide ullin_3.csv");
    assert!(ran.code == 1 && ran.err.contains("lies there already"), "{}{}", ran.out, ran.err);
    assert_eq!(coast.run("resume tide").code, 0);
    coast.wait("it is filed", |coast| coast.files("archive").len() == 3);
    nothing_staged(&coast);
}

#[test]
fn what_is_cut_off_goes_on_where_it_was_also_after_the_service_was_killed() {
    let coast = coast("");
    let service = coast.serve();
    let content = "0123456789".repeat(100);
    let (place, offset) = begin(&service, "ullin_1.csv", &content);
    assert_eq!(offset, "0");
    let answer = piece(&service, &place, (0, false), &content.as_bytes()[..400]);
    assert_eq!((answer.status().as_u16(), header(&answer, "upload-offset")), (204, "400".into()));
    // From elsewhere than where it is.
    let answer = piece(&service, &place, (300, false), b"x");
    assert_eq!(header(&answer, "upload-offset"), "400");
    let (status, told) = body(answer);
    assert!(status == 409 && told.contains("mismatching-upload-offset"), "{told}");
    // A request that breaks off in the middle.
    let host = service.base.strip_prefix("http://").unwrap();
    let mut stream = TcpStream::connect(host).unwrap();
    write!(
        stream,
        "PATCH {place} HTTP/1.1\r\nHost: {host}\r\nAuthorization: Bearer {}\r\nContent-Type: application/partial-upload\r\nUpload-Offset: 400\r\nUpload-Complete: ?1\r\nContent-Length: 600\r\n\r\n{}",
        service.token,
        &content[400..650]
    )
    .unwrap();
    stream.shutdown(std::net::Shutdown::Write).unwrap();
    let _ = stream.read(&mut [0; 100]);
    coast.wait("what came is kept", |_| how_far(&service, &place) == "650");
    assert!(coast.ledger().is_empty());
    service.kill();
    let service = coast.serve();
    assert_eq!(how_far(&service, &place), "650");
    // Who has lost the place finds it again by length and sum.
    assert_eq!(begin(&service, "ullin_1.csv", &content), (place.clone(), "650".into()));
    let (status, told) = body(piece(&service, &place, (650, true), &content.as_bytes()[650..]));
    assert!(status == 201 && told.contains(&sum(&content)), "{status} {told}");
    coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
    assert_eq!(coast.read("archive/ullin_1.csv"), content);
    coast.wait("that is told", |_| service.get(&place)["became"]["state"] == "filed");
    nothing_staged(&coast);
}

#[test]
fn what_was_refused_gets_no_name_later_unless_it_is_asked_for_again() {
    let coast = coast("");
    let service = coast.serve();
    let (place, _) = begin(&service, "ullin_1.csv", "two");
    coast.drop("drops/tide/ullin_1.csv", "one");
    let (status, told) = body(piece(&service, &place, (0, true), b"two"));
    assert!(status == 409 && told.contains("lies there already"), "{status} {told}");
    // What is not held is replaced by nobody.
    let replaces = [("If-Match", format!("\"{}\"", sum("one")))];
    let replaces = replaces.each_ref().map(|(name, value)| (*name, value.as_str()));
    let at = ("PUT", "/api/v1/gates/tide/drop/ullin_1.csv");
    let (status, told) = body(send(&service, at, &replaces, b"three"));
    assert!(status == 409 && told.contains("only what is held"), "{status} {told}");
    assert_eq!(coast.read("drops/tide/ullin_1.csv"), "one");
    let left = coast.files("drops").into_iter().filter(|path| path.contains(".vadegate-"));
    assert_eq!(left.count(), 1, "of what can go on, and of nothing else");
    std::fs::remove_file(coast.path("drops/tide/ullin_1.csv")).unwrap();
    service.kill();
    let service = coast.serve();
    assert!(!coast.path("drops/tide/ullin_1.csv").try_exists().unwrap());
    assert_eq!(how_far(&service, &place), "3");
    assert_eq!(body(piece(&service, &place, (3, true), b"")).0, 201);
    coast.wait("it is filed", |coast| coast.files("archive") == ["archive/ullin_1.csv"]);
    assert_eq!(coast.read("archive/ullin_1.csv"), "two");
}

#[test]
fn what_is_wrong_too_large_or_too_much_is_refused_and_nothing_of_it_stays() {
    let coast = coast("[gate.tide.door]\nbytes = \"..1kB\"\nfiles_waiting = 2\n");
    let service = coast.serve();
    let put = |path: &str, headers: &[(&str, &str)], content: &[u8]| {
        body(send(&service, ("PUT", &format!("/api/v1/gates/tide/drop/{path}")), headers, content))
    };
    let other = Sha256::of(b"other").to_digest();
    let (status, told) = put("ullin_1.csv", &[("Repr-Digest", &other)], b"one");
    assert!(status == 400 && told.contains("damaged on the way"), "{status} {told}");
    let (status, told) = put("ullin_1.csv", &[("Repr-Digest", "sha-256=x")], b"one");
    assert!(status == 400 && told.contains("RFC 9530"), "{status} {told}");
    let (status, told) = put("ullin_1.csv", &[("Upload-Length", "2")], b"one");
    assert!(status == 400 && told.contains("upload-length"), "{status} {told}");
    let (status, told) = put("ullin_1.csv", &[], &[b'x'; 1001]);
    assert!(status == 413 && told.contains("1000 bytes at the most"), "{status} {told}");
    // More than was said.
    let (place, _) = begin(&service, "ullin_1.csv", "four");
    let (status, told) = body(piece(&service, &place, (0, true), b"more than four"));
    assert!(status == 400 && told.contains("more than the 4 bytes"), "{status} {told}");
    let (status, told) = body(piece(&service, &place, (0, true), b"two"));
    assert!(status == 400 && told.contains("send the rest"), "{status} {told}");
    assert_eq!(send(&service, ("DELETE", &place), &[], b"").status(), 204);
    assert_eq!(send(&service, ("HEAD", &place), &[], b"").status(), 404);
    for path in ["a%0Ab_1.csv", "%2e%2e/ullin_1.csv", "ullin_1.csv/", "x%2Fullin_1.csv"] {
        let (status, told) = put(path, &[], b"1");
        assert!(matches!(status, 400 | 422), "{path}: {status} {told}");
    }
    assert_eq!(put("%C3%BClin_1.csv", &[], b"1").0, 201);
    // A link in the place of the drop folder leads nowhere.
    assert_eq!(coast.run("pause tide").code, 0);
    for number in [2, 3] {
        assert_eq!(put(&format!("ullin_{number}.csv"), &[], number.to_string().as_bytes()).0, 201);
    }
    let (status, told) = put("ullin_4.csv", &[], b"4");
    assert!(status == 503 && told.contains("files_waiting"), "{status} {told}");
    nothing_staged(&coast);
    assert_eq!(coast.run("resume tide").code, 0);
    coast.wait("all is filed", |coast| coast.files("archive").len() == 3);
    std::fs::rename(coast.path("drops/tide"), coast.path("aside")).unwrap();
    std::os::unix::fs::symlink(coast.path("aside"), coast.path("drops/tide")).unwrap();
    let (status, told) = put("ullin_5.csv", &[], b"5");
    assert!(status == 500 && told.contains("cannot be received"), "{status} {told}");
    assert!(coast.files("aside").is_empty(), "{:?}", coast.files("aside"));
}

#[test]
fn a_supplier_hands_in_at_its_gate_and_hears_of_its_own_file_alone() {
    let coast = coast("[gate.sums]\ndrop = \"drops/sums\"\narchive = { into = \"archive\" }\n");
    let [supplier, other, operator] =
        ["supplier --gate tide --label fennick", "supplier --gate tide --label corran", "operator"]
            .map(|role| token(&coast, &format!("--role {role}")));
    let service = coast.serve();
    let bearer = |token: &str| format!("Bearer {token}");
    let ask = |token: &str, call: (&str, &str), more: &[(&str, &str)], content: &[u8]| {
        let bearer = bearer(token);
        let mut headers = vec![("Authorization", bearer.as_str())];
        headers.extend(more);
        send(&service, call, &headers, content)
    };
    assert_eq!(coast.run("pause tide").code, 0);
    let at_tide = ("PUT", "/api/v1/gates/tide/drop/ullin_1.csv");
    assert_eq!(ask(&supplier, ("PUT", "/api/v1/gates/sums/drop/a.csv"), &[], b"1").status(), 403);
    assert_eq!(ask(&operator, ("PUT", "/api/v1/gates/sums/drop/a.csv"), &[], b"1").status(), 201);
    for path in ["/api/v1/gates", "/api/v1/entries", "/api/v1/gates/tide/files"] {
        assert_eq!(ask(&supplier, ("GET", path), &[], b"").status(), 403, "{path}");
    }
    let more = [("Upload-Complete", "?0"), ("Upload-Length", "1")];
    let place = header(&ask(&supplier, at_tide, &more, b""), "location");
    assert_eq!(ask(&other, ("HEAD", &place), &[], b"").status(), 404);
    assert_eq!(ask(&supplier, ("HEAD", &place), &[], b"").status(), 204);
    let replaces = format!("\"{}\"", sum("1"));
    assert_eq!(ask(&supplier, at_tide, &[("If-Match", &replaces)], b"2").status(), 403);
    assert_eq!(ask(&supplier, ("DELETE", &place), &[], b"").status(), 204);
    assert_eq!(coast.run("resume tide").code, 0);
    for (name, state) in [("ullin_1", "filed"), ("ullin_2", "repeat")] {
        let path = format!("/api/v1/gates/tide/drop/{name}.csv");
        let (status, told) = body(ask(&supplier, ("PUT", &path), &[], b"1"));
        assert_eq!(status, 201, "{told}");
        let told: BTreeMap<String, Value> = serde_json::from_str(&told).unwrap();
        let keys: Vec<&str> = told.keys().map(String::as_str).collect();
        assert_eq!(keys, ["bytes", "entry", "sha256", "state"], "{name} {state}");
    }
    let lines = coast.json("audit");
    let handed = lines
        .as_array()
        .unwrap()
        .iter()
        .any(|line| text(line, "what") == "hand-in" && text(line, "who") == "token fennick");
    assert!(handed, "{lines:#}");
}

#[test]
fn a_mended_file_takes_the_place_of_the_held_one_which_is_kept() {
    let coast = coast(
        "[gate.sums]\ndrop = \"drops/sums\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         merge = { into = \"out/all.csv\" }\narchive = { into = \"archive\" }\n",
    );
    coast.drop("drops/sums/a.csv", "x,y\n1\n");
    let _service = coast.serve();
    coast.wait("it is held", |coast| coast.ledger().iter().any(|one| one["state"] == "held"));
    std::fs::write(coast.path("mended.csv"), "x,y\n1,2\n").unwrap();
    let ran = coast.run("drop sums mended.csv --as a.csv");
    assert!(ran.code == 1 && ran.err.contains("If-Match"), "{}{}", ran.out, ran.err);
    let ran = coast.run("drop sums mended.csv --mends 1 --json");
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    coast.wait("it is merged", |coast| {
        coast.files("out").len() == 1 && coast.ledger().iter().all(|one| one["state"] == "filed")
    });
    assert_eq!(coast.read("out/all.csv"), "x,y\n1,2\n");
    let archived: Vec<String> =
        coast.files("archive").iter().map(|path| coast.read(path)).collect();
    assert!(archived.contains(&"x,y\n1\n".to_owned()), "{archived:?}");
    assert_eq!(archived.len(), 2);
    let history = coast.json("entry 1").to_string();
    assert!(history.contains("a mended file is handed in"), "{history}");
    // It is not what was held any more.
    let ran = coast.run("drop sums mended.csv --mends 1");
    assert!(ran.code == 0 && ran.out.contains("the same as entry 2"), "{}{}", ran.out, ran.err);
    nothing_staged(&coast);
}

#[test]
fn a_disk_that_fails_for_a_moment_costs_nothing_but_time() {
    for fault in
        ["door.write:1=full", "door.write:1=io", "door.publish:1=io", "door.published:1=io"]
    {
        let coast = coast("");
        std::fs::write(coast.path("ullin_1.csv"), "1").unwrap();
        let service = Service::start(&coast, |command| _ = command.env("VADEGATE_FAULT", fault));
        let ran = coast.run("drop tide ullin_1.csv");
        assert_eq!(ran.code, 0, "{fault}: {}{}", ran.out, ran.err);
        assert!(service.log().contains("fault "), "{fault}");
        coast.wait("it is filed", |coast| coast.files("archive") == ["archive/ullin_1.csv"]);
        assert_eq!(coast.ledger().len(), 1, "{fault}");
        nothing_staged(&coast);
    }
}

#[test]
fn killed_at_any_point_a_file_is_entered_once_and_nothing_staged_is_left() {
    // So often the ledger is written before anybody hands in anything.
    let begun = {
        let coast = coast("");
        let service = Service::start(&coast, |command| _ = command.env("VADEGATE_FAULT", "list"));
        service.log().matches("ledger.commit\n").count()
    };
    let commits = (begun + 2..begun + 8)
        .flat_map(|nth| [format!("ledger.commit:{nth}"), format!("ledger.committed:{nth}")]);
    let door = ["door.write:1", "door.publish:1", "door.published:1"].map(str::to_owned);
    let mut killed = 0;
    for point in door.into_iter().chain(commits) {
        let coast = coast("");
        std::fs::write(coast.path("ullin_1.csv"), "1").unwrap();
        let service = Service::start(&coast, |command| {
            command.env("VADEGATE_FAULT", format!("{point}=kill"));
        });
        let cut_off = coast.command().args(["drop", "tide", "ullin_1.csv"]).spawn();
        let mut cut_off = cut_off.unwrap();
        let died = crate::support::wait("the service dies, or it is through", || {
            let log = service.log();
            (log.contains("fault kill") || coast.files("archive").len() == 1).then_some(log)
        });
        killed += usize::from(died.contains("fault kill"));
        let _ = cut_off.kill();
        let _ = cut_off.wait();
        drop(service);
        let _service = coast.serve();
        let ran = coast.run("drop tide ullin_1.csv");
        assert!(
            ran.code == 0 || ran.err.contains("lies there already"),
            "{point}: {}{}",
            ran.out,
            ran.err
        );
        coast.wait("it is filed", |coast| {
            let states = coast.ledger();
            !states.is_empty() && states.iter().all(|one| one["state"] == "filed")
        });
        let worked = coast.ledger().iter().filter(|one| one["repeat_of"].is_null()).count();
        assert_eq!(worked, 1, "{point}: {:#?}\n{died}", coast.ledger());
        assert!(coast.files("archive").iter().all(|path| coast.read(path) == "1"), "{point}");
        nothing_staged(&coast);
    }
    assert!(killed > 8, "only {killed} of the points were passed");
}
