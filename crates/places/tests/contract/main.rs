//! What every place must do, held against real servers of each protocol.
#![allow(clippy::unwrap_used, missing_docs)]

mod faults;
mod ssh;

use std::collections::BTreeSet;
use std::fs;
use std::io::Cursor;
use std::path::Path;
use std::sync::Arc;

use vadegate_places::{Address, Fault, Kind, Login, Over, Place, SmallFile, open};
use vadegate_servers::{BucketServer, DavServer, FtpServer, SshServer};

/// A place with the folder of this machine in which its files lie.
pub(crate) struct Tried {
    pub name: &'static str,
    pub place: Arc<dyn Place>,
    pub folder: std::path::PathBuf,
    /// Links can be made in the folder, and are seen as what they are.
    has_links: bool,
    /// Times are told.
    has_times: bool,
}

/// All servers, until they are dropped.
pub(crate) struct Servers {
    home: tempfile::TempDir,
    ssh: SshServer,
    ftp: Vec<FtpServer>,
    dav: DavServer,
    bucket: BucketServer,
}

pub(crate) fn place(address: &str, login: Login) -> Arc<dyn Place> {
    let address = Address::parse(address).unwrap();
    open(&address, Arc::new(move || Ok(login.clone())))
}

pub(crate) fn with_password() -> Login {
    Login { password: Some("lighthouse".into()), ..Login::default() }
}

pub(crate) fn with_key(server: &SshServer, kind: &str) -> Login {
    Login {
        key: Some((server.key(kind), None)),
        host_keys: vec![server.host_key("ed25519")],
        ..Login::default()
    }
}

fn open_folder(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    fs::create_dir_all(path).unwrap();
    fs::set_permissions(path, fs::Permissions::from_mode(0o777)).unwrap();
}

impl Servers {
    pub fn start() -> Servers {
        let home = tempfile::tempdir().unwrap();
        open_folder(home.path());
        for name in ["ssh", "ftp", "ftps", "old-ftp", "dav", "buckets"] {
            open_folder(&home.path().join(name));
        }
        let at = |name: &str| home.path().join(name);
        let ftp = vec![
            FtpServer::start(&at("ftp"), false, true),
            FtpServer::start(&at("ftps"), true, true),
            FtpServer::start(&at("old-ftp"), false, false),
        ];
        let (dav, bucket) = (DavServer::start(&at("dav")), BucketServer::start(&at("buckets")));
        Servers { ssh: SshServer::start(), ftp, dav, bucket, home }
    }

    pub fn all(&self) -> Vec<Tried> {
        let at = |name: &str| self.home.path().join(name);
        let tls = Login { certificates: Some(self.ftp[1].certificate()), ..with_password() };
        let keys = Login {
            endpoint: Some(self.bucket.endpoint()),
            key_id: Some("keeper".into()),
            secret: Some("lighthouse".into()),
            ..Login::default()
        };
        let tried = |name, place, folder, has_links, has_times| Tried {
            name,
            place,
            folder,
            has_links,
            has_times,
        };
        let ssh = place(&self.ssh.address(&at("ssh")), with_key(&self.ssh, "ed25519"));
        let ftp = |number: usize| self.ftp[number].address("/");
        vec![
            tried("sftp", ssh, at("ssh"), true, true),
            tried("ftp", place(&ftp(0), with_password()), at("ftp"), false, true),
            tried("ftps", place(&ftp(1), tls), at("ftps"), false, true),
            tried("old ftp", place(&ftp(2), with_password()), at("old-ftp"), false, false),
            tried("webdav", place(&self.dav.address("/"), with_password()), at("dav"), false, true),
            tried("bucket", place("s3://readings", keys), at("buckets/readings"), false, true),
        ]
    }
}

pub(crate) fn read(place: &dyn Place, path: &str, from: u64) -> Result<Vec<u8>, Fault> {
    let mut all = Vec::new();
    place.read(path, from, &mut |piece| {
        all.extend_from_slice(piece);
        Ok(())
    })?;
    Ok(all)
}

/// Writes a file in the way of the place.
pub(crate) fn write(
    place: &dyn Place,
    path: &str,
    content: &[u8],
    over: Over,
) -> Result<(), Fault> {
    let bytes = content.len() as u64;
    if place.abilities().whole {
        return place.write_whole(path, bytes, &mut Cursor::new(content), over);
    }
    let hidden = format!("{path}.part");
    place.write(&hidden, 0, bytes, &mut Cursor::new(content))?;
    place.rename(&hidden, path, over)
}

fn names(place: &dyn Place, folder: &str) -> Result<BTreeSet<String>, Fault> {
    let mut names = BTreeSet::new();
    place.list(folder, &mut |one| names.insert(one.name))?;
    Ok(names)
}

#[test]
fn every_place_lists_reads_writes_renames_and_removes() {
    let servers = Servers::start();
    for tried in servers.all() {
        let Tried { name, place, folder, .. } = &tried;
        let place = &**place;
        let words = place.greet().unwrap_or_else(|fault| panic!("{name}: {fault:?}"));
        assert!(words.contains("://"), "{name}: {words}");
        place.make_folders("in/garrow-light").unwrap();
        place.make_folders("in/garrow-light").unwrap();
        // What is written is there, whole, and read from anywhere.
        let long: Vec<u8> = (0..3_000_000_u32).map(|at| (at % 251) as u8).collect();
        for (file, content) in [("in/empty.csv", &b""[..]), ("in/garrow-light/long.csv", &long)] {
            write(place, file, content, Over::Nothing).unwrap_or_else(|f| panic!("{name}: {f:?}"));
            assert_eq!(fs::read(folder.join(file)).unwrap(), content, "{name}");
            let seen = place.look(file).unwrap().unwrap();
            assert_eq!((seen.kind, seen.bytes), (Kind::File, content.len() as u64), "{name}");
            assert_eq!(seen.modified.is_some(), tried.has_times || *name == "old ftp", "{name}");
            assert_eq!(read(place, file, 0).unwrap(), content, "{name}");
        }
        let rest = read(place, "in/garrow-light/long.csv", 2_999_000).unwrap();
        assert_eq!(rest, &long[2_999_000..], "{name}");
        assert_eq!(read(place, "in/garrow-light/long.csv", 3_000_000).unwrap_or_default(), b"");
        assert_eq!(
            names(place, "in").unwrap(),
            ["empty.csv", "garrow-light"].map(String::from).into()
        );
        // What is there is not replaced unless that is said.
        let again = write(place, "in/empty.csv", b"other", Over::Nothing);
        assert!(matches!(again, Err(Fault::Occupied)), "{name}: {again:?}");
        assert_eq!(read(place, "in/empty.csv", 0).unwrap(), b"", "{name}");
        write(place, "in/empty.csv", b"other", Over::Anything).unwrap();
        assert_eq!(read(place, "in/empty.csv", 0).unwrap(), b"other", "{name}");
        // A listing may be ended early, and what comes after it is not disturbed.
        let mut first = 0;
        place
            .list("in", &mut |_| {
                first += 1;
                false
            })
            .unwrap();
        assert_eq!((first, names(place, "in").unwrap().len()), (1, 2), "{name}");
        // Renamed, and gone.
        place.rename("in/empty.csv", "in/moved.csv", Over::Nothing).unwrap();
        assert!(place.look("in/empty.csv").unwrap().is_none(), "{name}");
        place.remove("in/moved.csv").unwrap();
        assert!(matches!(place.remove("in/moved.csv"), Err(Fault::Absent)), "{name}");
        assert!(matches!(read(place, "in/moved.csv", 0), Err(Fault::Absent)), "{name}");
        assert!(place.look("in/nothing/at.all").unwrap().is_none(), "{name}");
        if !place.abilities().folders_by_name {
            assert!(matches!(names(place, "nothing"), Err(Fault::Absent)), "{name}");
        }
    }
}

#[test]
fn small_files_are_read_together_and_each_is_told_as_it_is() {
    let servers = Servers::start();
    for Tried { name, place, .. } in servers.all() {
        let place = &*place;
        place.make_folders("in").unwrap();
        let content = |number: usize| vec![b'a' + (number % 26) as u8; number * 997];
        let paths: Vec<_> = (0..40).map(|number| format!("in/{number:02}.csv")).collect();
        for (number, path) in paths.iter().enumerate() {
            write(place, path, &content(number), Over::Nothing).unwrap();
        }
        let mut wanted: Vec<_> =
            paths.iter().map(String::as_str).zip((0..).map(|n| n * 997)).collect();
        // One has more than is said, one less, and one is not there.
        (wanted[7].1, wanted[8].1) = (11, 900_000);
        wanted.push(("in/none.csv", 12));
        wanted.push(("in/../../x.csv", 12));
        let mut came = vec![None; wanted.len()];
        let mut each = |number: usize, one: Result<SmallFile, Fault>| {
            came[number] = Some(one.map_err(|fault| matches!(fault, Fault::Absent)));
            true
        };
        place.read_small(&wanted, &mut each).unwrap_or_else(|fault| panic!("{name}: {fault:?}"));
        assert_eq!(came.pop(), Some(Some(Err(false))), "{name}: what climbs");
        assert_eq!(came.pop(), Some(Some(Err(true))), "{name}: what is not there");
        for (number, one) in came.into_iter().enumerate() {
            let one = one.unwrap().unwrap();
            let most = if number == 7 { 12 } else { usize::MAX };
            let wanted = &content(number)[..most.min(number * 997)];
            assert_eq!(one.content, wanted, "{name}: {number}");
            assert_eq!(one.listed.unwrap().bytes, number as u64 * 997, "{name}: {number}");
        }
        // Who wants no more gets no more than what is under way, and the place is as before.
        let mut given = 0;
        let mut first = |_, _| {
            given += 1;
            false
        };
        place.read_small(&wanted[..paths.len()], &mut first).unwrap();
        assert!((1..=place.small_at_once()).contains(&given), "{name}: {given}");
        assert_eq!(read(place, "in/03.csv", 0).unwrap(), content(3), "{name}");
    }
}

/// Every odd character that a file may have in its name, beside those that no server can be
/// told of.
#[test]
fn names_with_odd_characters_are_the_same_there_and_here() {
    let servers = Servers::start();
    for tried in servers.all() {
        let Tried { name, place, folder, .. } = &tried;
        let place = &**place;
        let odd = [
            "-dash.csv",
            " blank.csv",
            "two  blanks.csv",
            "quo\"te's.csv",
            "per%20cent%.csv",
            "hash#?.csv",
            "semi;colon.csv",
            "[brackets]*.csv",
            "naïve-Ö-日本.csv",
            "back\\slash.csv",
            "plus+and&.csv",
            "~tilde.csv",
            ".hidden",
        ];
        let made: BTreeSet<&str> = odd
            .into_iter()
            .filter(|one| {
                // Some stores have other rules for the names of their files.
                let refused = write(place, one, one.as_bytes(), Over::Nothing).err();
                if let Some(fault) = &refused {
                    assert_eq!(*name, "bucket", "{name}: `{one}`: {fault:?}");
                }
                refused.is_none()
            })
            .collect();
        assert!(made.len() + 2 > odd.len(), "{name}: {made:?}");
        for one in &made {
            assert_eq!(fs::read(folder.join(one)).unwrap(), one.as_bytes(), "{name}: `{one}`");
            assert_eq!(read(place, one, 0).unwrap(), one.as_bytes(), "{name}: `{one}`");
            assert_eq!(
                place.look(one).unwrap().unwrap().bytes,
                one.len() as u64,
                "{name}: `{one}`"
            );
        }
        let listed = names(place, "").unwrap();
        for one in &made {
            // Where a listing is a picture of columns, nobody knows where a name begins.
            let unclear = *name == "old ftp" && one.starts_with(' ');
            assert!(unclear || listed.contains(*one), "{name}: `{one}` is not in {listed:?}");
        }
        for one in &made {
            place.remove(one).unwrap_or_else(|fault| panic!("{name}: `{one}`: {fault:?}"));
        }
        for bad in ["../x", "a/../../x", "/etc/passwd", "a\r\nDELE b", "a\nb", "a//b", ""] {
            if bad.is_empty() {
                continue;
            }
            assert!(matches!(place.look(bad), Err(Fault::Unsayable(_))), "{name}: {bad:?}");
            assert!(matches!(place.remove(bad), Err(Fault::Unsayable(_))), "{name}: {bad:?}");
            assert!(place.rename(".hidden", bad, Over::Anything).is_err(), "{name}: {bad:?}");
        }
    }
}

#[test]
fn what_is_no_file_is_seen_as_that() {
    let servers = Servers::start();
    let all = servers.all();
    for tried in all.iter().filter(|tried| tried.has_links) {
        let Tried { name, place, folder, .. } = tried;
        fs::write(folder.join("real.csv"), "real").unwrap();
        std::os::unix::fs::symlink("/etc/passwd", folder.join("link.csv")).unwrap();
        std::os::unix::fs::symlink("/", folder.join("root")).unwrap();
        let seen = place.look("link.csv").unwrap().unwrap();
        assert_eq!(seen.kind, Kind::Other, "{name}");
        let mut kinds = Vec::new();
        place
            .list("", &mut |one| {
                kinds.push((one.name, one.kind));
                true
            })
            .unwrap();
        kinds.sort_by(|one, other| one.0.cmp(&other.0));
        let kinds: Vec<(&str, Kind)> = kinds.iter().map(|(n, k)| (n.as_str(), *k)).collect();
        let wanted = [("link.csv", Kind::Other), ("real.csv", Kind::File), ("root", Kind::Other)];
        assert_eq!(kinds, wanted, "{name}");
    }
}

#[test]
fn a_write_that_was_cut_off_goes_on_where_it_ended() {
    let servers = Servers::start();
    for tried in servers.all() {
        let Tried { name, place, folder, .. } = &tried;
        if !place.abilities().resumes_writing {
            continue;
        }
        let content: Vec<u8> = (0..600_000_u32).map(|at| (at % 241) as u8).collect();
        let mut short = Cursor::new(&content[..250_000]);
        let cut = place.write("long.part", 0, 600_000, &mut short);
        assert!(matches!(cut, Err(Fault::Local(_))), "{name}: {cut:?}");
        let there = place.look("long.part").unwrap().map_or(0, |seen| seen.bytes);
        assert!(there <= 250_000, "{name}");
        let from = usize::try_from(there).unwrap();
        place.write("long.part", there, 600_000, &mut Cursor::new(&content[from..])).unwrap();
        assert_eq!(fs::read(folder.join("long.part")).unwrap(), content, "{name}");
        // Begun anew, what was there is gone.
        place.write("long.part", 0, 3, &mut Cursor::new(b"new")).unwrap();
        assert_eq!(fs::read(folder.join("long.part")).unwrap(), b"new", "{name}");
    }
}
