#![no_main]

use libfuzzer_sys::fuzz_target;
use vadegate_tables::dialect::Encoding;
use vadegate_tables::{Header, Reading};

fuzz_target!(|bytes: &[u8]| {
    let Some((how, bytes)) = bytes.split_first() else { return };
    let reading = Reading {
        delimiter: (how & 1 != 0).then_some(b';'),
        quote: (how & 2 == 0).then_some(b'"'),
        encoding: (how & 4 != 0).then_some([Encoding::UTF_8, Encoding::UTF_16LE, Encoding::UTF_16BE, Encoding::WINDOWS_1252]
            [usize::from(how >> 6)]),
        header: if how & 8 != 0 { Header::None } else { Header::First },
        comment: (how & 16 != 0).then_some(b'#'),
        ragged: how & 32 != 0,
        ..Reading::default()
    };
    vadegate_tables_fuzz::read(bytes, &reading);
});
