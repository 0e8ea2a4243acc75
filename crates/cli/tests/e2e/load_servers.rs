//! Loads whose database goes away, lies, or is another than it says.

use std::fs;

use crate::databases::{Db, Server};
use crate::loads::{BUOYS, configure, each, held_because, pass, pass_all};
use crate::support::{Service, TestHome, text};

#[test]
fn a_lost_answer_at_the_commit_is_asked_for() {
    each("table = \"waves\"\nif_missing = \"create\"\nwait = \"50ms\"", |coast, db| {
        coast.drop("drops/a.csv", BUOYS);
        let service = Service::start(coast, |command| {
            command.env("VADEGATE_FAULT", "load.committed:1=io");
        });
        coast.wait("it is filed", |coast| coast.files("archive") == ["archive/a.csv"]);
        if vadegate_core::fault::COMPILED {
            assert!(
                service.log().contains("the connection was lost at the commit"),
                "{}",
                service.log()
            );
        }
        assert_eq!((db.count("waves"), db.count("vadegate_loads")), (2, 1));
        let entry = coast.json("entry 1");
        assert_eq!(entry["worked_in"]["outputs"][0]["account"]["rows_out"], 2, "{entry}");
        assert_eq!(coast.json("gates waves")[0]["state"], "open");
    });
}

pub(crate) fn killed_behind_the_commit(coast: &TestHome, db: &Db) {
    coast.wait("it is killed behind the commit", |coast| {
        let mut command = coast.command();
        command.arg("pass").env("VADEGATE_FAULT", "load.committed:1=kill");
        !command.output().unwrap().status.success() && db.count("waves") == 2
    });
}

#[test]
fn a_database_without_its_markers_is_not_believed() {
    if !vadegate_core::fault::COMPILED {
        return;
    }
    each("table = \"waves\"\nif_missing = \"create\"", |coast, db| {
        coast.drop("drops/a.csv", BUOYS);
        killed_behind_the_commit(coast, db);
        db.run("ALTER TABLE vadegate_loads RENAME TO elsewhere");
        let report = pass(coast);
        assert!(report["problems"].to_string().contains("nobody can know"), "{report}");
        assert_eq!((text(&coast.entry("a.csv"), "state"), db.count("waves")), ("working", 2));
        db.run("ALTER TABLE elsewhere RENAME TO vadegate_loads");
        pass(coast);
        assert_eq!((text(&coast.entry("a.csv"), "state"), db.count("waves")), ("filed", 2));
    });
    // A gate that has forgotten the database asks a person.
    let aside = "table = \"waves\"\nif_missing = \"create\"\nmisfits = \"set aside\"\n\
                 rejects = \"out/rejects.csv\"\ncolumn.height_m = { type = \"real\" }";
    each(aside, |coast, db| {
        coast.drop("drops/a.csv", format!("{BUOYS}B3,2026-03-01T00:00:00,x\n"));
        killed_behind_the_commit(coast, db);
        let other = Db::sqlite(&coast.path("out/other.db"));
        configure(coast, &other, "table = \"waves\"\nif_missing = \"create\"");
        pass(coast);
        let left = coast.files("");
        assert!(left.iter().all(|path| !path.contains(".vadegate-")), "{left:?}");
        let why = held_because(coast, "a.csv");
        assert!(why.contains("does not name any more") && why.contains("has the load"), "{why}");
    });
}

#[test]
fn a_server_that_goes_away_holds_nothing_and_is_waited_for() {
    let mut server = Server::start("trust", "none");
    let coast = TestHome::new("");
    let db = server.database();
    configure(
        &coast,
        &db,
        "table = \"waves\"\nif_missing = \"create\"\nwait = \"50ms\"\nwait_up_to = \"200ms\"",
    );
    coast.drop("drops/a.csv", BUOYS);
    let service = coast.serve();
    coast.wait("the first is filed", |coast| coast.files("archive").len() == 1);
    server.crash();
    coast.drop("drops/b.csv", "buoy,taken_at,height_m\nB3,2026-03-02 12:00:00,1\n");
    coast.wait("the trouble is told", |coast| {
        let gate = &coast.json("gates waves")[0];
        gate["state"] == "troubled" && gate["problems"].to_string().contains("files wait as ready")
    });
    assert_eq!(coast.entry("b.csv")["state"], "ready");
    assert_eq!(service.ask("GET", "/api/v1/entries/1/rows", &[]).0, 503);
    server.go_on();
    coast.wait("the second is filed", |coast| coast.files("archive").len() == 2);
    assert_eq!(db.count("waves"), 3);
    coast.wait("the trouble is over", |coast| coast.json("gates waves")[0]["state"] == "open");
    assert_eq!(service.stop(), Some(0));
}

#[test]
fn a_password_is_read_from_where_it_is_and_never_shown() {
    let secret = "tide-and-time-4711";
    let server = Server::start("scram-sha-256", secret);
    let coast = TestHome::new("");
    let db = Db::Postgres(server.url("postgres"));
    let load = "table = \"waves\"\nif_missing = \"create\"\nwait = \"50ms\"";
    coast.drop("drops/a.csv", BUOYS);
    configure(&coast, &db, &format!("{load}\npassword = {{ env = \"SOUND_PASSWORD\" }}"));
    let report = pass(&coast);
    assert!(
        report["problems"].to_string().contains("variable `SOUND_PASSWORD`, which is not set"),
        "{report}"
    );
    let ran = coast.command().args(["pass"]).env("SOUND_PASSWORD", "wrong").output().unwrap();
    let told =
        String::from_utf8_lossy(&ran.stdout).into_owned() + &String::from_utf8_lossy(&ran.stderr);
    assert!(told.contains("password authentication failed"), "{told}");
    fs::write(coast.path("secret"), format!("{secret}\n")).unwrap();
    configure(&coast, &db, &format!("{load}\npassword = {{ file = \"secret\" }}"));
    let service = coast.serve();
    coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
    let mut told = service.log();
    for line in ["gates --json", "check", "rehearse", "entry 1", "entry 1 --rows"] {
        let ran = coast.run(line);
        assert_eq!(ran.code, 0, "{line}: {}{}", ran.out, ran.err);
        told.push_str(&ran.out);
    }
    assert!(!told.contains(secret), "{told}");
    // In the address it would be shown; so it is refused, and not repeated.
    let with_password = db.to().replace("vadegate@", &format!("vadegate:{secret}@"));
    configure(&coast, &Db::Postgres(with_password), load);
    let ran = coast.run("check");
    assert!(ran.code != 0 && ran.out.contains("has a password in it"), "{}", ran.out);
    assert!(!format!("{}{}", ran.out, ran.err).contains(secret));
}

#[test]
fn a_server_is_vouched_for_or_nothing_is_sent_to_it() {
    let mut server = Server::start("trust", "none");
    server.crash();
    let (port, certificate) = server.listen_encrypted();
    server.go_on();
    let coast = TestHome::new("");
    coast.drop("drops/a.csv", BUOYS);
    let to = |host: &str, mode: &str| {
        Db::Postgres(format!("postgres://vadegate@{host}:{port}/postgres?sslmode={mode}"))
    };
    let load = "table = \"waves\"\nif_missing = \"create\"";
    let problems = |coast: &TestHome| pass(coast)["problems"].to_string();
    // The system knows nothing of it.
    configure(&coast, &to("localhost", "require"), load);
    assert!(problems(&coast).contains("vouches for it in `certificates`"), "{}", problems(&coast));
    let vouched = format!("{load}\ncertificates = \"{}\"", certificate.display());
    configure(&coast, &to("127.0.0.1", "require"), &vouched);
    assert!(problems(&coast).contains("certificate"), "it is another's: {}", problems(&coast));
    // Without encryption this server lets nobody in.
    configure(&coast, &to("localhost", "disable"), &vouched);
    assert!(problems(&coast).contains("no encryption"), "{}", problems(&coast));
    configure(&coast, &to("localhost", "require"), &vouched);
    pass_all(&coast);
    assert_eq!(Db::Postgres(server.url("postgres")).count("waves"), 2);
}
