#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| woodrush_engine::exercise::schedule(bytes));
