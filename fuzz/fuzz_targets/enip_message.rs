#![no_main]

use woodrush_wire::enip::exercise;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    exercise::frame(bytes);
    exercise::path(bytes);
    exercise::request(bytes, 3);
    exercise::reply(bytes, 3);
});
