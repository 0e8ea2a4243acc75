//! Who is told: by a program, by HTTP, by mail; gathered, tried again, given up.

use std::time::{Duration, Instant};

use serde_json::Value;

use crate::noon::{coast, configure, events, keeping_tell, kept};
use crate::post_office::{Answer, Cover, PostOffice};
use crate::receiver::identity;
use crate::receiver::{Next, Receiver};
use crate::support::{TestHome, text, wait};

fn told(coast: &TestHome) -> Vec<Value> {
    coast.json("told").as_array().unwrap().clone()
}

fn hold(coast: &TestHome, count: usize) {
    for number in 0..count {
        coast.drop(&format!("drops/haven_{number}.csv"), "");
    }
}

#[test]
fn what_is_held_in_a_moment_goes_into_one_message_and_a_release_is_told() {
    let coast = coast("");
    let desk = keeping_tell(
        &coast,
        "desk",
        "of = [\"held\", \"released\"]\nabout = [\"ti*\"]\ngather = \"2s\"",
    );
    let other = keeping_tell(
        &coast,
        "other",
        "of = [\"all\"]\nabout = [\"buoys\", \"due:*\"]\ngather = \"0s\"",
    );
    configure(&coast, &format!("{desk}{other}"));
    let _service = coast.serve();
    hold(&coast, 300);
    let message = wait("it is told", || kept(&coast, "desk").into_iter().next());
    assert_eq!(text(&message, "subject"), "300 held (tide)");
    assert_eq!(message["events"].as_array().unwrap().len(), 50);
    assert_eq!(message["more"], 250);
    assert!(text(&message, "text").contains("vadegate entry "), "{message:#}");
    let entry = message["events"][0]["entry"].to_string();
    coast.run_args(&[
        "release",
        &entry,
        "--how",
        "file",
        "--why",
        "it is as it should be",
        "--yes",
    ]);
    let told = wait("the release is told", || {
        let events = events(&coast, "desk");
        (events.len() == 51).then_some(events)
    });
    assert_eq!(told[50].0, "released");
    assert!(kept(&coast, "other").is_empty(), "what is about others is told to others");
    assert_eq!(kept(&coast, "desk").len(), 2);
}

#[test]
fn a_receiver_gets_signed_events_and_what_it_puts_off_again_under_the_same_identity() {
    let coast = coast("");
    let receiver = Receiver::start();
    configure(
        &coast,
        &format!(
            "[tell.desk]\nof = [\"held\"]\ngather = \"0s\"\nhttp = {{ url = \"{}/tell?key=hush\", secret = {{ file = \"secret\" }} }}\n",
            receiver.base
        ),
    );
    std::fs::write(coast.path("secret"), "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw\n").unwrap();
    receiver.will([Next::Answer(503, "Retry-After: 1\r\n", "not now"), Next::CutBefore]);
    let service = coast.serve();
    let begun = Instant::now();
    hold(&coast, 1);
    let waiting = wait("it is put off", || told(&coast).into_iter().find(|one| one["tries"] == 1));
    assert!(begun.elapsed() < Duration::from_secs(10));
    assert_eq!(text(&waiting, "state"), "waiting");
    assert_eq!(text(&waiting, "words"), "the receiver answered 503: not now");
    let taken = wait("it is taken", || receiver.taken().into_iter().next());
    let header = |name: &str| taken.headers.get(name).cloned().unwrap_or_default();
    assert_eq!(header("content-type"), "application/cloudevents+json");
    let event: Value = serde_json::from_slice(&taken.body).unwrap();
    assert_eq!(text(&event, "specversion"), "1.0");
    assert_eq!(text(&event, "type"), "vadegate.held");
    assert_eq!(text(&event, "subject"), "haven_0.csv");
    assert_eq!(text(&event, "source"), "https://gate.sound.example");
    assert_eq!(header("webhook-id"), text(&waiting, "uid"));
    // Signed as the standard says, which a program of its own can see.
    let content = format!("{}.{}.", header("webhook-id"), header("webhook-timestamp"));
    let signed = [content.as_bytes(), &taken.body].concat();
    assert_eq!(header("webhook-signature"), format!("v1,{}", signature_by_openssl(&signed)));
    let sent = wait("it is sent", || told(&coast).into_iter().find(|one| one["state"] == "sent"));
    assert_eq!((&sent["uid"], &sent["tries"]), (&waiting["uid"], &Value::from(3)));
    // The key of the address is shown nowhere.
    let shown = format!("{}{}{}", coast.run("tell").out, coast.run("told").out, service.log());
    assert!(!shown.contains("hush"), "{shown}");
}

fn signature_by_openssl(content: &[u8]) -> String {
    use std::io::Write;
    let key = "31f290f6bf06298aab4f08d43c3f082cf648a362da2da4b0";
    let mut openssl = std::process::Command::new("openssl")
        .args(["dgst", "-sha256", "-mac", "HMAC", "-macopt", &format!("hexkey:{key}"), "-binary"])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    openssl.stdin.take().unwrap().write_all(content).unwrap();
    let output = openssl.wait_with_output().unwrap();
    assert!(output.status.success());
    let mut base64 = std::process::Command::new("base64")
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    base64.stdin.take().unwrap().write_all(&output.stdout).unwrap();
    String::from_utf8(base64.wait_with_output().unwrap().stdout).unwrap().trim().to_owned()
}

#[test]
fn who_refuses_is_given_up_at_once_and_failures_of_tells_go_round_in_no_circle() {
    let coast = coast("");
    let receiver = Receiver::start();
    let http = |name: &str| {
        format!(
            "[tell.{name}]\nof = [\"held\", \"failed\"]\ngather = \"0s\"\nhttp = {{ url = \"{}/{name}\" }}\n",
            receiver.base
        )
    };
    let desk = keeping_tell(&coast, "desk", "of = [\"failed\"]\ngather = \"0s\"");
    configure(&coast, &format!("{}{}{desk}", http("one"), http("two")));
    receiver.will((0..20).map(|_| Next::Answer(410, "", "gone")));
    let _service = coast.serve();
    hold(&coast, 1);
    wait("both failures are told", || (events(&coast, "desk").len() == 2).then_some(()));
    // Each of the two told of the other's failure once, failed with it, and that is no news.
    let failed = wait("it comes to rest", || {
        let failed = coast.json("told --state failed").as_array().unwrap().clone();
        (failed.len() == 4).then_some(failed)
    });
    assert!(
        failed.iter().all(|one| text(one, "words").contains("answered 410: gone")),
        "{failed:#?}"
    );
    assert_eq!(events(&coast, "desk").len(), 2);
    let gates = coast.run("tell one").out;
    assert!(gates.contains("answered 410"), "{gates}");
    let test = coast.run("tell one --test");
    assert_eq!(test.code, 1, "{}", test.out);
    assert!(test.out.contains("has not taken it: the receiver answered 410"), "{}", test.out);
    let before = kept(&coast, "desk").len();
    let test = coast.run("tell desk --test");
    let now = kept(&coast, "desk").len();
    assert_eq!((test.code, now), (0, before + 1), "{} {}", test.out, test.err);
}

#[test]
fn mail_has_a_subject_that_says_it_and_a_server_that_misbehaves_gets_it_in_the_end() {
    let coast = coast("");
    let office = PostOffice::start(Cover::Never);
    configure(
        &coast,
        &format!(
            "[mail]\nserver = \"smtp://127.0.0.1:{}\"\nfrom = \"Vadegate <vadegate@sound.example>\"\nuser = \"gate\"\npassword = {{ file = \"secret\" }}\n\
             [tell.desk]\nof = [\"held\"]\ngather = \"0s\"\nmail = {{ to = [\"desk@sound.example\", \"night@sound.example\"] }}\n",
            office.port
        ),
    );
    std::fs::write(coast.path("secret"), "tide-and-time\n").unwrap();
    office.will([Answer::DropAfterGreeting, Answer::Temporary, Answer::DropAfterData]);
    let _service = coast.serve();
    coast.drop("drops/haven_1.csv", "");
    let sent = wait("it is sent", || told(&coast).into_iter().find(|one| one["state"] == "sent"));
    assert!(sent["tries"].as_u64().unwrap() >= 4, "{sent:#}");
    let mails = office.taken();
    // One whose answer was cut off after it was taken comes again, under the same identity.
    assert_eq!(mails.len(), 2, "{mails:#?}");
    let identity =
        |mail: &str| mail.lines().find(|line| line.starts_with("Message-ID: ")).unwrap().to_owned();
    assert_eq!(identity(&mails[0].text), identity(&mails[1].text));
    let mail = &mails[1];
    assert_eq!(mail.to, ["desk@sound.example", "night@sound.example"]);
    assert_eq!(mail.user.as_deref(), Some("gate tide-and-time"));
    assert!(mail.text.contains("Subject: tide held: haven_1.csv: "), "{}", mail.text);
    assert!(mail.text.contains("vadegate entry 1"), "{}", mail.text);
    assert!(mail.text.contains("multipart/alternative"), "{}", mail.text);
    office.will([Answer::Refused]);
    coast.drop("drops/haven_2.csv", "");
    let failed =
        wait("it is given up", || told(&coast).into_iter().find(|one| one["state"] == "failed"));
    assert!(text(&failed, "words").contains("550"), "{failed:#}");
}

#[test]
fn mail_is_encrypted_as_the_server_and_the_configuration_say() {
    for (scheme, tls, whole) in
        [("smtp", "", false), ("smtp", "tls = \"required\"\n", false), ("smtps", "", true)]
    {
        let coast = coast("");
        let (identity, certificate) = identity(&coast.path(""));
        let cover = if whole { Cover::Whole(identity) } else { Cover::Asked(identity) };
        let office = PostOffice::start(cover);
        let mail = |certificates: &str, port: u16| {
            configure(
                &coast,
                &format!(
                    "[mail]\nserver = \"{scheme}://localhost:{port}\"\nfrom = \"gate@sound.example\"\n{tls}{certificates}\
                     [tell.desk]\nof = [\"held\"]\nmail = {{ to = [\"desk@sound.example\"] }}\n"
                ),
            );
            coast.run("tell desk --test")
        };
        // A server whose certificate nobody vouches for hears nothing.
        let unknown = mail("", office.port);
        let why = unknown.out + &unknown.err;
        assert!(unknown.code != 0 && why.contains("invalid peer certificate"), "{why}");
        assert!(office.taken().is_empty());
        let certificates = format!("certificates = \"{}\"\n", certificate.display());
        let sent = mail(&certificates, office.port);
        assert_eq!(sent.code, 0, "{scheme} {tls}: {}", sent.err);
        assert!(office.taken()[0].encrypted, "{:#?}", office.taken());
        // One that offers nothing is told nothing where that was required.
        let open = PostOffice::start(Cover::Never);
        let sent = mail(&certificates, open.port);
        let refused = whole || !tls.is_empty();
        assert_eq!(sent.code != 0, refused, "{scheme} {tls}: {} {}", sent.out, sent.err);
        assert_eq!(open.taken().is_empty(), refused);
    }
}

#[test]
fn no_more_goes_out_than_was_said_and_what_lasts_is_told_again() {
    let coast = coast("");
    let desk =
        keeping_tell(&coast, "desk", "of = [\"held\"]\ngather = \"0s\"\nat_most = \"1 in 3s\"");
    configure(&coast, &desk);
    let _service = coast.serve();
    coast.drop("drops/haven_0.csv", "");
    wait("the first is told", || (kept(&coast, "desk").len() == 1).then_some(()));
    for number in 1..5 {
        coast.drop(&format!("drops/haven_{number}.csv"), "");
    }
    wait("they are held", || (coast.ledger().len() == 5).then_some(()));
    let second = wait("the others are told", || kept(&coast, "desk").get(1).cloned());
    assert_eq!(text(&second, "subject"), "4 held (tide)");
}

#[test]
fn troubles_are_told_and_that_they_are_over() {
    let coast = coast("");
    let desk = keeping_tell(&coast, "desk", "of = [\"trouble\"]\ngather = \"0s\"");
    configure(&coast, &desk);
    let _service = coast.serve();
    wait("it runs", || (coast.json("gates")[0]["state"] == "open").then_some(()));
    std::fs::rename(coast.path("drops"), coast.path("gone")).unwrap();
    let told = wait("the trouble is told", || {
        let told = events(&coast, "desk");
        (!told.is_empty()).then_some(told)
    });
    assert!(told.iter().all(|(kind, over, _)| kind == "trouble" && !over), "{told:#?}");
    std::fs::rename(coast.path("gone"), coast.path("drops")).unwrap();
    wait("its end is told", || events(&coast, "desk").iter().any(|event| event.1).then_some(()));
}

#[test]
fn tells_that_cannot_be_meant_are_refused_with_what_helps() {
    for (tell, told) in [
        (
            "[tell.\"the desk\"]\nof = [\"held\"]\nrun = { program = \"true\" }",
            "is no name for a tell",
        ),
        ("[due.\"a:b\"]\ngate = \"tide\"\nby = \"07:00\"", "is no name for a due"),
        ("[tell.desk]\nof = [\"held\"]", "goes by one of mail"),
        (
            "[tell.desk]\nof = [\"held\"]\nrun = { program = \"bin/nothing\" }",
            "is not there or may not be run",
        ),
        ("[tell.desk]\nof = [\"hled\"]\nrun = { program = \"a\" }", "did you mean \"held\"?"),
        ("[tell.desk]\nrun = { program = \"a\" }", "`of` is missing"),
        (
            "[tell.desk]\nof = [\"held\"]\nmail = { to = [\"a@b.example\"] }",
            "there is no mail server",
        ),
        ("[mail]\nserver = \"mail.sound.example\"\nfrom = \"a@b.example\"", "is no mail server"),
        (
            "[mail]\nserver = \"smtp://u:p@mail.sound.example\"\nfrom = \"a@b.example\"",
            "is no mail server",
        ),
        (
            "[mail]\nserver = \"smtp://mail.sound.example\"\nfrom = \"a@b.example\"\nuser = \"a\"\npassword = { env = \"P\" }",
            "would go out without encryption",
        ),
        ("[tell.desk]\nof = [\"held\"]\nhttp = { url = \"ftp://a\" }", "is no address to tell"),
        (
            "[tell.desk]\nof = [\"held\"]\nat_most = \"10\"\nrun = { program = \"a\" }",
            "\"10 in 1h\"",
        ),
        (
            "[tell.desk]\nof = [\"held\"]\nhours = [\"Moo\"]\nrun = { program = \"a\" }",
            "no time of the week",
        ),
    ] {
        let coast = coast(tell);
        let ran = coast.run("check");
        assert!(
            ran.code != 0 && format!("{}{}", ran.out, ran.err).contains(told),
            "{tell}: {}{}",
            ran.out,
            ran.err
        );
    }
}
