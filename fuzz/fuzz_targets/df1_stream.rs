#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| woodrush_wire::df1::exercise::stream(bytes));
