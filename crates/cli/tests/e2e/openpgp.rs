//! Messages that are encrypted, signed and read, with gpg at the other end.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use crate::passes::{pass, rest};
use crate::support::{TestHome, sum, text};

/// Somebody with gpg, and a home for their keys.
struct Other {
    home: tempfile::TempDir,
}

impl Other {
    fn new() -> Self {
        // The path of its socket must be short.
        let home = tempfile::Builder::new().prefix("gpg").tempdir_in("/tmp").unwrap();
        Other { home }
    }

    fn gpg(&self, args: &[&str], input: &[u8]) -> Output {
        let mut child = Command::new("gpg")
            .args(["--batch", "--yes", "--quiet", "--trust-model", "always", "--homedir"])
            .arg(self.home.path())
            .args(["--pinentry-mode", "loopback"])
            .args(args)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input).unwrap();
        let output = child.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "gpg {args:?}: {told}");
        output
    }

    /// A key of somebody; its public part, and its secret one.
    fn key(&self, name: &str, kind: &str, passphrase: &str, folder: &Path) -> (PathBuf, PathBuf) {
        let words = ["--passphrase", passphrase];
        let made = ["--quick-generate-key", name, kind, "default", "never"];
        self.gpg(&[&words[..], &made].concat(), b"");
        let public = folder.join(format!("{name}.asc"));
        fs::write(&public, self.gpg(&["--armor", "--export", name], b"").stdout).unwrap();
        let secret = folder.join(format!("{name}.secret.asc"));
        let exported = ["--armor", "--export-secret-keys", name];
        fs::write(&secret, self.gpg(&[&words[..], &exported].concat(), b"").stdout).unwrap();
        (public, secret)
    }
}

impl Drop for Other {
    fn drop(&mut self) {
        // Its agent goes with its folder.
        let _ = Command::new("gpgconf")
            .args(["--homedir", self.home.path().to_str().unwrap(), "--kill", "all"])
            .status();
    }
}

fn gate(work: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.charts]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = {{ into = \"archive\" }}\n{work}\n"
    ));
    coast.folder("drops");
    coast.folder("keys");
    coast
}

#[test]
fn what_is_delivered_encrypted_and_signed_is_read_by_gpg() {
    let coast = gate(
        "[gate.charts.batch]\nwhen = { count = 1 }\n[gate.charts.deliver]\n\
         encrypt_for = [\"keys/harbour.asc\", \"keys/office.asc\"]\n\
         sign_with = { file = \"keys/ours.secret.asc\", passphrase = { file = \"keys/words\" } }\n\
         to = [\"out\", { into = \"packed\", compress = \"gzip\" }]\n\
         bundle = { into = \"out/all-<entry>.zip.pgp\", encrypt_for = \"keys/office.asc\" }",
    );
    let keys = coast.path("keys");
    let other = Other::new();
    other.key("harbour", "default", "", &keys);
    other.key("office", "future-default", "", &keys);
    other.key("ours", "ed25519/sign", "a few words", &keys);
    fs::write(keys.join("words"), "another few\n").unwrap();
    let check = coast.run("check");
    assert_eq!(check.code, 2, "{}", check.out);
    let told = format!("{}{}", check.out, check.err);
    assert!(told.contains("its passphrase is another"), "{told}");
    fs::write(keys.join("words"), "a few words\n").unwrap();
    assert_eq!(coast.run("check").code, 0);
    // More than one piece of what is handed to the sealing thread.
    let content = "crates;12\n".repeat(20_000);
    coast.drop("drops/a.csv", &content);
    assert_eq!(pass(&coast, "charts")["worked"], 1);
    let message = coast.path("out/a.csv.pgp");
    let plain = other.gpg(&["--status-fd", "2", "--decrypt", message.to_str().unwrap()], b"");
    assert_eq!(String::from_utf8(plain.stdout).unwrap(), content);
    let told = String::from_utf8_lossy(&plain.stderr).into_owned();
    assert!(told.contains("GOODSIG") && told.contains("ours"), "{told}");
    let packed = coast.path("packed/a.csv.gz.pgp");
    let packed = other.gpg(&["--decrypt", packed.to_str().unwrap()], b"").stdout;
    let unpacked = std::io::read_to_string(flate2::read::GzDecoder::new(&packed[..])).unwrap();
    assert_eq!(unpacked, content);
    let all = coast.path("out/all-1.zip.pgp");
    let all = other.gpg(&["--decrypt", all.to_str().unwrap()], b"").stdout;
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(all)).unwrap();
    assert_eq!(std::io::read_to_string(zip.by_name("a.csv").unwrap()).unwrap(), content);
    let entry = coast.json(&format!("entry {}", coast.entry("a.csv")["id"]));
    let notes: Vec<_> = entry["worked_in"]["outputs"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| text(one, "note"))
        .collect();
    assert!(notes.contains(&"compressed by gzip, encrypted and signed"), "{notes:?}");
    assert_eq!(coast.run("verify --deep").code, 0);
    // Nothing secret stands anywhere.
    let ledger = fs::read(coast.path("state/ledger.db")).unwrap();
    assert!(!ledger.windows(11).any(|part| part == b"a few words"));
}

#[test]
fn a_key_that_cannot_be_used_lets_files_wait_and_is_told() {
    let coast = gate("deliver = { to = \"out\", encrypt_for = [\"keys/harbour.asc\"] }");
    let keys = coast.path("keys");
    coast.drop("drops/a.csv", "1\n");
    rest(&coast);
    let told = |words: &str| {
        let ran = coast.run("pass charts");
        let all = format!("{}{}{}", ran.out, ran.err, coast.run("gates charts").out);
        let check = coast.run("check");
        let check = format!("{}{}", check.out, check.err);
        assert!(check.contains(words), "{words}: {check}");
        assert_eq!(coast.entry("a.csv")["state"], "ready", "{words}: {all}");
    };
    told("No such file");
    fs::write(keys.join("harbour.asc"), "no key").unwrap();
    told("nothing can be encrypted for the key in");
    // One that only signs, one that was revoked, and one that has expired.
    let other = Other::new();
    let (signs, _) = other.key("signs", "ed25519/sign", "", &keys);
    fs::copy(signs, keys.join("harbour.asc")).unwrap();
    told("it has no part for that which is valid");
    let (good, _) = other.key("good", "future-default", "", &keys);
    let listed = other.gpg(&["--with-colons", "--list-keys", "good"], b"").stdout;
    let listed = String::from_utf8(listed).unwrap();
    let print = listed.lines().find_map(|line| line.strip_prefix("fpr:::::::::")).unwrap();
    let print = print.trim_end_matches(':');
    let revocation = other.home.path().join(format!("openpgp-revocs.d/{print}.rev"));
    let revocation = fs::read_to_string(revocation).unwrap();
    let revocation = revocation.split_once(":---").unwrap().1;
    other.gpg(&["--import"], format!("---{revocation}").as_bytes());
    let revoked = other.gpg(&["--armor", "--export", "good"], b"").stdout;
    fs::write(keys.join("harbour.asc"), revoked).unwrap();
    told("it was revoked");
    fs::copy(good, keys.join("harbour.asc")).unwrap();
    assert_eq!(pass(&coast, "charts")["worked"], 1);
    assert!(fs::exists(coast.path("out/a.csv.pgp")).unwrap());
}

/// What does not compress is cut off and changed in its middle.
fn incompressible() -> String {
    (0..400).map(|number: u32| sum(number.to_le_bytes()) + "\n").collect()
}

#[test]
fn messages_are_read_with_a_key_of_ours_and_held_without() {
    let other = Other::new();
    let far = tempfile::tempdir().unwrap();
    let (_, secret) = other.key("ours", "future-default", "a few words", far.path());
    other.key("stranger", "default", "", far.path());
    let content = incompressible();
    let message = |args: &[&str], input: &[u8]| other.gpg(args, input).stdout;
    let ours = message(&["-o", "-", "-r", "ours", "--encrypt"], content.as_bytes());
    let mut cut = ours.clone();
    cut.truncate(ours.len() * 2 / 3);
    let mut changed = ours.clone();
    let middle = ours.len() / 2;
    changed[middle] ^= 1;
    let signed = ["-o", "-", "-u", "stranger", "-r", "ours", "--armor", "--sign", "--encrypt"];
    let by_words = ["-o", "-", "--passphrase", "open it", "--symmetric"];
    for (name, bytes, outcome) in [
        ("a.csv.pgp", ours.clone(), Ok(content.as_str())),
        ("b.csv.asc", message(&signed, content.as_bytes()), Ok(content.as_str())),
        ("c.csv.gpg", message(&by_words, content.as_bytes()), Ok(content.as_str())),
        (
            "d.csv.pgp",
            message(&["-o", "-", "-r", "stranger", "--encrypt"], b"x"),
            Err("for another key"),
        ),
        ("e.csv.pgp", cut, Err("message")),
        ("f.csv.pgp", changed, Err("message")),
        (
            "g.csv.pgp",
            b"-----BEGIN PGP MESSAGE-----\n\nnothing\n".to_vec(),
            Err("no message that can be read"),
        ),
    ] {
        let coast = gate(
            "unpack = { into = \"out\", password = { file = \"keys/word\" }, key = { file = \"keys/ours.asc\", passphrase = { file = \"keys/words\" } } }",
        );
        fs::copy(&secret, coast.path("keys/ours.asc")).unwrap();
        fs::write(coast.path("keys/words"), "a few words\n").unwrap();
        fs::write(coast.path("keys/word"), "open it\n").unwrap();
        coast.drop(&format!("drops/{name}"), bytes);
        pass(&coast, "charts");
        let entry = coast.entry(name);
        match outcome {
            Ok(content) => {
                assert_eq!(entry["state"], "filed", "{name}: {entry:#}");
                assert_eq!(coast.read(&format!("out/{}", &name[..5])), content, "{name}");
            }
            Err(words) => {
                assert_eq!(entry["state"], "held", "{name}: {entry:#}");
                assert!(text(&entry, "reason").contains(words), "{name}: {entry:#}");
                assert!(coast.files("out").is_empty(), "{name}");
            }
        }
    }
}

#[test]
fn messages_are_made_and_read_by_hand_with_archives_in_them() {
    let (other, far) = (Other::new(), tempfile::tempdir().unwrap());
    let (_, secret) = other.key("ours", "future-default", "a few words", far.path());
    let (_, stranger) = other.key("stranger", "default", "", far.path());
    let content = incompressible();
    let ours = other.gpg(&["-o", "-", "-r", "ours", "--encrypt"], content.as_bytes()).stdout;
    let coast = gate("unpack = { into = \"out\" }");
    coast.drop("drops/a.csv.pgp", &ours);
    pass(&coast, "charts");
    let held = coast.entry("a.csv.pgp");
    assert!(text(&held, "reason").contains("the gate has no `key`"), "{held:#}");
    // By hand, and back again; an archive in a message is unpacked with it.
    fs::write(coast.path("words"), "a few words\n").unwrap();
    fs::copy(&stranger, coast.path("stranger.asc")).unwrap();
    let secret = secret.to_str().unwrap();
    let unpack = [
        "unpack",
        "drops/a.csv.pgp",
        "-o",
        "by-hand",
        "--key",
        secret,
        "--passphrase-file",
        "words",
    ];
    let done = coast.run_args(&unpack);
    assert_eq!(done.code, 0, "{}{}", done.out, done.err);
    assert_eq!(coast.read("by-hand/a.csv"), content);
    let public = secret.replace(".secret", "");
    let deliver = [
        "deliver",
        "by-hand",
        "--to",
        "again",
        "--compress",
        "zip",
        "--encrypt-for",
        &public,
        "--sign-with",
        "stranger.asc",
    ];
    let done = coast.run_args(&deliver);
    assert_eq!(done.code, 0, "{}{}", done.out, done.err);
    let nested = [
        "unpack",
        "again/a.csv.zip.pgp",
        "-o",
        "nested",
        "--nested",
        "1",
        "--key",
        secret,
        "--passphrase-file",
        "words",
    ];
    let done = coast.run_args(&nested);
    assert_eq!(done.code, 0, "{}{}", done.out, done.err);
    assert_eq!(coast.read("nested/a.csv/a.csv"), content);
}
