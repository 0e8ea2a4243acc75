//! Places: what is fetched and delivered over SFTP on loopback, beside OpenSSH's own client.
//!
//! * One file of 1 GB, to here and from here, beside `sftp` (which makes nothing durable), and
//!   by a whole pass: fetched, durable, summed, entered, filed.
//! * 10,000 files of 4 KiB fetched, by a whole pass, and by a service that runs, beside one
//!   batch of `sftp`.
//! * A second look at 100,000 files that are known, by a service that runs, beside the bare
//!   listing.
//! * A bucket: one file of 256 MB and 200 of 1 MB, both ways, beside a bare loop of the library.
//! * The memory of each pass, and the CPU of a service with 200 places at rest.

mod bucket;
#[path = "../common/mod.rs"]
mod common;
mod small;

use std::fmt::Write as _;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use common::{Service, cpu, median, memory};
use vadegate_places::{Address, Login, Place, open};
use vadegate_servers::SshServer;

const ROUNDS: usize = 3;
const LONG: u64 = 1_000_000_000;
const KNOWN: usize = 100_000;

fn main() {
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    let server = SshServer::start();
    // `cargo bench --bench afar -- small` measures that alone.
    let parts: Vec<String> = std::env::args().skip(1).filter(|arg| !arg.starts_with('-')).collect();
    let wanted = |part: &str| parts.is_empty() || parts.iter().any(|one| one == part);
    if wanted("long") {
        one_long_file(&server);
    }
    if wanted("small") {
        small::fetched(&server);
    }
    if wanted("look") {
        a_second_look(&server);
    }
    if wanted("bucket") {
        bucket::both_ways();
    }
    if wanted("rest") {
        at_rest(&server);
    }
}

fn place(server: &SshServer, folder: &Path) -> Arc<dyn Place> {
    let address = Address::parse(&server.address(folder)).expect("an address");
    let login = Login {
        key: Some((server.key("ed25519"), None)),
        host_keys: vec![server.host_key("ed25519")],
        ..Login::default()
    };
    open(&address, Arc::new(move || Ok(login.clone())))
}

/// One session of OpenSSH's client.
pub(crate) fn sftp(server: &SshServer, lines: &str) -> Duration {
    let home = tempfile::tempdir().expect("a folder");
    let batch = home.path().join("batch");
    fs::write(&batch, lines).expect("the batch");
    let begun = Instant::now();
    let done = Command::new("sftp")
        // The cipher that we agree on with this server, where the processor has AES.
        .args([
            "-q",
            "-c",
            "aes256-gcm@openssh.com",
            "-o",
            "StrictHostKeyChecking=no",
            "-o",
            "UserKnownHostsFile=/dev/null",
        ])
        .args(["-o", "LogLevel=ERROR", "-P", &server.port.to_string(), "-i"])
        .arg(server.key("ed25519"))
        .arg("-b")
        .arg(&batch)
        .arg(format!("{}@127.0.0.1", server.user))
        .stdout(Stdio::null())
        .status()
        .expect("sftp");
    assert!(done.success());
    begun.elapsed()
}

pub(crate) fn seconds(times: &[Duration]) -> f64 {
    median(times.to_vec())
}

pub(crate) fn configure(home: &Path, server: &SshServer, far: &Path) {
    let text = format!(
        "[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\"]\n[place.far]\nat = \"{}\"\nkey = {{ file = \"{}\" }}\n\
         host_key = \"{}\"\n[gate.office]\ndrop = \"drops\"\narchive = {{ into = \"archive\" }}\n\
         [gate.office.fetch]\nplace = \"far\"\nsettle = \"0s\"\n",
        server.address(far),
        server.key("ed25519").display(),
        server.host_key("ed25519")
    );
    fs::create_dir_all(home.join("drops")).expect("a folder");
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
}

/// What a pass of a process of its own took.
pub(crate) struct Passed {
    pub took: Duration,
    /// When all that was fetched lay in the drop folder, durably.
    pub fetched: Duration,
    /// The most memory that any had so far, in MB.
    pub megabytes: i64,
    /// Seconds of CPU.
    pub cpu: f64,
}

pub(crate) fn pass(home: &Path) -> Passed {
    let (begun, at) = (Instant::now(), jiff::Timestamp::now());
    let mut command = Command::new(env!("CARGO_BIN_EXE_vadegate"));
    command.args(["pass", "--json"]).current_dir(home).stdout(Stdio::null());
    command.stderr(Stdio::piped());
    let mut child = command.spawn().expect("the program");
    let mut status = 0;
    // SAFETY: both outlive the call, which fills them.
    let usage = unsafe {
        let mut usage: libc::rusage = std::mem::zeroed();
        libc::wait4(child.id() as i32, &mut status, 0, &mut usage);
        usage
    };
    let took = begun.elapsed();
    assert_eq!(status, 0);
    let mut log = String::new();
    child.stderr.take().expect("its log").read_to_string(&mut log).expect("its log");
    // It was waited for.
    let _ = child.try_wait();
    let line = log.lines().find(|line| line.contains("fetched looked_at")).expect("it is told");
    let fetched: jiff::Timestamp =
        line.split(' ').next().and_then(|at| at.parse().ok()).expect("when");
    let fetched = Duration::try_from(fetched - at).expect("later");
    let seconds = |time: libc::timeval| time.tv_sec as f64 + time.tv_usec as f64 / 1e6;
    let cpu = seconds(usage.ru_utime) + seconds(usage.ru_stime);
    Passed { took, fetched, megabytes: usage.ru_maxrss / 1000, cpu }
}

fn one_long_file(server: &SshServer) {
    let home = tempfile::tempdir().expect("a folder");
    let far = home.path().join("far");
    fs::create_dir(&far).expect("a folder");
    let mut file = File::create(far.join("long.dat")).expect("a file");
    let piece: Vec<u8> = (0..1_000_000_u32).map(|at| (at % 251) as u8).collect();
    for _ in 0..LONG / 1_000_000 {
        file.write_all(&piece).expect("a piece");
    }
    drop(file);
    let place = place(server, &far);
    let mut times: [Vec<Duration>; 5] = Default::default();
    let mut megabytes = 0;
    for round in 0..ROUNDS {
        let here = home.path().join("here.dat");
        let far_path = far.join("long.dat").display().to_string();
        times[0].push(sftp(server, &format!("get {far_path} {}\n", here.display())));
        let begun = Instant::now();
        let mut copy = File::create(&here).expect("a file");
        place.read("long.dat", 0, &mut |piece| copy.write_all(piece)).expect("it is read");
        times[1].push(begun.elapsed());
        let back = far.join("back.dat");
        times[2].push(sftp(server, &format!("put {} {}\n", here.display(), back.display())));
        let begun = Instant::now();
        let mut source = File::open(&here).expect("a file");
        place.write("back.dat", 0, LONG, &mut source).expect("it is written");
        times[3].push(begun.elapsed());
        fs::remove_file(&back).expect("it goes");
        fs::remove_file(&here).expect("it goes");
        let coast = home.path().join(format!("coast-{round}"));
        configure(&coast, server, &far);
        let passed = pass(&coast);
        times[4].push(passed.took);
        megabytes = megabytes.max(passed.megabytes);
        fs::remove_dir_all(&coast).expect("it goes");
    }
    let [theirs, ours, their_put, our_put, whole] = &times;
    let (theirs, ours) = (seconds(theirs), seconds(ours));
    println!(
        "1 GB from a place: sftp {theirs:.2} s, ours {ours:.2} s: {:.2} (wanted 0.8)",
        theirs / ours
    );
    let (theirs, ours) = (seconds(their_put), seconds(our_put));
    println!(
        "1 GB to a place, synced there: sftp {theirs:.2} s, ours {ours:.2} s: {:.2} (wanted 0.8)",
        theirs / ours
    );
    println!(
        "1 GB fetched, durable, summed, entered, filed: {:.2} s, {megabytes} MB (wanted under 80)",
        seconds(whole)
    );
}

fn a_second_look(server: &SshServer) {
    let home = tempfile::tempdir().expect("a folder");
    let far = home.path().join("far");
    fs::create_dir(&far).expect("a folder");
    for number in 0..KNOWN {
        File::create(far.join(format!("tide_{number:06}.csv"))).expect("a file");
    }
    let coast = home.path().join("coast");
    configure(&coast, server, &far);
    let config = fs::read_to_string(coast.join("vadegate.toml")).expect("the configuration");
    // What waits is known, and looked at again each time.
    fs::write(coast.join("vadegate.toml"), config.replace("settle = \"0s\"", "settle = \"1h\""))
        .expect("the configuration");
    let service = Service::start(&coast);
    has_looked(&service);
    let place = place(server, &far);
    let mut times: [Vec<Duration>; 2] = Default::default();
    for _ in 0..ROUNDS {
        let begun = Instant::now();
        let mut count = 0;
        place
            .list("", &mut |_| {
                count += 1;
                true
            })
            .expect("it is listed");
        assert_eq!(count, KNOWN);
        times[0].push(begun.elapsed());
        times[1].push(asked_to_pass(&service));
    }
    let [bare, ours] = &times;
    let (bare, ours) = (seconds(bare), seconds(ours));
    println!(
        "100,000 files at a place that are known: listed {bare:.2} s; looked at {ours:.2} s: {:.2} (wanted 1.3)",
        ours / bare
    );
}

/// Waits for the first look of a service, by which it has what the ledger knows.
pub(crate) fn has_looked(service: &Service) {
    let looked = || {
        let url = format!("{}/api/v1/gates/office", service.base);
        let call =
            service.agent.get(&url).header("Authorization", &format!("Bearer {}", service.token));
        let told = call.call().expect("the gate").body_mut().read_to_string().expect("text");
        let gate: serde_json::Value = serde_json::from_str(&told).expect("a gate");
        gate["fetch"]["looked_at"].is_string()
    };
    while !looked() {
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// How long a service takes to look at the place, and to work what has come.
pub(crate) fn asked_to_pass(service: &Service) -> Duration {
    let begun = Instant::now();
    let url = format!("{}/api/v1/gates/office/pass", service.base);
    let call =
        service.agent.post(&url).header("Authorization", &format!("Bearer {}", service.token));
    call.send_empty().expect("a pass");
    begun.elapsed()
}

/// A service over 200 places, looked at each five minutes, when all was looked at once.
fn at_rest(server: &SshServer) {
    const PLACES: usize = 200;
    const REST: Duration = Duration::from_secs(20);
    let home = tempfile::tempdir().expect("a folder");
    let mut text = String::from("[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\"]\n");
    for number in 0..PLACES {
        let far = home.path().join(format!("far/{number}"));
        let drop = home.path().join(format!("drops/{number}"));
        fs::create_dir_all(&far).and_then(|()| fs::create_dir_all(&drop)).expect("folders");
        let _ = write!(
            text,
            "[place.p{number}]\nat = \"{}\"\nkey = {{ file = \"{}\" }}\nhost_key = \"{}\"\n\
             [gate.g{number}]\ndrop = \"drops/{number}\"\narchive = {{ into = \"archive\" }}\n\
             [gate.g{number}.fetch]\nplace = \"p{number}\"\n",
            server.address(&far),
            server.key("ed25519").display(),
            server.host_key("ed25519")
        );
    }
    fs::write(home.path().join("vadegate.toml"), text).expect("the configuration");
    let service = Service::start(home.path());
    // The time itself is what is measured.
    std::thread::sleep(REST);
    let before = cpu(service.child.id());
    std::thread::sleep(REST);
    let used = cpu(service.child.id()) - before;
    println!(
        "200 places at rest: {:.2} % of a core, {} MB (wanted under 2 %)",
        100.0 * used / REST.as_secs_f64(),
        memory(service.child.id())
    );
}
