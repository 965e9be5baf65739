//! `woodrush addr`: an address in every notation, with its neighbours.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use serde::Serialize;
use woodrush_core::form::Form;
use woodrush_core::protocol::{Address, AddressContext, Dialect, Grain, ImpliedType, Setup, notations};

#[derive(Serialize)]
struct ShownAddress {
    written: String,
    /// The setting under which it is that; empty where it is so under all.
    #[serde(skip_serializing_if = "str::is_empty")]
    when: &'static str,
    #[serde(skip)]
    grain: (u32, Option<u8>),
    notation: &'static str,
    canonical: String,
    offset: String,
    hex: String,
    means: String,
    others: Vec<Other>,
    before: Option<String>,
    after: Option<String>,
}

#[derive(Serialize)]
struct Other {
    name: &'static str,
    text: String,
}

#[derive(Serialize)]
struct Refused {
    written: String,
    code: &'static str,
    what: String,
    likely: Vec<String>,
}

pub(crate) fn run(console: &mut Console, addresses: &[String]) -> Result<Verdict, Failure> {
    let (mut shown, mut refused) = (vec![], vec![]);
    for text in addresses {
        match read(text) {
            Ok(addresses) => shown.extend(addresses),
            Err(fault) => refused.push(fault),
        }
    }
    match console.format {
        Format::Json => {
            console.json(&serde_json::json!({ "format": 1, "addresses": shown, "refused": refused }))?
        }
        Format::Csv => {
            let row = |s: &ShownAddress| {
                vec![s.written.clone(), s.canonical.clone(), s.offset.clone(), s.hex.clone(), s.means.clone()]
            };
            let rows = shown.iter().map(row).collect();
            console.table(&Table {
                head: vec!["written", "canonical", "offset", "hex", "means"],
                rows,
                whole: &[],
            })?;
        }
        Format::Text => {
            for (at, address) in shown.iter().enumerate() {
                if at > 0 {
                    console.say("")?;
                }
                say(console, address)?;
            }
        }
    }
    for fault in &refused {
        let likely: Vec<String> = fault.likely.iter().map(|text| format!("`{text}`")).collect();
        let offer =
            if likely.is_empty() { String::new() } else { format!("; write {}", likely.join(" or ")) };
        console.complain(&format!("{} {}{offer}", fault.code, fault.what));
    }
    Ok(if refused.is_empty() { Verdict::Yes } else { Verdict::No })
}

/// What a text is; several where it depends on a setting.
fn read(text: &str) -> Result<Vec<ShownAddress>, Refused> {
    let mut first = None;
    // Where memory has names, the type stands behind the address.
    let (text, form) = match text.split_once(" as ") {
        Some((address, form)) => (
            address,
            Some(Form::parse(form).map_err(|fault| Refused {
                written: text.into(),
                code: "F08",
                what: fault.what,
                likely: vec![],
            })?),
        ),
        None => (text, None),
    };
    for dialect in notations() {
        let mut found: Vec<ShownAddress> = vec![];
        for (when, setup) in dialect.notation().readings() {
            match dialect.notation().parse(text, &AddressContext::of_device(&setup).with_form(form)) {
                Ok(address) => found.push(ShownAddress { when, ..show(text, dialect, &address, &setup) }),
                Err(fault) => first = first.or(Some(fault)),
            }
        }
        // The same under all of them needs no word about it.
        let same =
            |one: &ShownAddress, other: &ShownAddress| one.grain == other.grain && one.means == other.means;
        if let [one, rest @ ..] = found.as_mut_slice() {
            if dialect.notation().readings().len() == 1 + rest.len()
                && rest.iter().all(|other| same(one, other))
            {
                one.when = "";
                found.truncate(1);
            }
            return Ok(found);
        }
    }
    Err(first.map_or_else(
        || Refused {
            written: text.into(),
            code: "M01",
            what: format!("`{text}` is not an address"),
            likely: vec![],
        },
        |fault| Refused { written: text.into(), code: fault.code, what: fault.what, likely: fault.likely },
    ))
}

fn show(text: &str, dialect: &'static dyn Dialect, address: &Address, setup: &Setup) -> ShownAddress {
    let Address { space, first, bit, brings } = address;
    // What lies there may take several grains; its neighbours are as wide.
    let width = match brings {
        ImpliedType::Width(ty) | ImpliedType::Type(ty) => ty.width(space.grain).unwrap_or(1),
        ImpliedType::Nothing => 1,
    };
    let own = dialect.notation().show(space, *first, width, *bit, setup);
    let neighbour = |first: u32| dialect.notation().show(space, first, width, *bit, setup).to_string();
    let bit_words = bit.map(|bit| format!(", bit {bit} (0 the least significant)")).unwrap_or_default();
    // Where addresses count bytes, a word is two of them.
    let noun = match space.grain {
        Grain::Bytes(1) if width > 1 => format!("{width} {}s", space.noun),
        _ => space.noun.to_string(),
    };
    let access = if space.writable { "read and write" } else { "read only" };
    ShownAddress {
        written: text.into(),
        when: "",
        grain: (*first, *bit),
        notation: dialect.family(),
        canonical: own.canonical,
        offset: own.offset,
        hex: own.hex,
        means: format!("{noun}{bit_words}, {access}"),
        others: dialect
            .notation()
            .notations(space, *first, *bit, setup)
            .into_iter()
            .map(|(name, text)| Other { name, text })
            .collect(),
        before: first.checked_sub(width).map(neighbour),
        after: (space.len.is_none_or(|len| first + width < len)).then(|| neighbour(first + width)),
    }
}

fn say(console: &mut Console, address: &ShownAddress) -> Result<(), Failure> {
    let head = console.paint(Tone::Accent, &address.written);
    let when = if address.when.is_empty() { String::new() } else { format!(", with `{}`", address.when) };
    console.say(&format!("{head}  {} {}{when}", address.notation, address.means))?;
    let column = address.others.iter().map(|other| other.name.len()).max().unwrap_or(0).max(15);
    for other in &address.others {
        console.say(&format!("  {:<column$} {}", other.name, other.text))?;
    }
    let neighbour = |neighbour: &Option<String>, none: &str| neighbour.clone().unwrap_or_else(|| none.into());
    let before = neighbour(&address.before, "none, the table begins here");
    console.say(&format!("  {:<column$} {before}", "before"))?;
    let after = neighbour(&address.after, "none, the table ends here");
    console.say(&format!("  {:<column$} {after}", "after"))
}
