//! Programs that a gate runs.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use crate::passes::{pass, rest};
use crate::support::{TestHome, text, wait};

pub(crate) fn running_gate(script: &str, more: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\ntake = [\"<harbour>_<number:int>.txt\"]\n\
         archive = {{ into = \"archive\" }}\n[gate.job.run]\nprogram = \"bin/job\"\n{more}\n"
    ));
    coast.folder("bin");
    fs::write(coast.path("bin/job"), format!("#!/bin/sh\n{script}\n")).unwrap();
    fs::set_permissions(coast.path("bin/job"), PermissionsExt::from_mode(0o755)).unwrap();
    coast.folder("drops");
    coast
}

#[test]
fn a_program_gets_its_arguments_and_the_entry_in_its_environment() {
    let coast = running_gate(
        "echo \"$1|$2|$VADEGATE_NAME|$VADEGATE_FIELD_NUMBER|$VADEGATE_TRY\"; cat \"$VADEGATE_FILE\" >&2",
        "args = [\"<harbour>\", \"$(id) ; <number>\"]",
    );
    coast.drop("drops/ullin bay_7.txt", "cargo");
    pass(&coast, "job");
    let entry = coast.json(&format!("entry {}", coast.entry("7.txt")["id"]));
    let printed = text(&entry["worked_in"], "words");
    // No shell stands between: the argument arrives as it is.
    assert!(printed.contains("ullin bay|$(id) ; 7|ullin bay_7.txt|7|1\n"), "{printed}");
    assert!(printed.contains("cargo"), "{printed}");
    assert_eq!(coast.files("archive"), ["archive/ullin bay_7.txt"]);
}

#[test]
fn the_exit_status_says_done_try_again_or_failed() {
    let coast = running_gate(
        "case $VADEGATE_NAME in good*) exit 0;; slow*) [ $VADEGATE_TRY -ge 3 ] || exit 75;; \
         never*) exit 75;; *) echo line 4 is wrong; exit 3;; esac",
        "wait = \"20ms\"\ntries = 4",
    );
    for name in ["good_1.txt", "slow_2.txt", "never_3.txt", "bad_4.txt"] {
        coast.drop(&format!("drops/{name}"), name);
    }
    let state = |name: &str| text(&coast.entry(name), "state").to_owned();
    wait("all have ended", || {
        coast.run("pass");
        ["slow_2.txt", "never_3.txt"]
            .iter()
            .all(|name| coast.ledger().len() == 4 && state(name) != "ready")
            .then_some(())
    });
    assert_eq!(coast.files("archive"), ["archive/good_1.txt", "archive/slow_2.txt"]);
    assert_eq!(coast.entry("slow_2.txt")["tries"], 3);
    let never = coast.entry("never_3.txt");
    assert_eq!((text(&never, "state"), &never["tries"]), ("held", &4.into()));
    let bad = coast.entry("bad_4.txt");
    assert!(text(&bad, "reason").contains("exit status: 3: line 4 is wrong"), "{bad}");
    assert_eq!(coast.run("ledger --state held").out.lines().count(), 3);
}

#[test]
fn a_program_that_hangs_is_killed_with_all_that_it_started() {
    let coast = running_gate("sleep 300 & echo $! > ../pid; wait", "limit = \"300ms\"");
    coast.drop("drops/a_1.txt", "x");
    coast.folder("pid-is-beside-the-folder");
    fs::write(
        coast.path("bin/job"),
        format!("#!/bin/sh\nsleep 300 &\necho $! > {}\nwait\n", coast.path("pid").display()),
    )
    .unwrap();
    pass(&coast, "job");
    let entry = coast.entry("a_1.txt");
    assert!(text(&entry, "reason").contains("took longer than its limit of 300 ms"), "{entry}");
    let pid: i32 = coast.read("pid").trim().parse().unwrap();
    // A zombie that nobody has reaped yet counts as ended.
    wait("the grandchild has ended", || {
        let state = fs::read_to_string(format!("/proc/{pid}/stat")).ok();
        state.is_none_or(|state| state.contains(") Z ")).then_some(())
    });
}

#[test]
fn what_a_program_prints_is_kept_to_a_bound() {
    let coast = running_gate("echo begin; yes x | head -c 3000000; echo end; exit 1", "");
    coast.drop("drops/a_1.txt", "x");
    pass(&coast, "job");
    let entry = coast.json(&format!("entry {}", coast.entry("a_1.txt")["id"]));
    let printed = text(&entry["worked_in"], "words");
    assert!(printed.starts_with("begin") && printed.ends_with("end\n"));
    assert!(printed.contains("bytes left out") && printed.len() < 40_000, "{}", printed.len());
}

#[test]
fn a_program_that_is_not_there_holds_the_file_with_its_name() {
    let coast = running_gate("", "");
    fs::remove_file(coast.path("bin/job")).unwrap();
    coast.drop("drops/a_1.txt", "x");
    pass(&coast, "job");
    let reason = coast.entry("a_1.txt")["reason"].as_str().unwrap().to_owned();
    assert!(reason.contains("bin/job` cannot be started"), "{reason}");
}

#[test]
fn programs_run_beside_each_other_as_many_as_the_gate_says() {
    // Each waits until the other has begun: one after the other they would fail.
    let coast = running_gate(
        "touch \"$VADEGATE_NAME.begun\"; n=0; while [ $(ls *.begun | wc -l) -lt 2 ]; do n=$((n+1)); \
         [ $n -gt 300 ] && exit 1; sleep 0.1; done; echo \"$VADEGATE_NAME\" >> ran",
        "",
    );
    let config = coast.read("vadegate.toml").replace("[gate.job]\n", "[gate.job]\nat_once = 2\n");
    fs::write(coast.path("vadegate.toml"), config).unwrap();
    coast.drop("drops/a_1.txt", "a");
    coast.drop("drops/b_1.txt", "b");
    rest(&coast);
    let report = pass(&coast, "job");
    assert_eq!((&report["worked"], &report["filed"]), (&2.into(), &2.into()), "{report}");
    let ran = coast.read("ran");
    let mut ran: Vec<&str> = ran.lines().collect();
    ran.sort_unstable();
    assert_eq!(ran, ["a_1.txt", "b_1.txt"]);
}
