//! Who signs in over SSH, and to whom.

use std::fs;

use vadegate_places::{Fault, Login};
use vadegate_servers::SshServer;

use crate::{names, place, read, with_key};

#[test]
fn keys_of_each_kind_are_taken_and_others_are_not() {
    let server = SshServer::start();
    let home = tempfile::tempdir().unwrap();
    let address = server.address(home.path());
    for kind in ["ed25519", "ecdsa", "rsa"] {
        place(&address, with_key(&server, kind))
            .greet()
            .unwrap_or_else(|f| panic!("{kind}: {f:?}"));
    }
    let locked = |word: Option<&str>| Login {
        key: Some((server.key("locked"), word.map(str::to_owned))),
        ..with_key(&server, "ed25519")
    };
    place(&address, locked(Some("lighthouse"))).greet().unwrap();
    for wrong in [None, Some("wrong")] {
        let refused = place(&address, locked(wrong)).greet();
        assert!(
            matches!(&refused, Err(Fault::NotLetIn(why)) if why.contains("locked")),
            "{refused:?}"
        );
    }
    let other =
        Login { key: None, password: Some("secret-word".into()), ..with_key(&server, "rsa") };
    let refused = place(&address, other).greet().unwrap_err();
    assert!(matches!(&refused, Fault::NotLetIn(_)) && !refused.to_string().contains("secret-word"));
}

#[test]
fn a_server_that_is_not_the_one_it_should_be_hears_nothing() {
    let mut server = SshServer::start();
    let home = tempfile::tempdir().unwrap();
    fs::write(home.path().join("a.csv"), "a").unwrap();
    // Without a key that is known, what is presented is shown.
    let nobody = Login { host_keys: Vec::new(), ..with_key(&server, "ed25519") };
    let shown = place(&server.address(home.path()), nobody).greet().unwrap_err();
    let Fault::Stranger(words) = &shown else { panic!("{shown:?}") };
    for kind in ["ed25519", "ecdsa", "rsa"] {
        assert!(words.contains(&server.host_key(kind)), "{words}");
    }
    // Any of its keys may be the one that is known.
    for kind in ["ecdsa", "rsa"] {
        let login =
            Login { host_keys: vec![server.host_key(kind)], ..with_key(&server, "ed25519") };
        place(&server.address(home.path()), login)
            .greet()
            .unwrap_or_else(|f| panic!("{kind}: {f:?}"));
    }
    let login =
        Login { host_keys: vec![server.host_key("ed25519")], ..with_key(&server, "ed25519") };
    server.start_anew("rsa");
    let changed = place(&server.address(home.path()), login).greet().unwrap_err();
    assert!(matches!(&changed, Fault::Stranger(why) if why.contains("somebody may be in between")));
}

#[test]
fn a_connection_is_kept_and_made_anew_when_it_broke() {
    let mut server = SshServer::start();
    let home = tempfile::tempdir().unwrap();
    fs::write(home.path().join("a.csv"), "content").unwrap();
    let place = place(&server.address(home.path()), with_key(&server, "ed25519"));
    assert_eq!(read(&*place, "a.csv", 0).unwrap(), b"content");
    server.start_again();
    let mut tries = 0;
    while !matches!(names(&*place, ""), Ok(all) if all.contains("a.csv")) {
        tries += 1;
        assert!(tries < 3, "it is not connected anew");
    }
    server.stop();
    assert!(matches!(names(&*place, ""), Err(Fault::Away(_))));
    assert!(matches!(names(&*place, ""), Err(Fault::Away(_))));
}

#[test]
fn many_read_beside_each_other_over_one_connection() {
    let server = SshServer::start();
    let home = tempfile::tempdir().unwrap();
    for number in 0..200 {
        fs::write(home.path().join(format!("{number}.csv")), vec![number as u8; 4096]).unwrap();
    }
    let place = place(&server.address(home.path()), with_key(&server, "ed25519"));
    std::thread::scope(|scope| {
        for part in 0..8 {
            let place = &place;
            scope.spawn(move || {
                for number in (part..200).step_by(8) {
                    let content = read(&**place, &format!("{number}.csv"), 0).unwrap();
                    assert_eq!(content, vec![number as u8; 4096]);
                }
            });
        }
    });
}
