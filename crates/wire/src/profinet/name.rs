//! Names of stations: labels of small letters, digits and hyphens with dots between (IEC 61158-6-10, after RFC 5890).

/// The most characters of a name.
pub const NAME_MAX: usize = 240;
/// The most characters of a label.
const LABEL_MAX: usize = 63;

/// Why a text cannot be the name of a station.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NameFault {
    /// It has no character.
    #[error("it is empty")]
    Empty,
    /// It is too long.
    #[error("it has {0} characters, and 240 are allowed")]
    Long(usize),
    /// A label is empty or too long.
    #[error("a part between dots has {0} characters, and 1 to 63 are allowed")]
    Label(usize),
    /// It has a character that no name has.
    #[error("`{0}` is not allowed: small letters, digits, hyphens and dots are")]
    Character(char),
    /// A label begins or ends with a hyphen.
    #[error("a part begins or ends with a hyphen")]
    Hyphen,
    /// It looks like an address.
    #[error("it has the form of an IP address")]
    Address,
    /// It looks like the name of a port.
    #[error("it begins like the name of a port (`port-001`)")]
    Port,
}

/// Whether a text may be the name of a station, and if not, why.
///
/// # Errors
/// The first thing that is wrong.
pub fn check(name: &str) -> Result<(), NameFault> {
    if name.is_empty() {
        return Err(NameFault::Empty);
    }
    if let Some(other) = name.chars().find(|own| !matches!(own, 'a'..='z' | '0'..='9' | '-' | '.')) {
        return Err(NameFault::Character(other));
    }
    if name.len() > NAME_MAX {
        return Err(NameFault::Long(name.len()));
    }
    let labels = || name.split('.');
    for label in labels() {
        if label.is_empty() || label.len() > LABEL_MAX {
            return Err(NameFault::Label(label.len()));
        }
        if label.starts_with('-') || label.ends_with('-') {
            return Err(NameFault::Hyphen);
        }
    }
    let is_number = |text: &str, digits| text.len() == digits && text.bytes().all(|own| own.is_ascii_digit());
    let octet = |label: &str| !label.is_empty() && label.len() <= 3 && is_number(label, label.len());
    if labels().count() == 4 && labels().all(octet) {
        return Err(NameFault::Address);
    }
    // `port-nnn` and `port-nnn-nnnnn` name ports of stations.
    let behind = labels().next().and_then(|first| first.strip_prefix("port-"));
    let is_port = behind.is_some_and(|behind| match behind.split_once('-') {
        None => is_number(behind, 3),
        Some((port, slot)) => is_number(port, 3) && is_number(slot, 5),
    });
    if is_port { Err(NameFault::Port) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_what_the_standard_allows() {
        let long = "x".repeat(63);
        for name in ["woodrush-io1", "pump7", "a", "line1.cell-2.io", &long, "1a", "port-1", "port-0001"] {
            assert_eq!(check(name), Ok(()), "{name}");
        }
        let label = "x".repeat(64);
        let whole = format!("a.{}", [long.as_str(); 4].join(".")).chars().take(241).collect::<String>();
        for (name, fault) in [
            ("", NameFault::Empty),
            ("Pump7", NameFault::Character('P')),
            ("pump_7", NameFault::Character('_')),
            ("pümp", NameFault::Character('ü')),
            ("-a", NameFault::Hyphen),
            ("a-", NameFault::Hyphen),
            ("a..b", NameFault::Label(0)),
            ("1.2.3.4", NameFault::Address),
            ("port-001", NameFault::Port),
            ("port-001-00001", NameFault::Port),
            ("port-001.line1", NameFault::Port),
            (&label, NameFault::Label(64)),
            (&whole, NameFault::Long(241)),
        ] {
            assert_eq!(check(name), Err(fault), "{name}");
        }
    }
}
