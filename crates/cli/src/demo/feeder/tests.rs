//! The feeder drops the same for the same seed.

use super::*;

fn fed(seed: u64) -> Vec<(PathBuf, Vec<u8>)> {
    let home = tempfile::tempdir().unwrap();
    let office = super::super::office::Office::open(home.path()).unwrap();
    let pilots = super::super::pilots::Pilots::open(home.path()).unwrap();
    let places = [super::super::office::rule(&office), super::super::pilots::rule(&pilots)];
    super::super::make(home.path(), &places).unwrap();
    let mut feeder = Feeder::new(home.path(), seed, 1);
    feeder.backlog().unwrap();
    (0..90).for_each(|_| feeder.next().unwrap());
    let mut folders = vec![home.path().join("drops")];
    let mut files = Vec::new();
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else {
                let below = path.strip_prefix(home.path()).unwrap().to_owned();
                files.push((below, std::fs::read(&path).unwrap()));
            }
        }
    }
    files.sort();
    files
}

#[test]
fn the_same_seed_drops_the_same_files() {
    let first = fed(7);
    assert!(first.len() > 100, "{} files", first.len());
    assert!(first == fed(7));
    assert!(first != fed(8));
    assert!(first.iter().any(|(path, _)| path.to_string_lossy().contains("_resent")));
}
