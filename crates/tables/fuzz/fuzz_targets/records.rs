#![no_main]

use libfuzzer_sys::fuzz_target;
use vadegate_tables::Reading;

fuzz_target!(|bytes: &[u8]| {
    for start in [&b"{\""[..], b"[{"] {
        let text = [start, bytes].concat();
        vadegate_tables_fuzz::read(&text, &Reading::default());
    }
});
