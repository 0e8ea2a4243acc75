//! Random faults on the way to places and back, whatever their protocol: connections cut at any
//! byte, refused and delayed, the server killed, the service killed. At the end each file that
//! lay there was entered exactly once, and delivered exactly once, whole.
//!
//! `make chaos` runs the long form. `VADEGATE_FAULTS` says how many faults, `VADEGATE_SEED`
//! repeats a run.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::time::Duration;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vadegate_servers::{BucketServer, DavServer, FtpServer, Proxy, SshServer, Trouble};

use crate::support::{TestHome, text, wait_for};

fn from_environment(name: &str, default: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(default)
}

/// A place that was of no use again and again is looked at after minutes.
const LONG: Duration = Duration::from_secs(300);

/// The servers, and what is before each.
struct Servers {
    ssh: SshServer,
    _ftp: FtpServer,
    _dav: DavServer,
    _bucket: BucketServer,
    proxies: Vec<Proxy>,
}

/// Places by name, with the folder here in which each keeps its files.
const SHORES: [(&str, &str); 4] = [
    ("sftp", "far/sftp"),
    ("ftp", "far/ftp"),
    ("dav", "far/dav"),
    ("bucket", "far/buckets/readings"),
];

impl Servers {
    fn start(coast: &TestHome) -> Self {
        let open = |name: &str| {
            let folder = coast.folder(name);
            fs::set_permissions(&folder, fs::Permissions::from_mode(0o777)).unwrap();
            folder
        };
        open("");
        open("far");
        open("far/buckets");
        for (_, folder) in SHORES {
            open(folder);
            for below in ["from", "to", "packed"] {
                open(&format!("{folder}/{below}"));
            }
        }
        let (ssh, ftp) = (SshServer::start(), FtpServer::start(&open("far/ftp"), false, true));
        let (dav, bucket) =
            (DavServer::start(&open("far/dav")), BucketServer::start(&open("far/buckets")));
        let proxies = [ssh.port, ftp.port, dav.port, bucket.port].map(Proxy::start);
        fs::write(coast.path("word"), "lighthouse\n").unwrap();
        let (sftp, port) = (ssh.address(&coast.path("far/sftp")), |at: usize| proxies[at].port);
        let by = |address: String, own: u16, at: usize| {
            address.replace(&format!(":{own}"), &format!(":{}", port(at)))
        };
        let mut text = format!(
            "[place.sftp]\nat = \"{}\"\nkey = {{ file = \"{}\" }}\nhost_key = \"{}\"\n\
             [place.ftp]\nat = \"{}\"\npassword = {{ file = \"word\" }}\n\
             [place.dav]\nat = \"{}\"\npassword = {{ file = \"word\" }}\n\
             [place.bucket]\nat = \"s3://readings\"\nendpoint = \"{}\"\nkey_id = \"keeper\"\n\
             secret = {{ file = \"word\" }}\n",
            by(sftp, ssh.port, 0),
            ssh.key("ed25519").display(),
            ssh.host_key("ed25519"),
            by(ftp.address("/"), ftp.port, 1),
            by(dav.address("/"), dav.port, 2),
            by(bucket.endpoint(), bucket.port, 3),
        );
        for (name, _) in SHORES {
            coast.folder(&format!("drops/{name}"));
            let _ = write!(
                text,
                "[gate.{name}]\ndrop = \"drops/{name}\"\nsweep = \"200ms\"\nsettle = \"0s\"\n\
                 archive = {{ into = \"archive/{name}\" }}\n\
                 [gate.{name}.fetch]\nplace = \"{name}\"\nfolder = \"from\"\nevery = \"200ms\"\n\
                 settle = \"300ms\"\nafter = \"delete\"\n\
                 [gate.{name}.deliver]\nto = [\"out/{name}/<name>\",\n\
                   {{ place = \"{name}\", into = \"to/<name>\", exists = \"number\" }},\n\
                   {{ place = \"{name}\", into = \"packed/<name>.gz\", compress = \"gzip\", exists = \"number\" }}]\n"
            );
        }
        coast.configure(&text);
        Servers { ssh, _ftp: ftp, _dav: dav, _bucket: bucket, proxies: proxies.into() }
    }

    /// Trouble for the connections that are made next, and an end of those that are.
    fn trouble(&self, random: &mut ChaCha8Rng) {
        for proxy in &self.proxies {
            proxy.make(trouble(random));
            proxy.cut_all();
        }
    }

    fn peace(&self) {
        for proxy in &self.proxies {
            proxy.make(Trouble::None);
            proxy.cut_all();
        }
    }
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

/// The files that were laid there, by shore and name.
type Sent = BTreeMap<(&'static str, String), Vec<u8>>;

/// Lays some more files there, each at once.
fn lay(coast: &TestHome, random: &mut ChaCha8Rng, sent: &mut Sent) {
    for _ in 0..random.random_range(2..6) {
        let (shore, folder) = SHORES[random.random_range(0..SHORES.len())];
        let name = format!("{:05}.csv", sent.len());
        let length = random.random_range(1..40_000);
        let mut content = format!("{name}\n").into_bytes();
        content.resize(length.max(content.len()), b'a' + (sent.len() % 26) as u8);
        let (beside, there) = (coast.path("beside"), coast.path(folder).join("from").join(&name));
        fs::write(&beside, &content).unwrap();
        fs::set_permissions(&beside, fs::Permissions::from_mode(0o666)).unwrap();
        fs::rename(&beside, there).unwrap();
        sent.insert((shore, name), content);
    }
}

#[test]
fn whatever_happens_on_the_way_each_file_comes_and_goes_once() {
    let faults = from_environment("VADEGATE_FAULTS", 12);
    let seed = from_environment("VADEGATE_SEED", 20_260_301);
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let coast = TestHome::new("");
    let mut servers = Servers::start(&coast);
    let mut sent = Sent::new();
    let mut service = Some(coast.serve());
    for _ in 0..faults {
        lay(&coast, &mut random, &mut sent);
        servers.trouble(&mut random);
        std::thread::sleep(Duration::from_millis(random.random_range(20..600)));
        match random.random_range(0..5) {
            0 => {
                if let Some(service) = service.take() {
                    service.kill();
                }
                service = Some(coast.serve());
            }
            1 => servers.ssh.start_again(),
            _ => {}
        }
        servers.peace();
    }
    wait_for(LONG, "everything has come, and gone", || {
        let left = |(_, folder): &(&str, &str)| coast.files(&format!("{folder}/from")).len();
        let left: usize = SHORES.iter().map(left).sum();
        (coast.files("archive").len() == sent.len() && left == 0).then_some(())
    });
    drop(service);
    let context = format!("seed {seed}, {faults} faults");
    each_is_everywhere_once(&coast, &sent, &context);
}

/// Each file stands where it is to stand, whole and once, and nothing else does.
fn each_is_everywhere_once(coast: &TestHome, sent: &Sent, context: &str) {
    for ((shore, name), content) in sent {
        let (_, far) = SHORES.iter().find(|(one, _)| one == shore).unwrap();
        for folder in [format!("archive/{shore}"), format!("out/{shore}"), format!("{far}/to")] {
            let there = fs::read(coast.path(&folder).join(name));
            assert_eq!(there.ok().as_ref(), Some(content), "{context}: {folder}/{name}");
        }
        let packed = coast.path(far).join("packed").join(format!("{name}.gz"));
        let packed = fs::File::open(packed).unwrap();
        let mut unpacked = Vec::new();
        std::io::Read::read_to_end(&mut flate2::read::GzDecoder::new(packed), &mut unpacked)
            .unwrap();
        assert_eq!(&unpacked, content, "{context}: {shore} {name}");
    }
    assert_eq!(coast.files("archive").len(), sent.len(), "{context}");
    assert_eq!(coast.files("out").len(), sent.len(), "{context}");
    for (shore, far) in SHORES {
        let own = sent.keys().filter(|(one, _)| *one == shore).count();
        for folder in ["to", "packed"] {
            let there = coast.files(&format!("{far}/{folder}"));
            assert_eq!(there.len(), own, "{context}: {there:?}");
        }
    }
    let exported = coast.run("ledger export");
    let entries = exported.out.lines().map(|line| {
        let entry: serde_json::Value = serde_json::from_str(line).unwrap();
        text(&entry, "path").to_owned()
    });
    let mut entries: Vec<String> = entries.collect();
    entries.sort();
    let mut names: Vec<String> = sent.keys().map(|(_, name)| name.clone()).collect();
    names.sort();
    assert_eq!(entries, names, "{context}");
    let left: Vec<String> = [coast.files("far"), coast.files("drops")].concat();
    let left: Vec<&String> = left.iter().filter(|path| path.contains(".vadegate")).collect();
    assert!(left.is_empty(), "{context}: {left:?}");
    let verified = coast.run("verify --deep");
    assert_eq!(verified.code, 0, "{context}: {}{}", verified.out, verified.err);
}
