//! The electronic data sheet of an adapter: what an engineering system needs to know of its connections.

use super::layout::{Assembly, Layout, OwnIdentity};
use crate::one_line::acts;
use crate::protocol::Setup;
use std::fmt::Write;

/// The class of assemblies, as paths name it.
const ASSEMBLY: &str = "20 04";
/// Transport class 1, cyclic; and who may do what.
const OWNER: u32 = 0x0401_0002;
const INPUT_ONLY: u32 = 0x0201_0002;
const LISTEN_ONLY: u32 = 0x0101_0002;
/// Fixed sizes, point to point, scheduled; to the target with the run/idle header, or a heartbeat.
const WITH_HEADER: u32 = 0x4444_0405;
const HEARTBEAT: u32 = 0x4444_0305;
/// The longest interval that the file offers, in microseconds.
const INTERVAL_MAX: u32 = 3_200_000;

/// A number of an instance or a point, as paths write it.
fn number(short: &str, long: &str, value: u32) -> String {
    match u8::try_from(value) {
        Ok(value) => format!("{short} {value:02X}"),
        Err(_) => format!("{long} 00 {:02X} {:02X}", value & 0xFF, value >> 8 & 0xFF),
    }
}

/// Text within quotes: what would end it is left out.
fn quoted(text: &str) -> String {
    text.chars().filter(|own| !acts(*own) && !matches!(own, '"' | '\\')).collect()
}

/// The file of all images of a port; `date` is the day on which it is made, as year, month and day.
pub(super) fn text(images: &[(&str, &Setup)], port: &Setup, date: (i16, i8, i8)) -> String {
    let own = OwnIdentity::of(port);
    let layouts: Vec<(&str, Layout)> =
        images.iter().filter_map(|(name, setup)| Some((*name, Layout::of(setup)?))).collect();
    let (year, month, day) = date;
    let date = format!("{month:02}-{day:02}-{year:04}");
    let mut out = String::new();
    // Writing into a text cannot fail, here and below.
    let _ = write!(
        out,
        "$ Connections of this adapter; made by `woodrush map --eds` out of the project\n\
         [File]\n\
         \x20       DescText = \"{name}\";\n\
         \x20       CreateDate = {date};\n\
         \x20       CreateTime = 00:00:00;\n\
         \x20       ModDate = {date};\n\
         \x20       ModTime = 00:00:00;\n\
         \x20       Revision = 1.0;\n\n\
         [Device]\n\
         \x20       VendCode = {vendor};\n\
         \x20       VendName = \"{name}\";\n\
         \x20       ProdType = {device_type};\n\
         \x20       ProdTypeStr = \"Generic Device\";\n\
         \x20       ProdCode = {product};\n\
         \x20       MajRev = {major};\n\
         \x20       MinRev = {minor};\n\
         \x20       ProdName = \"{name}\";\n\
         \x20       Catalog = \"{name}\";\n\n\
         [Device Classification]\n\
         \x20       Class1 = EtherNetIP;\n\n",
        name = quoted(&own.name),
        vendor = own.vendor,
        device_type = own.device_type,
        product = own.product,
        major = own.revision.0,
        minor = own.revision.1,
    );
    parameters(&mut out, &layouts);
    assemblies(&mut out, &layouts);
    let connections = connections(&mut out, &layouts);
    let _ = write!(
        out,
        "[Port]\n\
         \x20       Port1 =\n\
         \x20               TCP,                    $ port type\n\
         \x20               \"Ethernet\",             $ name\n\
         \x20               \"20 F5 24 01\",          $ path of the link object\n\
         \x20               2;                      $ port number\n\n\
         [Capacity]\n\
         \x20       MaxIOConnections = {};\n\
         \x20       MaxMsgConnections = 32;\n\
         \x20       TSpec1 = TxRx, 1, 500;\n",
        connections.max(1)
    );
    out
}

fn parameters(out: &mut String, layouts: &[(&str, Layout)]) {
    out.push_str("[Params]\n");
    for (at, (name, layout)) in layouts.iter().enumerate() {
        let period = layout.period;
        let _ = write!(
            out,
            "\x20       Param{} =\n\
             \x20               0,                      $ reserved, always 0\n\
             \x20               ,,                      $ link path size, link path\n\
             \x20               0x0000,                 $ descriptor\n\
             \x20               0xC8,                   $ data type UDINT\n\
             \x20               4,                      $ size in bytes\n\
             \x20               \"RPI of {}\",\n\
             \x20               \"us\",                   $ units\n\
             \x20               \"\",                     $ help\n\
             \x20               {period},{},{period},   $ min, max, default\n\
             \x20               ,,,,                    $ scaling: mult, div, base, offset\n\
             \x20               ,,,,                    $ scaling links\n\
             \x20               ;                       $ decimal places\n",
            at + 1,
            quoted(name),
            INTERVAL_MAX.max(period),
        );
    }
    out.push('\n');
}

fn assemblies(out: &mut String, layouts: &[(&str, Layout)]) {
    out.push_str(
        "[Assembly]\n        Object_Name = \"Assembly Object\";\n        Object_Class_Code = 0x04;\n",
    );
    for (name, layout) in layouts {
        let blocks =
            [("inputs", Some(layout.inputs)), ("outputs", layout.outputs), ("configuration", layout.config)];
        for (word, own) in blocks {
            let Some(Assembly { number: own, bytes }) = own else { continue };
            let path = format!("{ASSEMBLY} {} 30 03", number("24", "25", own));
            let member = if bytes > 0 { format!("{},", bytes * 8) } else { String::new() };
            let _ = writeln!(
                out,
                "        Assem{own} = \"{} of {}\",\"{path}\",{bytes},0x0000,,,{member};",
                word,
                quoted(name)
            );
        }
    }
    out.push('\n');
}

/// One connection of an image.
struct ConnectionKind {
    word: &'static str,
    who: u32,
    how: u32,
    /// What it sends; nothing for a heartbeat.
    outputs: Option<Assembly>,
    point: u32,
}

fn connections(out: &mut String, layouts: &[(&str, Layout)]) -> u32 {
    out.push_str("[Connection Manager]\n");
    let mut count = 0;
    for (at, (name, layout)) in layouts.iter().enumerate() {
        let owner = layout.outputs.map(|own| ConnectionKind {
            word: "Exclusive Owner",
            who: OWNER,
            how: WITH_HEADER,
            outputs: Some(own),
            point: own.number,
        });
        let reads = |word, who, point| ConnectionKind { word, who, how: HEARTBEAT, outputs: None, point };
        let kinds = owner.into_iter().chain([
            reads("Input Only", INPUT_ONLY, layout.input_only),
            reads("Listen Only", LISTEN_ONLY, layout.listen_only),
        ]);
        for kind in kinds {
            count += 1;
            let param = at + 1;
            let to_target = match kind.outputs {
                Some(own) => format!("Param{param},{},Assem{},", own.bytes, own.number),
                None => format!("Param{param},0,,"),
            };
            let config = match layout.config.filter(|own| own.bytes > 0) {
                Some(own) => format!("{},Assem{},", own.bytes, own.number),
                None => ",,".to_string(),
            };
            let path = format!(
                "{ASSEMBLY} {} {} {}",
                number("24", "25", layout.config.map_or(1, |own| own.number)),
                number("2C", "2D", kind.point),
                number("2C", "2D", layout.inputs.number)
            );
            let _ = write!(
                out,
                "\x20       Connection{count} =\n\
                 \x20               0x{:08X},             $ {}, cyclic, class 1\n\
                 \x20               0x{:08X},             $ sizes fixed; point to point; scheduled\n\
                 \x20               {to_target:<24}$ O->T RPI, size, format\n\
                 \x20               Param{param},{},Assem{},      $ T->O RPI, size, format\n\
                 \x20               ,,                      $ proxy configuration size, format\n\
                 \x20               {config:<24}$ target configuration size, format\n\
                 \x20               \"{} of {}\",\n\
                 \x20               \"\",                     $ help\n\
                 \x20               \"{path}\";\n",
                kind.who,
                kind.word.to_lowercase(),
                kind.how,
                layout.inputs.bytes,
                layout.inputs.number,
                kind.word,
                quoted(name),
            );
        }
    }
    out.push('\n');
    count
}

#[cfg(test)]
mod tests {
    use super::super::layout::blocks as image;
    use super::*;

    /// Entries of a section, each with its fields.
    fn entries<'t>(text: &'t str, section: &str) -> Vec<(&'t str, usize)> {
        let begin = text.find(&format!("[{section}]")).unwrap();
        let rest = &text[begin..];
        let end = rest[1..].find("\n[").map_or(rest.len(), |end| end + 1);
        let plain: Vec<&str> =
            rest[..end].lines().skip(1).map(|line| line.split('$').next().unwrap()).collect();
        let whole: Vec<&'t str> = rest[..end].split(';').collect();
        let fields = plain.join(" ");
        let counts =
            fields.split(';').map(|entry| entry.split('=').nth(1).unwrap_or_default().split(',').count());
        whole
            .into_iter()
            .map(|entry| entry.trim().split(' ').next().unwrap_or_default())
            .zip(counts)
            .collect()
    }

    #[test]
    fn each_image_has_its_assemblies_and_connections() {
        let (one, two) = (image((100, 12), Some((150, 4))), image((300, 2), None));
        let own = text(&[("cell", &one), ("panel", &two)], &Setup::default(), (2026, 11, 30));
        assert!(own.contains("VendCode = 65521;") && own.contains("CreateDate = 11-30-2026;"), "{own}");
        assert!(
            own.contains("Assem100 = \"inputs of cell\",\"20 04 24 64 30 03\",12,0x0000,,,96,;"),
            "{own}"
        );
        assert!(own.contains("\"20 04 25 00 2C 01 30 03\""), "a number above 255 takes a word: {own}");
        assert!(own.contains("\"20 04 24 01 2C 96 2C 64\"") && own.contains("\"20 04 24 01 2C 98 2C 64\""));
        assert_eq!(own.matches("Exclusive Owner").count(), 1, "the second image has no outputs");
        assert!(own.contains("MaxIOConnections = 5;"), "{own}");
        for (name, count) in
            entries(&own, "Connection Manager").iter().filter(|(name, _)| name.contains("Connection"))
        {
            assert_eq!(*count, 15, "{name}");
        }
        for (name, count) in entries(&own, "Params").iter().filter(|(name, _)| name.contains("Param")) {
            assert_eq!(*count, 21, "{name}");
        }
    }
}
