//! Codes of engineering units (`UNITS_INDEX`).

/// Every code that is known, with the unit as people write it. The first of two that are written alike is meant.
pub static UNITS: [(u16, &str); 88] = [
    (1000, "K"),
    (1001, "degC"),
    (1002, "degF"),
    (1003, "degR"),
    (1010, "m"),
    (1011, "km"),
    (1012, "cm"),
    (1013, "mm"),
    (1018, "ft"),
    (1019, "in"),
    (1034, "m3"),
    (1036, "cm3"),
    (1038, "L"),
    (1048, "US gal"),
    (1051, "bbl"),
    (1054, "s"),
    (1058, "min"),
    (1059, "h"),
    (1060, "d"),
    (1061, "m/s"),
    (1067, "ft/s"),
    (1077, "Hz"),
    (1081, "kHz"),
    (1085, "rpm"),
    (1088, "kg"),
    (1089, "g"),
    (1092, "t"),
    (1094, "lb"),
    (1097, "kg/m3"),
    (1100, "g/cm3"),
    (1103, "kg/L"),
    (1105, "g/L"),
    (1107, "lb/ft3"),
    (1130, "Pa"),
    (1132, "MPa"),
    (1133, "kPa"),
    (1136, "hPa"),
    (1137, "bar"),
    (1138, "mbar"),
    (1139, "torr"),
    (1140, "atm"),
    (1141, "psi"),
    (1142, "psi abs"),
    (1143, "psi gauge"),
    (1145, "kg/cm2"),
    (1147, "inH2O (4 degC)"),
    (1148, "inH2O (68 degF)"),
    (1150, "mmH2O (4 degC)"),
    (1151, "mmH2O (68 degF)"),
    (1155, "inHg"),
    (1157, "mmHg"),
    (1167, "J"),
    (1173, "kJ"),
    (1179, "kWh"),
    (1186, "W"),
    (1189, "MW"),
    (1190, "kW"),
    (1209, "A"),
    (1211, "mA"),
    (1240, "V"),
    (1243, "mV"),
    (1281, "Ohm"),
    (1284, "kOhm"),
    (1302, "mS/cm"),
    (1318, "g/s"),
    (1322, "kg/s"),
    (1323, "kg/min"),
    (1324, "kg/h"),
    (1328, "t/h"),
    (1330, "lb/s"),
    (1331, "lb/min"),
    (1332, "lb/h"),
    (1342, "%"),
    (1347, "m3/s"),
    (1348, "m3/min"),
    (1349, "m3/h"),
    (1350, "m3/d"),
    (1351, "L/s"),
    (1352, "L/min"),
    (1353, "L/h"),
    (1356, "ft3/s"),
    (1357, "ft3/min"),
    (1358, "ft3/h"),
    (1362, "gal/s"),
    (1363, "gal/min"),
    (1364, "gal/h"),
    (1422, "pH"),
    (1423, "ppm"),
];

/// Codes that stand for no unit.
const NO_UNITS: [(u16, &str); 3] = [(1995, "text"), (1997, "none"), (1998, "unknown")];

/// The unit of a code, as people write it; the number itself where it is not known: nothing is converted in silence.
#[must_use]
pub fn unit_shown(code: u16) -> String {
    let known = UNITS.iter().chain(&NO_UNITS).find(|(own, _)| *own == code);
    known.map_or_else(|| format!("unit {code}"), |(_, unit)| (*unit).to_string())
}

/// The code of a unit, written as people do or as its number.
#[must_use]
pub fn unit_code(text: &str) -> Option<u16> {
    let known = UNITS.iter().chain(&NO_UNITS).find(|(_, unit)| *unit == text);
    known.map(|(code, _)| *code).or_else(|| text.strip_prefix("unit ").unwrap_or(text).parse().ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_and_codes_find_each_other() {
        for (code, unit) in UNITS.iter().chain(&NO_UNITS) {
            assert_eq!((unit_code(unit), unit_shown(*code).as_str()), (Some(*code), *unit));
        }
        assert_eq!((unit_code("unit 2000"), unit_shown(2000).as_str()), (Some(2000), "unit 2000"));
        assert_eq!(unit_code("furlong"), None);
        assert!(UNITS.windows(2).all(|pair| pair[0].0 < pair[1].0));
    }
}
