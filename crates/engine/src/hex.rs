//! Cells and bytes as texts carry them between processes, pairs of hex digits without anything between; and MAC addresses.

/// As pairs of digits.
pub(crate) fn hex(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789ABCDEF";
    let digit = |half: u8| DIGITS.get(usize::from(half)).map_or('?', |digit| char::from(*digit));
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

/// A MAC address as people write it.
#[must_use]
pub fn mac_shown(mac: [u8; 6]) -> String {
    mac.map(|byte| format!("{byte:02x}")).join(":")
}

/// The bytes of pairs of digits; what is no pair of digits is 0.
#[must_use]
pub fn bytes_of_hex(text: &str) -> Vec<u8> {
    let pair = |pair: &[u8]| {
        let text = std::str::from_utf8(pair).unwrap_or_default();
        u8::from_str_radix(text, 16).unwrap_or_default()
    };
    text.as_bytes().chunks(2).map(pair).collect()
}
