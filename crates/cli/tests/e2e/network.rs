//! The service on a network: TLS, what stands before it, and who is on its own machine.

use std::fs;
use std::path::Path;

use serde_json::{Value, json};

use crate::accounts::{PASSWORD, sign_in, token, with_password};
use crate::receiver::identity;
use crate::support::{Ran, Service, TestHome, filing_gate, text, wait};

/// A coast that listens at an address and speaks TLS with a certificate of its own.
fn coast(listen: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "{}[gate.soundings]\ndrop = \"drops/soundings\"\nsettle = \"20ms\"\narchive = {{ into = \"archive\" }}\n[gate.soundings.offer]\nlease = \"30s\"\n",
        filing_gate("tide", "take = [\"*.csv\"]")
    ));
    coast.folder("drops/tide");
    coast.folder("drops/soundings");
    let (_, certificate) = identity(&coast.path(""));
    let key = certificate.with_extension("key");
    let text = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    let service = format!(
        "[service]\nhosts = [\"127.0.0.2\"]\ntls = {{ certificate = \"{}\", key = \"{}\" }}",
        certificate.display(),
        key.display()
    );
    let text = text.replacen("[service]", &service, 1).replace("127.0.0.1:0", listen);
    fs::write(coast.path("vadegate.toml"), text).unwrap();
    coast
}

fn agent(certificate: &Path) -> ureq::Agent {
    use ureq::tls::{Certificate, RootCerts, TlsConfig};
    let pem = fs::read(certificate).unwrap();
    let roots = vec![Certificate::from_pem(&pem).unwrap()];
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let tls = TlsConfig::builder()
        .root_certs(RootCerts::Specific(std::sync::Arc::new(roots)))
        .unversioned_rustls_crypto_provider(provider)
        .build();
    ureq::Agent::config_builder().tls_config(tls).http_status_as_error(false).build().into()
}

fn port(service: &Service) -> &str {
    service.base.rsplit(':').next().unwrap()
}

#[test]
fn a_service_that_speaks_tls_is_asked_from_here_and_from_elsewhere() {
    let coast = coast("127.0.0.1:0");
    let added = with_password(&coast, "user add mara --role operator", PASSWORD);
    assert_eq!(added.code, 0, "{}", added.err);
    let secret = token(&coast, "--role operator --label night");
    fs::write(coast.path("night.token"), &secret).unwrap();
    coast.drop("drops/tide/lies-here.csv", "1");
    let service = coast.serve();
    assert!(service.base.starts_with("https://127.0.0.1:"), "{}", service.base);
    coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
    coast.drop("drops/tide/lies-here.csv.part", "1");
    // From its own machine, as always.
    assert_eq!(text(&coast.json("gates tide")[0], "name"), "tide");
    // From elsewhere: where nobody vouches for it, nothing is shown to it.
    let elsewhere = tempfile::tempdir().unwrap();
    let run = |args: &[&str]| {
        let mut command = coast.command();
        Ran::of(&command.current_dir(elsewhere.path()).args(args).output().unwrap())
    };
    let address = format!("https://localhost:{}", port(&service));
    let (file, certificates) = (coast.path("night.token"), coast.path("receiver.pem"));
    let (file, certificates) = (file.to_str().unwrap(), certificates.to_str().unwrap());
    let named = ["--service", &address, "--token-file", file];
    let unknown = run(&[&["gates"], &named[..]].concat());
    assert!(unknown.code != 0 && unknown.err.contains("certificate"), "{}", unknown.err);
    let trusted = [&named[..], &["--certificates", certificates]].concat();
    let gates = run(&[&["gates", "--json"], &trusted[..]].concat());
    assert_eq!(gates.code, 0, "{}", gates.err);
    assert!(gates.out.contains("\"tide\""), "{}", gates.out);
    // What is there is what is there, not what a file here says.
    let files = run(&[&["files", "--json"], &trusted[..]].concat());
    assert!(
        files.code == 0 && files.out.contains("lies-here.csv.part"),
        "{}{}",
        files.out,
        files.err
    );
    let passed = run(&[&["pass", "--json"], &trusted[..]].concat());
    assert!(passed.code == 0 && passed.out.contains("\"tide\""), "{}{}", passed.out, passed.err);
    let due = run(&[&["due"], &trusted[..]].concat());
    assert!(due.out.contains("Nothing is expected that fits"), "{}{}", due.out, due.err);
    let paused = run(&[&["pause", "tide"], &trusted[..]].concat());
    assert_eq!(paused.code, 0, "{}", paused.err);
    assert_eq!(coast.json("gates tide")[0]["pause"]["by"], "token night");
    let refused = run(&[&["user", "list"], &trusted[..]].concat());
    assert!(refused.err.contains("it is for the role admin"), "{}", refused.err);
    let here = run(&[&["verify"], &trusted[..]].concat());
    assert!(here.code == 2 && here.err.contains("its own machine"), "{}", here.err);
    let plain = Service::elsewhere(&service.base.replace("https", "http"), "x");
    assert!(plain.agent().get(plain.url("/healthz")).call().is_err(), "nothing without TLS");
}

#[test]
fn over_tls_browsers_are_told_to_stay_there_and_a_new_certificate_is_taken_by_itself() {
    let coast = coast("127.0.0.1:0");
    let added = with_password(&coast, "user add mara --role viewer", PASSWORD);
    assert_eq!(added.code, 0, "{}", added.err);
    let service = coast.serve();
    let url = format!("https://localhost:{}/api/v1/session", port(&service));
    let before = coast.path("receiver.pem");
    let old = agent(&before);
    let body = json!({ "name": "mara", "password": PASSWORD }).to_string();
    let answer = old.post(&url).header("Content-Type", "application/json").send(body).unwrap();
    assert_eq!(answer.status(), 204);
    assert_eq!(answer.headers()["strict-transport-security"], "max-age=31536000");
    let cookie = answer.headers()["set-cookie"].to_str().unwrap();
    assert!(cookie.starts_with("__Host-vadegate_session_"), "{cookie}");
    assert!(cookie.contains("; Secure"), "{cookie}");
    let kept = coast.path("before.pem");
    fs::copy(&before, &kept).unwrap();
    let (_, fresh) = identity(&coast.path(""));
    let new = wait("the new certificate is taken", || {
        let agent = agent(&fresh);
        agent.get(&url).call().ok().map(|_| agent)
    });
    assert!(agent(&kept).get(&url).call().is_err(), "the old one is shown no more");
    // One that cannot be used changes nothing.
    fs::write(coast.path("receiver.key"), "no key").unwrap();
    wait("it is told", || {
        service.log().contains("the certificate before stays in use").then_some(())
    });
    assert_eq!(new.get(&url).call().unwrap().status(), 200);
}

#[test]
fn where_others_reach_it_there_must_be_tls_and_a_user() {
    let coast = coast("0.0.0.0:0");
    let text = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    let without: String = text
        .lines()
        .filter(|line| !line.starts_with("tls"))
        .map(|line| format!("{line}\n"))
        .collect();
    fs::write(coast.path("vadegate.toml"), &without).unwrap();
    let refused = coast.run("check");
    assert!(
        refused.code == 2 && refused.out.contains("[service.tls]"),
        "{}{}",
        refused.out,
        refused.err
    );
    fs::write(coast.path("vadegate.toml"), &text).unwrap();
    let refused = coast.run("serve");
    assert!(refused.code != 0 && refused.err.contains("vadegate user add"), "{}", refused.err);
    let added = with_password(&coast, "user add mara --role admin", PASSWORD);
    assert_eq!(added.code, 0, "{}", added.err);
    let secret = token(&coast, "--role worker --gate soundings --label boat");
    let service = coast.serve();
    let last = coast.run("user remove mara");
    assert!(last.code != 0 && last.err.contains("this is the last user"), "{}", last.err);
    // By another address of the machine, as a worker elsewhere would.
    coast.drop("drops/soundings/a.xyz", "1 2 3");
    coast.wait("it waits for a worker", |coast| {
        coast.ledger().first().is_some_and(|entry| entry["state"] == "ready")
    });
    let worked = Ran::of(
        &coast
            .command()
            .env("VADEGATE_TOKEN", &secret)
            .args(["worker", "soundings", "--name", "boat"])
            .args(["--service", &format!("https://127.0.0.2:{}", port(&service))])
            .args(["--certificates", coast.path("receiver.pem").to_str().unwrap()])
            .args(["--once", "--", "sh", "-c", "cp \"$0\" worked.xyz", "<file>"])
            .output()
            .unwrap(),
    );
    assert_eq!(worked.code, 0, "{}{}", worked.out, worked.err);
    assert_eq!(coast.read("worked.xyz"), "1 2 3");
}

#[test]
fn what_stands_before_it_says_from_where_and_only_where_it_is_believed() {
    let coast = TestHome::new(&filing_gate("tide", "take = [\"*.csv\"]"));
    coast.folder("drops/tide");
    let text = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    let proxied = "[service]\nbehind_proxy = true\nproxies = [\"127.0.0.1\"]";
    fs::write(coast.path("vadegate.toml"), text.replacen("[service]", proxied, 1)).unwrap();
    let added = with_password(&coast, "user add mara --role viewer", PASSWORD);
    assert_eq!(added.code, 0, "{}", added.err);
    let service = coast.serve();
    let forwarded = [("Forwarded", "for=198.51.100.7;proto=https")];
    let (status, body) = service.ask("GET", "/api/v1/gates", &forwarded);
    assert!(status == 401 && body.contains("own machine alone"), "{status} {body}");
    let (status, _) = service.ask("GET", "/api/v1/gates", &[("X-Forwarded-For", "198.51.100.7")]);
    assert_eq!(status, 401, "whoever sends it on is not on this machine");
    assert_eq!(service.ask("GET", "/api/v1/gates", &[]).0, 200);
    let attempt = |address: &str, password: &str| {
        let body = json!({ "name": "mara", "password": password }).to_string();
        let request = service.agent().post(service.url("/api/v1/session"));
        let request = request.header("Forwarded", format!("for={address}"));
        request.header("Content-Type", "application/json").send(body).unwrap().status().as_u16()
    };
    assert_eq!(attempt("198.51.100.7", PASSWORD), 204);
    assert_eq!(attempt("198.51.100.7", "a guess of somebody"), 403);
    let lines = coast.json("audit --what sign-in");
    let from: Vec<&str> = lines.as_array().unwrap().iter().map(from_of).collect();
    assert_eq!(from, ["198.51.100.7", "198.51.100.7"]);
    // A session that the local token began is no key for elsewhere either.
    assert_eq!(sign_in(&service, "mara", PASSWORD).0, 204);
}

fn from_of(line: &Value) -> &str {
    text(line, "address")
}
