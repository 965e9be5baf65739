#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| { woodrush_wire::h1::exercise::structure(bytes); });
