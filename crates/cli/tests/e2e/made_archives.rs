//! Archives for tests, made by other programs where that is possible.

use std::fs;
use std::io::{Cursor, Write};
use std::process::Command;

use zip::ZipWriter;
use zip::write::SimpleFileOptions;

/// An archive that Python makes: `script` writes to the path `p`.
pub fn python(script: &str, ending: &str) -> Vec<u8> {
    let home = tempfile::tempdir().unwrap();
    let path = home.path().join(format!("made.{ending}"));
    let head = "import io, sys, tarfile, zipfile, gzip, bz2, lzma\np = sys.argv[1]\n\
        def add(t, name, content=b'', **more):\n\
        \x20   i = tarfile.TarInfo(name); i.size = len(content); i.mtime = 1700000000\n\
        \x20   [setattr(i, k, v) for k, v in more.items()]\n\
        \x20   t.addfile(i, io.BytesIO(content))\n";
    let output = Command::new("python3")
        .args(["-c", &format!("{head}{script}")])
        .arg(&path)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    fs::read(path).unwrap()
}

/// A zip archive of these members.
pub fn zip_of(members: &[(&str, &str)]) -> Vec<u8> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in members {
        zip.start_file(*name, SimpleFileOptions::default()).unwrap();
        zip.write_all(content.as_bytes()).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

pub fn tar(script: &str) -> Vec<u8> {
    python(&format!("t = tarfile.open(p, 'w')\n{script}\nt.close()"), "tar")
}

pub fn tar_gz(script: &str) -> Vec<u8> {
    python(&format!("t = tarfile.open(p, 'w:gz')\n{script}\nt.close()"), "tar.gz")
}

/// A tar archive of one sparse file, which says that it has so many bytes.
pub fn sparse(bytes: u64) -> Vec<u8> {
    let mut header = ::tar::Header::new_gnu();
    header.set_path("holes.dat").unwrap();
    header.set_mode(0o644);
    header.set_entry_type(::tar::EntryType::GNUSparse);
    header.set_size(0);
    let gnu = header.as_gnu_mut().unwrap();
    gnu.realsize = size_field(bytes);
    gnu.sparse[0].offset = size_field(bytes);
    gnu.sparse[0].numbytes = size_field(0);
    header.set_cksum();
    let mut bytes = header.as_bytes().to_vec();
    bytes.extend([0; 1024]);
    bytes
}

fn size_field(size: u64) -> [u8; 12] {
    let mut field = [0; 12];
    field[..11].copy_from_slice(format!("{size:011o}").as_bytes());
    field
}
