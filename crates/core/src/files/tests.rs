//! Folders full of links, whatever is done there: nothing outside is read, made or lost.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::io::{Read, Write};
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use proptest::prelude::*;
use proptest::sample::select;

use crate::files::roots::Reach;

const NAMES: [&str; 5] = ["a", "b", "c", "out", "deep"];

/// What somebody has laid into the folders.
#[derive(Debug, Clone)]
enum Lie {
    File(String),
    Folder(String),
    /// A link, and to what it leads.
    Link(String, &'static str),
}

/// What is done to a path.
#[derive(Debug, Clone, Copy)]
enum Deed {
    Read,
    Create,
    CreateNew,
    Write,
    Remove,
    RemoveFolder,
    RemoveTree,
    Make,
    RenameTo(&'static str),
    OverNothingTo(&'static str),
    ExchangeWith(&'static str),
}

fn path() -> impl Strategy<Value = String> {
    prop::collection::vec(select(&NAMES[..]), 1..4).prop_map(|parts| parts.join("/"))
}

fn lie() -> impl Strategy<Value = Lie> {
    let to = select(
        &[
            "OUTSIDE",
            "OUTSIDE/secret",
            "OUTSIDE/deep",
            "..",
            "../..",
            "a",
            ".",
            "/",
            "STATE",
            "b/c",
        ][..],
    );
    prop_oneof![
        1 => path().prop_map(Lie::File),
        1 => path().prop_map(Lie::Folder),
        3 => (path(), to).prop_map(|(path, to)| Lie::Link(path, to)),
    ]
}

fn deed() -> impl Strategy<Value = Deed> {
    let other = || select(&["a", "b/c", "out/x", "deep/a", "c/secret"][..]);
    prop_oneof![
        Just(Deed::Read),
        Just(Deed::Create),
        Just(Deed::CreateNew),
        Just(Deed::Write),
        Just(Deed::Remove),
        Just(Deed::RemoveFolder),
        Just(Deed::RemoveTree),
        Just(Deed::Make),
        other().prop_map(Deed::RenameTo),
        other().prop_map(Deed::OverNothingTo),
        other().prop_map(Deed::ExchangeWith),
    ]
}

/// A root, a state folder in it, and what is outside.
struct House {
    home: tempfile::TempDir,
    outside: tempfile::TempDir,
}

const SECRET: &[u8] = b"nobody is to read this";

impl House {
    fn new() -> Self {
        let house =
            House { home: tempfile::tempdir().unwrap(), outside: tempfile::tempdir().unwrap() };
        for folder in [house.outside.path().to_owned(), house.state()] {
            fs::create_dir_all(folder.join("deep")).unwrap();
            fs::write(folder.join("secret"), SECRET).unwrap();
            fs::write(folder.join("deep/secret"), SECRET).unwrap();
        }
        house
    }

    /// The root lies in a folder of its own, so that `..` of it is outside as well.
    fn root(&self) -> PathBuf {
        self.home.path().join("root")
    }

    fn state(&self) -> PathBuf {
        self.home.path().join("root/state")
    }

    fn reach(&self) -> Reach {
        Reach::below(&[self.root()], &self.state())
    }

    /// Lays something there, as far as that can be.
    fn lay(&self, lie: &Lie) {
        let (Lie::File(below) | Lie::Folder(below) | Lie::Link(below, _)) = lie;
        let path = self.root().join(below);
        // A link in its way leads it outside: that is not what is tried here.
        let plain = path
            .ancestors()
            .skip(1)
            .take_while(|part| *part != self.root())
            .all(|part| !part.is_symlink());
        if !plain || fs::create_dir_all(path.parent().unwrap()).is_err() {
            return;
        }
        let _ = match lie {
            Lie::File(_) => fs::write(&path, "ours"),
            Lie::Folder(_) => fs::create_dir(&path),
            Lie::Link(_, to) => {
                let to = to.replace("OUTSIDE", &self.outside.path().display().to_string());
                symlink(to.replace("STATE", &self.state().display().to_string()), &path)
            }
        };
    }

    /// What lies outside the root, and in the state folder, with its content.
    fn kept(&self) -> BTreeMap<PathBuf, Vec<u8>> {
        let mut kept = BTreeMap::new();
        each(self.outside.path(), &mut kept);
        each(&self.state(), &mut kept);
        let beside = fs::read_dir(self.home.path()).unwrap();
        kept.extend(beside.map(|one| (one.unwrap().path(), Vec::new())));
        kept
    }
}

fn each(folder: &Path, kept: &mut BTreeMap<PathBuf, Vec<u8>>) {
    for one in fs::read_dir(folder).unwrap() {
        let path = one.unwrap().path();
        if path.is_dir() {
            kept.insert(path.clone(), Vec::new());
            each(&path, kept);
        } else {
            let content = fs::read(&path).unwrap();
            kept.insert(path, content);
        }
    }
}

/// Does it as the service would; gives what was read.
fn act(reach: &Reach, root: &Path, below: &str, deed: Deed) -> std::io::Result<Vec<u8>> {
    let at = match deed {
        Deed::Create | Deed::CreateNew | Deed::Make => reach.at_made(&root.join(below))?,
        _ => reach.at(&root.join(below))?,
    };
    let other = |below: &str| reach.at_made(&root.join(below));
    let mut read = Vec::new();
    match deed {
        Deed::Read => drop(at.open()?.take(1024).read_to_end(&mut read)?),
        Deed::Create => at.create(0o600)?.write_all(b"made")?,
        Deed::CreateNew => at.create_new(0o600)?.write_all(b"made")?,
        Deed::Write => at.open_to_write()?.write_all(b"written")?,
        Deed::Remove => at.remove()?,
        Deed::RemoveFolder => at.remove_folder()?,
        Deed::RemoveTree => at.remove_tree()?,
        Deed::Make => drop(at.folder().make(OsStr::new("made"))?),
        Deed::RenameTo(to) => at.rename(&other(to)?)?,
        Deed::OverNothingTo(to) => at.rename_over_nothing(&other(to)?)?,
        Deed::ExchangeWith(with) => at.exchange(&other(with)?)?,
    }
    Ok(read)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(192))]

    #[test]
    fn whatever_is_done_in_a_root_full_of_links_nothing_outside_is_touched(
        lies in prop::collection::vec(lie(), 1..10),
        deeds in prop::collection::vec((path(), deed()), 1..24),
    ) {
        let house = House::new();
        lies.iter().for_each(|lie| house.lay(lie));
        let before = house.kept();
        let reach = house.reach();
        for (below, deed) in &deeds {
            // What cannot be done is refused; here it only matters what it did.
            let read = act(&reach, &house.root(), below, *deed).unwrap_or_default();
            prop_assert!(read != SECRET, "{below} was read by {deed:?} from {lies:?}");
        }
        prop_assert_eq!(house.kept(), before, "{:?} with {:?}", deeds, lies);
    }

    #[test]
    fn no_path_leads_out_of_the_roots_by_its_words(
        parts in prop::collection::vec(select(&["..", ".", "a", "state", "", "root", "secret"][..]), 1..7),
    ) {
        let house = House::new();
        let reach = house.reach();
        let path = house.root().join(parts.join("/").trim_start_matches('/'));
        let before = house.kept();
        let _ = reach.make_folder(&path);
        let opened = reach.at(&path.join("secret")).and_then(|at| at.open());
        if let Ok(mut file) = opened {
            let mut read = Vec::new();
            // A folder cannot be read.
            let _ = file.read_to_end(&mut read);
            prop_assert!(read != SECRET, "{}", path.display());
            prop_assert!(!parts.contains(&".."), "{}", path.display());
        }
        prop_assert_eq!(house.kept(), before, "{}", path.display());
    }
}
