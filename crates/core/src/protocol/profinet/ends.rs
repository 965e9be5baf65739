//! Both ends of one exchange held against each other.

use super::layout::{StationLayout, Submodule, WATCHDOG_MAX_US, period};
use crate::protocol::{SettingFault, Setup};

/// How the keys of two ends of one exchange differ, each with what is wrong; `theirs` is the controller's.
pub(super) fn differences(ours: &Setup, theirs: &Setup) -> Vec<SettingFault> {
    let mut found = vec![];
    let mut add = |key, what: String, fix: String| {
        found.push(SettingFault { code: "M08", key, what, fix });
    };
    if let (Some(own), Some(other)) = (ours.word("station-name"), theirs.word("station-name"))
        && own != other
    {
        let what = format!("it looks for a station `{other}`, and the image is `{own}`");
        add("station-name", what, format!("set the name of station to `{own}` at the controller"));
    }
    if let (Some(own), Some(other)) = (StationLayout::of(ours), StationLayout::of(theirs)) {
        for there in &other.submodules {
            let place = |own: &&Submodule| (own.slot, own.subslot) == (there.slot, there.subslot);
            let shown = there.shown();
            let Some(here) = own.submodules.iter().find(place) else {
                let what = format!("{shown} is set up there, and the image has none");
                add("slots", what, "take it out there, or add it to `slots` of the image".into());
                continue;
            };
            if (there.input, there.output) == (here.output, here.input) && there.input != there.output {
                let what = format!(
                    "inputs and outputs of {shown} are taken for each other: `in` goes to the controller, which reads \
                     it; `out` comes from it"
                );
                add("slots", what, format!("plug the module with {} there", bytes(here)));
                continue;
            }
            for (word, theirs, ours, status) in [
                ("inputs", there.input, here.input, "provider"),
                ("outputs", there.output, here.output, "provider"),
            ] {
                if theirs == ours {
                    continue;
                }
                let counted = match theirs.checked_sub(ours) {
                    Some(1) if ours > 0 => {
                        format!(
                            "; the one more is the {status} status, which stands behind the data by itself"
                        )
                    }
                    _ => String::new(),
                };
                let what = format!(
                    "its {word} of {shown} have {theirs} byte{}, and the image's have {ours}{counted}",
                    if theirs == 1 { "" } else { "s" }
                );
                add("slots", what, format!("plug the module with {} there", bytes(here)));
            }
        }
    }
    let shown = crate::shown::show_micros;
    let (mine, other) = (u64::from(period(ours)), theirs.number("period").map(u64::from));
    if let Some(other) = other.filter(|other| *other < mine) {
        let what = format!("its cycle is {}, and the image accepts {} at least", shown(other), shown(mine));
        add(
            "period",
            what,
            format!(
                "set {} there, or `period = \"{}\"` at the image",
                shown(mine),
                shown(other).replace(' ', "")
            ),
        );
    }
    let cycle = other.unwrap_or(mine).max(1);
    if let Some(cycles) = theirs.number("watchdog").map(u64::from)
        && cycle * cycles > WATCHDOG_MAX_US
    {
        let what = format!(
            "its watchdog of {cycles} cycles of {} is {}, and {} are the most",
            shown(cycle),
            shown(cycle * cycles),
            shown(WATCHDOG_MAX_US)
        );
        add("watchdog", what, format!("set {} cycles there, or less", WATCHDOG_MAX_US / cycle));
    }
    found
}

/// What a module has, as it is called in a list to choose from.
pub(super) fn bytes(own: &Submodule) -> String {
    let counted = |bytes: u16, way: &str| match bytes {
        1 => format!("1 byte {way}"),
        bytes => format!("{bytes} bytes {way}"),
    };
    match (own.input, own.output) {
        (input, 0) => counted(input, "in"),
        (0, output) => counted(output, "out"),
        (input, output) => format!("{}, {}", counted(input, "in"), counted(output, "out")),
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::{row, station};
    use super::*;

    #[test]
    fn what_differs_at_the_two_ends_is_said_with_the_reason() {
        let own = station(&[row(1, 8, 0), row(2, 0, 4)]);
        let said = |theirs: &Setup| {
            let found = differences(&own, theirs);
            found.into_iter().map(|fault| fault.what).collect::<Vec<_>>()
        };
        assert!(said(&own).is_empty());
        assert!(said(&station(&[row(1, 8, 0)])).is_empty(), "it need not have all");
        for (theirs, what) in [
            (
                station(&[row(1, 9, 0)]),
                "its inputs of slot 1 have 9 bytes, and the image's have 8; the one more",
            ),
            (station(&[row(2, 4, 0)]), "inputs and outputs of slot 2 are taken for each other"),
            (station(&[row(3, 4, 0)]), "slot 3 is set up there"),
            (
                Setup { words: vec![("station-name", "other".into())], ..Setup::default() },
                "it looks for a station `other`",
            ),
            (Setup { numbers: vec![("period", 2000)], ..Setup::default() }, "its cycle is 2 ms"),
            (
                Setup { numbers: vec![("period", 512_000), ("watchdog", 4)], ..Setup::default() },
                "its watchdog of 4 cycles of 512 ms is 2.05 s, and 1.92 s are the most",
            ),
        ] {
            let said = said(&theirs);
            assert!(said.len() == 1 && said[0].starts_with(what), "{said:?}");
        }
    }
}
