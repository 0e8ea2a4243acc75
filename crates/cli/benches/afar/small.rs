//! 10,000 small files, beside one batch of `sftp`.

use std::fs;
use std::path::Path;
use std::time::Duration;

use vadegate_servers::SshServer;

use crate::common::{Service, busy};
use crate::{ROUNDS, asked_to_pass, configure, has_looked, pass, seconds, sftp};

const MANY: usize = 10_000;

fn lay(far: &Path) {
    for number in 0..MANY {
        let content = format!("{number:015}\n").into_bytes().repeat(256);
        fs::write(far.join(format!("{number:06}.dat")), content).expect("a file");
    }
}

fn are_filed(coast: &Path) {
    let filed = fs::read_dir(coast.join("archive")).expect("the archive").count();
    assert_eq!(filed, MANY);
}

pub(crate) fn fetched(server: &SshServer) {
    let home = tempfile::tempdir().expect("a folder");
    let far = home.path().join("far");
    fs::create_dir(&far).expect("a folder");
    lay(&far);
    let mut times: [Vec<Duration>; 4] = Default::default();
    let (mut megabytes, mut own, mut servers) = (0, Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let here = home.path().join(format!("here-{round}"));
        fs::create_dir(&here).expect("a folder");
        times[0].push(sftp(server, &format!("get {}/* {}\n", far.display(), here.display())));
        let coast = home.path().join(format!("coast-{round}"));
        configure(&coast, server, &far);
        let before = busy();
        let passed = pass(&coast);
        let all = busy() - before;
        own.push(Duration::from_secs_f64(passed.cpu));
        servers.push(Duration::from_secs_f64((all - passed.cpu).max(0.0)));
        times[1].push(passed.took);
        times[3].push(passed.fetched);
        megabytes = megabytes.max(passed.megabytes);
        are_filed(&coast);
        times[2].push(by_a_service(server, &home.path().join(format!("service-{round}"))));
    }
    let [theirs, ours, running, fetched] = &times;
    let (theirs, ours, running) = (seconds(theirs), seconds(ours), seconds(running));
    let fetched = seconds(fetched);
    println!(
        "10,000 files of 4 KiB: one batch of sftp {theirs:.2} s; fetched, each durable and recorded {fetched:.2} s: {:.2} (wanted 5)",
        theirs / fetched
    );
    println!(
        "  entered and filed behind it, in all {ours:.2} s: {:.2}, {megabytes} MB (wanted under 80)",
        theirs / ours
    );
    println!("  by a service that runs and is connected {running:.2} s: {:.2}", theirs / running);
    // What a pass can be at the best, on a machine that does nothing else.
    let processors = std::thread::available_parallelism().map_or(1, usize::from) as f64;
    let (own, servers) = (seconds(&own), seconds(&servers));
    println!(
        "  CPU of such a pass: the program {own:.2} s, the server and the kernel {servers:.2} s; on {processors} processors it takes {:.2} s at least (a ratio of {:.2}), and with a program that needed none {:.2} s ({:.2})",
        (own + servers) / processors,
        theirs * processors / (own + servers),
        servers / processors,
        theirs * processors / servers
    );
}

/// A service that has looked at the place when nothing lay there.
fn by_a_service(server: &SshServer, coast: &Path) -> Duration {
    let far = coast.join("far");
    fs::create_dir_all(&far).expect("a folder");
    configure(coast, server, &far);
    let service = Service::start(coast);
    has_looked(&service);
    lay(&far);
    let took = asked_to_pass(&service);
    are_filed(coast);
    took
}
