#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| { let _ = woodrush_wire::h1::exercise::stream(bytes); });
