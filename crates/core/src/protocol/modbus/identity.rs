//! What a device says of itself: device identification (function 43/14) and server id (17), as people read them.

use woodrush_wire::modbus::Response;

/// The answer as text; `None` where it says nothing that can be read.
pub(super) fn shown(answer: &[u8]) -> Option<String> {
    match Response::parse(answer).ok()? {
        Response::Identification { objects, .. } => {
            let mut texts = vec![];
            let mut rest = objects;
            // Each object: its number, its length, its bytes.
            while let Some(([_, length], behind)) = rest.split_first_chunk::<2>() {
                let (text, behind) = behind.split_at_checked(usize::from(*length))?;
                texts.push(readable(text));
                rest = behind;
            }
            let texts: Vec<String> = texts.into_iter().flatten().collect();
            (!texts.is_empty()).then(|| texts.join(" "))
        }
        Response::ServerId(id) => readable(id),
        _ => None,
    }
}

/// Characters that a terminal can show, if there are some in a row.
fn readable(bytes: &[u8]) -> Option<String> {
    let text: String =
        bytes.iter().filter(|byte| (0x20..0x7F).contains(*byte)).map(|byte| char::from(*byte)).collect();
    let text = text.trim().to_string();
    (text.len() >= 2).then_some(text)
}
