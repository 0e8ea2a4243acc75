//! Connections that break, at any byte.

use std::fs;
use std::io::Cursor;

use vadegate_places::{Fault, Login};
use vadegate_servers::{FtpServer, Proxy, SshServer, Trouble};

use crate::{place, read, with_key, with_password};

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
