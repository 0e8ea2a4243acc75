//! What all fuzz targets do with some bytes: read them as a table in every way, and
//! merge them; what can be read must add up, and be read again from what was written.

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::FileExt;
use std::sync::{Arc, Mutex, Once};

use vadegate_tables::dialect::Encoding;
use vadegate_tables::sample::{Bound, sample};
use vadegate_tables::{Bytes, Depth, Input, Layout, Merger, Options, Plan, Reading, Writing};

thread_local!(static FILE: RefCell<File> = RefCell::new(tempfile::tempfile().expect("a file")));

#[derive(Clone, Default)]
struct Kept(Arc<Mutex<Vec<u8>>>);

impl Write for Kept {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().expect("whole").extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn merged(file: &File, reading: &Reading) -> Option<Vec<u8>> {
    let options =
        Options { reading: reading.clone(), ..Options::new(Layout::union(), Writing::delimited(b',')) };
    let input = Input { name: "fuzz", file, added: &[], sheet: None, read: None, stop: None };
    let mut plan = Plan::new(options);
    plan.note(&input, Depth::Whole).ok()?;
    let out = Kept::default();
    let mut merger = Merger::begin(Box::new(out.clone()), plan, true).ok()?;
    // What was sound when it was noted can be copied.
    merger.copy(&input).expect("it was noted whole");
    assert!(merger.finish().expect("it is written to memory").adds_up());
    let bytes = out.0.lock().expect("whole").clone();
    Some(bytes)
}

fn fill(file: &File, bytes: &[u8]) {
    file.set_len(0).expect("emptied");
    file.write_all_at(bytes, 0).expect("written");
}

/// A panic ends the run, unless it is one of the library that reads workbooks: those are
/// caught, and told as a fault of the file.
fn panics_of_ours_end_it() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        std::panic::set_hook(Box::new(|panic| {
            if panic.location().is_none_or(|place| !place.file().contains("/calamine-")) {
                eprintln!("{panic}");
                std::process::abort();
            }
        }));
    });
}

/// Reads bytes as a table.
pub fn read(bytes: &[u8], reading: &Reading) {
    panics_of_ours_end_it();
    FILE.with_borrow(|file| {
        fill(file, bytes);
        let _ = sample(Bytes::of(file), reading, Bound { rows: 1000, tables: 5 });
        let Some(written) = merged(file, reading) else { return };
        fill(file, &written);
        let said = Reading {
            delimiter: Some(b','),
            encoding: Some(Encoding::UTF_8),
            ..Reading::default()
        };
        if let Some(again) = merged(file, &said) {
            assert_eq!(again, written, "what was written is read as it stands");
        }
    });
}
