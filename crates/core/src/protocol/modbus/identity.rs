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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn identification_and_server_id_are_read_and_a_refusal_says_nothing() {
        let mut answer = vec![43, 14, 1, 1, 0, 0, 3];
        for (number, text) in [(0, "Sallow"), (1, "DO-2"), (2, "1.4")] {
            answer.extend([number, u8::try_from(text.len()).unwrap()]);
            answer.extend(text.as_bytes());
        }
        assert_eq!(shown(&answer).as_deref(), Some("Sallow DO-2 1.4"));
        // An object that is longer than what is there says nothing of the whole.
        assert_eq!(shown(&answer[..answer.len() - 1]), None);
        assert_eq!(shown(&[17, 6, 0x57, 0xFF, b'g', b'a', b'u', b'g']).as_deref(), Some("Wgaug"));
        for nothing in [&[0xAB, 1][..], &[0x91, 1], &[17, 1, 0], &[], &[43]] {
            assert_eq!(shown(nothing), None, "{nothing:?}");
        }
    }
}
