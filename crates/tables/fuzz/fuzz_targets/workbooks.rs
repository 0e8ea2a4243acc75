#![no_main]

use libfuzzer_sys::fuzz_target;
use vadegate_tables::{Merged, Reading, Sheets};

fuzz_target!(|bytes: &[u8]| {
    let reading = Reading {
        sheets: Sheets::All,
        hidden: true,
        merged: Merged::Fill,
        ..Reading::default()
    };
    vadegate_tables_fuzz::read(bytes, &reading);
});
