//! A setting that is a list of rows, such as the slots of a station: which of its rows differ.

use super::{Difference, difference};

/// The rows of a list that is called by the plural of what each begins with: name and value; `None` where it is no list.
fn rows<'s>(key: &str, value: &'s str) -> Option<Vec<(&'s str, &'s str)>> {
    let one = key.strip_suffix('s')?;
    let row = |row: &'s str| {
        row.strip_prefix(one).filter(|rest| rest.starts_with(' '))?;
        Some(row.split_once(", ").unwrap_or((row, "")))
    };
    value.split("; ").map(row).collect()
}

/// How a setting differs: row by row where it is a list.
pub(super) fn of_setting(key: &str, was: &str, is: &str) -> Vec<Difference> {
    let (Some(old), Some(new)) = (rows(key, was), rows(key, is)) else {
        return vec![difference(key, was, is, true)];
    };
    let mut come: Vec<_> = new.iter().filter(|row| !old.contains(row)).copied().collect();
    let mut found = vec![];
    for (name, was) in old.iter().filter(|row| !new.contains(row)) {
        // Of several parts of one slot the same part is looked for first, and named with it.
        let part = was.split_once(", ");
        let same_part = come.iter().enumerate().find_map(|(at, (other, is))| {
            let ((part, was), (other_part, is)) = (part?, is.split_once(", ")?);
            (name == other && part == other_part).then(|| (at, format!("{name}, {part}"), was, is))
        });
        let same_name = || {
            let at = come.iter().position(|(other, _)| other == name)?;
            come.get(at).map(|(_, is)| (at, (*name).to_string(), *was, *is))
        };
        match same_part.or_else(same_name) {
            Some((at, what, was, is)) => {
                found.push(difference(&what, was, is, true));
                come.remove(at);
            }
            None => found.push(difference(name, was, "", true)),
        }
    }
    found.extend(come.iter().map(|(name, is)| difference(name, "", is, true)));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(key: &str, was: &str, is: &str) -> Vec<String> {
        of_setting(key, was, is).iter().map(|own| format!("{}: {} > {}", own.what, own.was, own.is)).collect()
    }

    #[test]
    fn only_the_rows_that_differ_are_told() {
        let was = "slot 1, in 4; slot 2, out 4; slot 3, in 1";
        assert_eq!(told("slots", was, "slot 1, in 4; slot 2, out 4; slot 3, in 2"), ["slot 3: in 1 > in 2"]);
        assert_eq!(
            told("slots", was, "slot 1, in 4; slot 3, in 1; slot 4, in 8"),
            ["slot 2: out 4 > ", "slot 4:  > in 8"]
        );
        assert_eq!(told("slots", "slot 1, in 4", "slot 1, out 4"), ["slot 1: in 4 > out 4"]);
        assert!(told("slots", was, was).is_empty());
        // Parts of one slot; and one that gets a second part.
        let parts = "slot 1, in 4; slot 1, subslot 2, in 2";
        assert_eq!(
            told("slots", parts, "slot 1, in 4; slot 1, subslot 2, in 3"),
            ["slot 1, subslot 2: in 2 > in 3"]
        );
        assert!(!told("slots", "slot 1, in 4", parts).is_empty());
        // A part with both directions; and the same slots in another order.
        let both = "slot 1, in 4, out 2; slot 1, subslot 2, in 2";
        assert_eq!(
            told("slots", both, "slot 1, in 5, out 2; slot 1, subslot 2, in 2"),
            ["slot 1: in 4, out 2 > in 5, out 2"]
        );
        assert!(told("slots", "slot 1, in 4; slot 2, in 1", "slot 2, in 1; slot 1, in 4").is_empty());
    }

    #[test]
    fn what_is_no_list_is_told_whole() {
        let [was, is] = ["assembly 150, bytes 6", "assembly 150, bytes 8"];
        assert_eq!(told("outputs", was, is), [format!("outputs: {was} > {is}")]);
        assert_eq!(told("slots", "", "slot 1, in 4"), ["slots:  > slot 1, in 4"]);
        assert_eq!(told("unit", "3", "4"), ["unit: 3 > 4"]);
    }
}
