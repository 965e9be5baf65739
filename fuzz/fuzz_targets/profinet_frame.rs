#![no_main]

use woodrush_wire::profinet::exercise;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| exercise::frame(bytes));
