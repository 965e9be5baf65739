//! Both ends of one exchange held against each other.

use super::layout::{assembly, period};
use crate::protocol::{SettingFault, Setup};

/// How the keys of two ends of one exchange differ, each with what is wrong; `theirs` is the controller's.
pub(super) fn differences(ours: &Setup, theirs: &Setup) -> Vec<SettingFault> {
    let mut found = vec![];
    let mut add = |key, what: String, fix: String| {
        found.push(SettingFault { code: "M08", key, what, fix });
    };
    let number = |setup: &Setup, key: &str| assembly(setup, key).map(|own| own.number);
    let (ins, outs) = (number(ours, "inputs"), number(ours, "outputs"));
    let turned = number(theirs, "inputs").is_some_and(|own| Some(own) == outs && Some(own) != ins)
        || number(theirs, "outputs").is_some_and(|own| Some(own) == ins && Some(own) != outs);
    if turned {
        let shown = |own: Option<u32>| own.map_or_else(|| "none".to_string(), |own| own.to_string());
        let what = format!(
            "inputs and outputs are taken for each other: the controller reads what the image has as `inputs` \
             (assembly {}), and writes its `outputs` (assembly {})",
            shown(ins),
            shown(outs)
        );
        let fix =
            format!("set the input assembly to {} and the output assembly to {}", shown(ins), shown(outs));
        add("inputs", what, fix);
        return found;
    }
    for (key, word) in [("inputs", "input"), ("outputs", "output"), ("config", "configuration")] {
        let (Some(there), own) = (assembly(theirs, key), assembly(ours, key)) else { continue };
        let Some(own) = own else {
            if there.bytes > 0 || key == "outputs" {
                let what = format!("it has an {word} assembly {}, and the image has none", there.number);
                add(key, what, format!("take it out there, or add `{key}` to the image"));
            }
            continue;
        };
        if there.number != own.number {
            let what = format!("its {word} assembly is {}, and the image's {}", there.number, own.number);
            add(key, what, format!("set it to {} at the controller", own.number));
        }
        let written = theirs.row(key).and_then(|row| row.number("bytes"));
        let Some(bytes) = written.filter(|bytes| *bytes != own.bytes) else { continue };
        let counted = match bytes.checked_sub(own.bytes) {
            Some(2) => "; the two more are the sequence count, which the controller adds by itself",
            Some(4) => "; the four more are the run/idle header, which the controller adds by itself",
            Some(6) => "; the six more are sequence count and header, which the controller adds by itself",
            _ => "",
        };
        let what = format!("its {word}s have {bytes} bytes, and the image's have {}{counted}", own.bytes);
        add(key, what, format!("set {} bytes at the controller", own.bytes));
    }
    let (mine, other) = (u64::from(period(ours)), theirs.number("period").map(u64::from));
    if let Some(other) = other.filter(|other| *other < mine) {
        let shown = crate::shown::show_micros;
        let what = format!(
            "it asks for a frame every {}, and the image accepts {} at least",
            shown(other),
            shown(mine)
        );
        add(
            "period",
            what,
            format!("set {} there, or `period = \"{}\"` at the image", shown(mine), shown(other)),
        );
    }
    found
}

#[cfg(test)]
mod tests {
    use super::super::assembly::ASSEMBLIES;
    use super::super::layout::blocks as setup;
    use super::*;
    use crate::protocol::Stations;

    #[test]
    fn what_differs_at_the_two_ends_is_said_with_the_reason() {
        let own = setup((100, 12), Some((150, 4)));
        let said = |theirs: &Setup| {
            let found = differences(&own, theirs);
            found.into_iter().map(|fault| format!("{}: {}", fault.key, fault.what)).collect::<Vec<_>>()
        };
        assert!(said(&own).is_empty());
        assert!(said(&ASSEMBLIES.other_end(&own)).is_empty());
        for (theirs, what) in [
            (setup((150, 4), Some((100, 12))), "inputs: inputs and outputs are taken for each other"),
            (
                setup((100, 14), Some((150, 4))),
                "inputs: its inputs have 14 bytes, and the image's have 12; the two",
            ),
            (
                setup((100, 12), Some((150, 8))),
                "outputs: its outputs have 8 bytes, and the image's have 4; the four",
            ),
            (setup((101, 12), Some((150, 4))), "inputs: its input assembly is 101"),
        ] {
            let said = said(&theirs);
            assert!(said.len() == 1 && said[0].starts_with(what), "{said:?}");
        }
        let faster = Setup { numbers: vec![("period", 2000)], ..own.clone() };
        assert!(said(&faster)[0].contains("every 2 ms"), "{:?}", said(&faster));
    }
}
