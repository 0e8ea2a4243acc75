//! Random faults on the way to a place and back: connections cut at any byte, refused and
//! delayed, the server killed, the service killed. At the end each file that lay there was
//! entered exactly once, and delivered exactly once, whole.
//!
//! `make chaos` runs the long form. `VADEGATE_FAULTS` says how many faults, `VADEGATE_SEED`
//! repeats a run.

use std::collections::BTreeMap;
use std::fs;
use std::time::Duration;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vadegate_servers::{Proxy, SshServer, Trouble};

use crate::support::{TestHome, text, wait};

fn from_environment(name: &str, default: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(default)
}

fn configuration(server: &SshServer, far: &std::path::Path, port: u16) -> String {
    let address = server.address(far).replace(&server.port.to_string(), &port.to_string());
    format!(
        "[place.far]\nat = \"{address}\"\nkey = {{ file = \"{}\" }}\nhost_key = \"{}\"\n\
         [gate.both]\ndrop = \"drops/both\"\nsweep = \"200ms\"\nsettle = \"0s\"\n\
         archive = {{ into = \"archive\" }}\n\
         [gate.both.fetch]\nplace = \"far\"\nfolder = \"from\"\nevery = \"200ms\"\n\
         settle = \"300ms\"\nafter = \"delete\"\n\
         [gate.both.deliver]\nto = [\"out/<name>\", {{ place = \"far\", into = \"to/<name>\", exists = \"number\" }},\n\
           {{ place = \"far\", into = \"packed/<name>.gz\", compress = \"gzip\", exists = \"number\" }}]\n",
        server.key("ed25519").display(),
        server.host_key("ed25519")
    )
}

/// A trouble for the connections that are made next.
fn trouble(random: &mut ChaCha8Rng) -> Trouble {
    match random.random_range(0..6) {
        0 => Trouble::Refuse,
        1 | 2 => Trouble::CutAnswers(random.random_range(0..60_000)),
        3 | 4 => Trouble::CutRequests(random.random_range(0..60_000)),
        _ => Trouble::Delay(random.random_range(1..30)),
    }
}

#[test]
fn whatever_happens_on_the_way_each_file_comes_and_goes_once() {
    let faults = from_environment("VADEGATE_FAULTS", 12);
    let seed = from_environment("VADEGATE_SEED", 20_260_301);
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut server = SshServer::start();
    let coast = TestHome::new("");
    let far = coast.folder("far");
    coast.folder("far/from");
    coast.folder("drops/both");
    let proxy = Proxy::start(server.port);
    coast.configure(&configuration(&server, &far, proxy.port));
    let mut sent: BTreeMap<String, Vec<u8>> = BTreeMap::new();
    let mut service = Some(coast.serve());
    for fault in 0..faults {
        for _ in 0..random.random_range(1..4) {
            let name = format!("{:05}.csv", sent.len());
            let length = random.random_range(1..40_000);
            let mut content = format!("{name}\n").into_bytes();
            content.resize(length.max(content.len()), b'a' + (fault % 26) as u8);
            fs::write(coast.path("far").join(&name), &content).unwrap();
            fs::rename(far.join(&name), far.join("from").join(&name)).unwrap();
            sent.insert(name, content);
        }
        proxy.make(trouble(&mut random));
        proxy.cut_all();
        std::thread::sleep(Duration::from_millis(random.random_range(20..600)));
        match random.random_range(0..5) {
            0 => {
                if let Some(service) = service.take() {
                    service.kill();
                }
                service = Some(coast.serve());
            }
            1 => server.start_again(),
            _ => {}
        }
        proxy.make(Trouble::None);
        proxy.cut_all();
    }
    wait("everything has come, and gone", || {
        (coast.files("archive").len() == sent.len()
            && fs::read_dir(far.join("from")).unwrap().count() == 0)
            .then_some(())
    });
    drop(service);
    let context = format!("seed {seed}, {faults} faults");
    each_is_everywhere_once(&coast, &sent, &context);
}

/// Each file stands where it is to stand, whole and once, and nothing else does.
fn each_is_everywhere_once(coast: &TestHome, sent: &BTreeMap<String, Vec<u8>>, context: &str) {
    let far = coast.path("far");
    for (name, content) in sent {
        for folder in ["archive", "out", "far/to"] {
            let there = fs::read(coast.path(folder).join(name));
            assert_eq!(there.ok().as_ref(), Some(content), "{context}: {folder}/{name}");
        }
        let packed = fs::File::open(far.join("packed").join(format!("{name}.gz"))).unwrap();
        let mut unpacked = Vec::new();
        std::io::Read::read_to_end(&mut flate2::read::GzDecoder::new(packed), &mut unpacked)
            .unwrap();
        assert_eq!(&unpacked, content, "{context}: {name}");
    }
    for folder in ["archive", "out", "far/to", "far/packed"] {
        assert_eq!(coast.files(folder).len(), sent.len(), "{context}: {folder}");
    }
    let mut entries: Vec<String> =
        coast.ledger().iter().map(|one| text(one, "path").to_owned()).collect();
    entries.sort();
    assert_eq!(entries, sent.keys().cloned().collect::<Vec<_>>(), "{context}");
    let left: Vec<String> = [coast.files("far"), coast.files("drops")].concat();
    let left: Vec<&String> = left.iter().filter(|path| path.contains(".vadegate")).collect();
    assert!(left.is_empty(), "{context}: {left:?}");
    let verified = coast.run("verify --deep");
    assert_eq!(verified.code, 0, "{context}: {}{}", verified.out, verified.err);
}
