//! A setting that is a list of rows, such as the slots of a station: which of its rows differ.

use super::{Difference, difference};

/// A row as it is named, and what it has.
type NamedRow<'s> = (String, &'s str);

/// The rows of a list that is called by the plural of what each begins with; `None` where it is no list.
fn rows<'s>(key: &str, value: &'s str) -> Option<Vec<NamedRow<'s>>> {
    let one = key.strip_suffix('s')?;
    let all: Vec<&str> = value.split("; ").collect();
    if !all.iter().all(|row| row.strip_prefix(one).is_some_and(|rest| rest.starts_with(' '))) {
        return None;
    }
    let first = |row: &'s str| row.split_once(", ").unwrap_or((row, ""));
    let named = |row: &&'s str| {
        let (name, rest) = first(row);
        // Of several parts of one slot each is named by its part too.
        let is_one_of_several = all.iter().filter(|other| first(other).0 == name).count() > 1;
        match rest.split_once(", ").filter(|_| is_one_of_several) {
            Some((part, rest)) => (format!("{name}, {part}"), rest),
            None => (name.to_string(), rest),
        }
    };
    Some(all.iter().map(named).collect())
}

/// How a setting differs: row by row where it is a list.
pub(super) fn of_setting(key: &str, was: &str, is: &str) -> Vec<Difference> {
    let (Some(old), Some(new)) = (rows(key, was), rows(key, is)) else {
        return vec![difference(key, was, is, true)];
    };
    let value = |all: &[NamedRow<'_>], name: &str| {
        all.iter().find(|(own, _)| own == name).map_or_else(String::new, |(_, value)| (*value).to_string())
    };
    let gone = old.iter().map(|(name, was)| difference(name, was, &value(&new, name), true));
    let come = new.iter().filter(|(name, _)| !old.iter().any(|(own, _)| own == name));
    let come = come.map(|(name, is)| difference(name, "", is, true));
    gone.chain(come).filter(|own| own.was != own.is).collect()
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
    }

    #[test]
    fn what_is_no_list_is_told_whole() {
        let [was, is] = ["assembly 150, bytes 6", "assembly 150, bytes 8"];
        assert_eq!(told("outputs", was, is), [format!("outputs: {was} > {is}")]);
        assert_eq!(told("slots", "", "slot 1, in 4"), ["slots:  > slot 1, in 4"]);
        assert_eq!(told("unit", "3", "4"), ["unit: 3 > 4"]);
    }
}
