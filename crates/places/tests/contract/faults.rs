//! Connections that break, at any byte.

use std::fs;
use std::io::Cursor;
use std::sync::Arc;
use std::time::{Duration, Instant};

use vadegate_places::{Fault, Login, Over, Place};
use vadegate_servers::{FtpServer, Proxy, SshServer, Trouble};

use crate::{Servers, place, read, with_key, with_password, write};

/// Reads a file with the connection cut again and again, each time from where it ended.
#[test]
fn a_file_is_read_to_its_end_however_often_the_connection_is_cut() {
    let server = SshServer::start();
    let home = tempfile::tempdir().unwrap();
    let content: Vec<u8> = (0..5_000_000_u32).map(|at| (at % 239) as u8).collect();
    fs::write(home.path().join("long.csv"), &content).unwrap();
    let proxy = Proxy::start(server.port);
    let address =
        server.address(home.path()).replace(&server.port.to_string(), &proxy.port.to_string());
    let place = place(&address, with_key(&server, "ed25519"));
    proxy.make(Trouble::CutAnswers(1_000_000));
    let mut got: Vec<u8> = Vec::new();
    let mut tries = 0;
    while got.len() < content.len() {
        let from = got.len() as u64;
        let read = place.read("long.csv", from, &mut |piece| {
            got.extend_from_slice(piece);
            Ok(())
        });
        if let Err(fault) = read {
            assert!(matches!(fault, Fault::Away(_)), "{fault:?}");
        }
        tries += 1;
        assert!(tries < 30, "{} of {} bytes", got.len(), content.len());
    }
    assert_eq!(got, content);
    assert!(proxy.cuts() >= 4);
}

#[test]
fn wherever_a_connection_is_cut_it_is_told_and_nothing_hangs() {
    let server = SshServer::start();
    let home = tempfile::tempdir().unwrap();
    fs::write(home.path().join("a.csv"), vec![7; 300_000]).unwrap();
    for after in [0, 1, 20, 200, 900, 2_000, 4_000, 50_000, 299_000] {
        for trouble in [Trouble::CutAnswers(after), Trouble::CutRequests(after.min(5_000))] {
            let proxy = Proxy::start(server.port);
            proxy.make(trouble);
            let address = server.address(home.path());
            let address = address.replace(&server.port.to_string(), &proxy.port.to_string());
            let place = place(&address, with_key(&server, "ed25519"));
            match read(&*place, "a.csv", 0) {
                Ok(content) => assert_eq!(content.len(), 300_000, "{trouble:?}"),
                Err(fault) => assert!(matches!(fault, Fault::Away(_)), "{trouble:?}: {fault:?}"),
            }
        }
    }
}

#[test]
fn our_own_failures_are_told_from_those_of_the_server_and_break_nothing() {
    let server = SshServer::start();
    let ftp_home = tempfile::tempdir().unwrap();
    let home = tempfile::tempdir().unwrap();
    let ftp = FtpServer::start(ftp_home.path(), false, true);
    let places = [
        (place(&server.address(home.path()), with_key(&server, "ed25519")), home.path()),
        (place(&ftp.address("/"), with_password()), ftp_home.path()),
    ];
    for (place, folder) in places {
        fs::write(folder.join("a.csv"), vec![1; 2_000_000]).unwrap();
        let full = || std::io::Error::from_raw_os_error(28);
        let failed = place.read("a.csv", 0, &mut |_| Err(full()));
        assert!(
            matches!(&failed, Err(Fault::Local(error)) if error.raw_os_error() == Some(28)),
            "{failed:?}"
        );
        let failed = place.write("b.part", 0, 1_000_000, &mut Cursor::new(vec![0; 10]));
        assert!(matches!(failed, Err(Fault::Local(_))), "{failed:?}");
        assert_eq!(read(&*place, "a.csv", 0).unwrap().len(), 2_000_000);
    }
}

#[test]
fn who_may_not_write_is_told_so_and_may_read() {
    let home = tempfile::tempdir().unwrap();
    fs::write(home.path().join("a.csv"), "a").unwrap();
    let ftp = FtpServer::start(home.path(), false, true);
    let reader = ftp.address("/").replace("keeper", "reader");
    let place_of_reader = place(&reader, with_password());
    assert_eq!(read(&*place_of_reader, "a.csv", 0).unwrap(), b"a");
    let refused = place_of_reader.write("b.csv", 0, 1, &mut Cursor::new(b"b"));
    assert!(matches!(refused, Err(Fault::Refused(_))), "{refused:?}");
    assert!(matches!(place_of_reader.remove("a.csv"), Err(Fault::Refused(_))));
    let wrong = Login { password: Some("wrong".into()), ..Login::default() };
    let refused = place(&ftp.address("/"), wrong).greet();
    assert!(matches!(refused, Err(Fault::NotLetIn(_))), "{refused:?}");
    // TLS with a certificate that nobody vouches for.
    let secure = FtpServer::start(home.path(), true, true);
    let refused = place(&secure.address("/"), with_password()).greet();
    assert!(refused.is_err(), "{refused:?}");
}

/// A place of each protocol, each behind a proxy of its own.
fn behind_proxies(servers: &Servers) -> Vec<(&'static str, Arc<dyn Place>, Proxy)> {
    let by = |address: String, port: u16| {
        let proxy = Proxy::start(port);
        (address.replace(&format!(":{port}"), &format!(":{}", proxy.port)), proxy)
    };
    let folder = |name: &str| servers.home.path().join(name);
    let (ssh, before_ssh) = by(servers.ssh.address(&folder("ssh")), servers.ssh.port);
    let (ftp, before_ftp) = by(servers.ftp[0].address("/"), servers.ftp[0].port);
    let (dav, before_dav) = by(servers.dav.address("/"), servers.dav.port);
    let (endpoint, before_bucket) = by(servers.bucket.endpoint(), servers.bucket.port);
    let keys = Login {
        endpoint: Some(endpoint),
        key_id: Some("keeper".into()),
        secret: Some("lighthouse".into()),
        ..Login::default()
    };
    vec![
        ("sftp", place(&ssh, with_key(&servers.ssh, "ed25519")), before_ssh),
        ("ftp", place(&ftp, with_password()), before_ftp),
        ("webdav", place(&dav, with_password()), before_dav),
        ("bucket", place("s3://readings", keys), before_bucket),
    ]
}

#[test]
fn a_connection_is_used_again_and_again() {
    let servers = Servers::start();
    for (name, place, proxy) in behind_proxies(&servers) {
        for round in 0..10 {
            let path = format!("a-{round}.csv");
            write(&*place, &path, b"station,level\n", Over::Nothing).unwrap();
            assert_eq!(place.look(&path).unwrap().unwrap().bytes, 14, "{name}");
            assert_eq!(read(&*place, &path, 0).unwrap().len(), 14, "{name}");
            assert!(place.look("nothing.csv").unwrap().is_none(), "{name}");
            place.list("", &mut |_| true).unwrap();
            place.remove(&path).unwrap();
        }
        assert!(proxy.connections() <= 3, "{name}: {} connections", proxy.connections());
    }
}

#[test]
fn a_server_that_falls_silent_in_the_middle_is_given_up() {
    let servers = Servers::start();
    let content = vec![b'x'; 3_000_000];
    for folder in ["ssh", "ftp", "dav", "buckets/readings"] {
        fs::write(servers.home.path().join(folder).join("long.csv"), &content).unwrap();
    }
    std::thread::scope(|scope| {
        for (name, place, proxy) in behind_proxies(&servers) {
            // The data of FTP goes past the proxy: it falls silent as it lets us in.
            proxy.make(Trouble::Stall(if name == "ftp" { 100 } else { 200_000 }));
            scope.spawn(move || {
                let begun = Instant::now();
                let read = read(&*place, "long.csv", 0);
                assert!(
                    matches!(read, Err(Fault::Away(_))),
                    "{name}: {:?}",
                    read.map(|all| all.len())
                );
                assert!(begun.elapsed() < Duration::from_secs(150), "{name}");
                drop(proxy);
            });
        }
    });
}
