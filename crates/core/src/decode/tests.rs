//! What a person would find who tries every way, found.

use super::*;
use crate::form::Decimal;
use proptest::prelude::*;

fn best(samples: &[(&str, f64)]) -> String {
    let samples: Vec<Sample> = samples
        .iter()
        .map(|(words, value)| Sample { words: parse_words(words, None).unwrap(), value: *value })
        .collect();
    fits(&samples, TOLERANCE).first().map_or("nothing".into(), |fit| fit.form.to_string())
}

#[test]
fn a_known_value_tells_type_order_and_scale() {
    for (words, value, form) in [
        ("418B AE14", 17.46, "f32 ABCD"),
        ("AE14 418B", 17.46, "f32 CDAB"),
        ("14AE 8B41", 17.46, "f32 DCBA"),
        ("8B41 14AE", 17.46, "f32 BADC"),
        ("0x06D2", 17.46, "u16 AB scale 0.01"),
        ("0xD206", 17.46, "u16 BA scale 0.01"),
        ("0x1746", 17.46, "bcd16 AB scale 0.01"),
        ("0xFFF6", -10.0, "i16 AB"),
        ("0xFFF6", -1.0, "i16 AB scale 0.1"),
        ("0001 86A0", 100_000.0, "u32 ABCD"),
        ("86A0 0001", 100_000.0, "u32 CDAB"),
        ("0001 86A0", 100.0, "u32 ABCD scale 0.001"),
        ("4031 75C2 8F5C 28F6", 17.46, "f64 ABCDEFGH"),
        ("28F6 8F5C 75C2 4031", 17.46, "f64 GHEFCDAB"),
    ] {
        assert_eq!(best(&[(words, value)]), form, "{words}");
    }
    assert_eq!(best(&[("0x1234 5678", 3e30)]), "nothing");
}

#[test]
fn a_second_sample_tells_an_offset_and_drops_chance() {
    // 0.5 C a step, from -40 on.
    assert_eq!(best(&[("0x0064", 10.0), ("0x00C8", 60.0)]), "u16 AB scale 0.5 plus -40");
    // The first alone could be f32 by chance of its second word.
    let one = [Sample { words: vec![0x418B, 0xAE14], value: 17.46 }];
    let both = [one[0].clone(), Sample { words: vec![0x41BA, 0x3D71], value: 23.28 }];
    let straight = |samples: &[Sample]| {
        fits(samples, TOLERANCE).iter().filter(|fit| fit.form.plus == Decimal::ZERO).count()
    };
    assert!(straight(&both) <= straight(&one));
    assert_eq!(fits(&both, TOLERANCE)[0].form.to_string(), "f32 ABCD");
    let other = [one[0].clone(), Sample { words: vec![0x41BA, 0x3D71], value: 99.0 }];
    assert!(fits(&other, TOLERANCE).iter().all(|fit| !fit.is_plain()));
}

#[test]
fn a_value_among_others_is_found_where_it_lies() {
    let sample = Sample { words: vec![7, 0x418B, 0xAE14], value: 17.46 };
    let fit = &fits(&[sample], TOLERANCE)[0];
    assert_eq!((fit.at, fit.words, fit.form.to_string().as_str()), (1, 2, "f32 ABCD"));
}

#[test]
fn the_tolerance_is_a_share_and_a_value_of_nought_has_none() {
    let words = vec![0x4190, 0x0000];
    let sample = |value| [Sample { words: words.clone(), value }];
    assert!(fits(&sample(17.46), 0.01).iter().all(|fit| !fit.is_plain()));
    assert!(fits(&sample(17.46), 0.05)[0].is_plain());
    assert!(!fits(&[Sample { words: vec![0], value: 0.0 }], 0.01).is_empty());
    assert!(fits(&[], 0.01).is_empty());
}

#[test]
fn hex_and_decimal_words_are_told_apart_or_refused() {
    assert_eq!(parse_words("AE14 418B", None).unwrap(), [0xAE14, 0x418B]);
    assert_eq!(parse_words("44564,16779", None).unwrap(), [0xAE14, 0x418B]);
    assert_eq!(parse_words("0x7 1746", None).unwrap(), [7, 0x1746], "one that is hex says it of all");
    assert_eq!(parse_words("-10 7", None).unwrap(), [0xFFF6, 7]);
    assert_eq!(parse_words("1746", Some(Base::Decimal)).unwrap(), [1746]);
    assert_eq!(parse_words("1746", Some(Base::Hex)).unwrap(), [0x1746]);
    let both = parse_words("1746 2000", None).unwrap_err();
    assert!(both.what.contains("5958 in decimal") && both.what.contains("hex 06D2"), "{}", both.what);
    for wrong in ["", "AE14 418", "AE14 65536", "65536", "-32769", "AE14G", "0x", "0x12345", "1.5", "é"] {
        assert!(parse_words(wrong, None).is_err(), "{wrong}");
    }
}

#[test]
fn plausible_readings_are_marked_and_the_others_shown_too() {
    let all = readings(&[0xAE14, 0x418B]);
    let marked: Vec<String> = all
        .iter()
        .filter(|one| one.plausible.is_some() && one.words == 2)
        .map(|one| one.form.to_string())
        .collect();
    assert_eq!(marked, ["f32 CDAB"]);
    assert!(all.iter().any(|one| one.form.to_string() == "f32 ABCD" && one.value.is_some()));
    // Digits from A on are no decimal number.
    assert!(all.iter().filter(|one| one.form.ty == Type::Bcd32).all(|one| one.value.is_none()));
    let text = readings(&[0x534F, 0x4C45]);
    let text = text.iter().find(|one| one.form.to_string() == "text(4) AB").unwrap();
    assert_eq!((text.value.as_deref(), text.plausible), (Some("\"SOLE\""), Some("printable characters")));
}

#[test]
fn among_many_words_any_may_be_the_first_and_most_looks_outweigh_one() {
    let look = |value: f32, noise: u16| {
        let bytes = value.to_be_bytes();
        let (high, low) =
            (u16::from_be_bytes([bytes[0], bytes[1]]), u16::from_be_bytes([bytes[2], bytes[3]]));
        let words = vec![noise, noise ^ 0x5555, 7, low, high, noise.wrapping_mul(3), 0, 1];
        Sample { words, value: f64::from(value) }
    };
    let samples = [look(17.46, 0x1234), look(23.28, 0x4321), look(19.9, 0x0F0F)];
    let found = agreeing(&samples, TOLERANCE);
    assert_eq!((found[0].at, found[0].form.to_string(), found[0].agrees), (3, "f32 CDAB".to_string(), 3));
    let mut one_wrong = samples.to_vec();
    one_wrong[1].value = 99.0;
    let found = agreeing(&one_wrong, TOLERANCE);
    assert_eq!((found[0].at, found[0].form.to_string(), found[0].agrees), (3, "f32 CDAB".to_string(), 2));
    assert!(agreeing(&one_wrong[..2], TOLERANCE).iter().all(|fit| fit.agrees == 2 && !fit.is_plain()));
}

proptest! {
    #[test]
    fn whatever_form_wrote_a_value_is_among_those_that_are_found(
        number in 1.0f64..60_000.0, which in 0usize..4, order in 0usize..4, power in -3i8..3,
    ) {
        let ty = [Type::U16, Type::F32, Type::U32, Type::F64][which];
        let order = if ty == Type::U16 { [0, 2, 0, 2][order] } else { order };
        let form = Form { order: Some(Order::ALL[order]), scale: Decimal { mantissa: 1, exponent: power }, ..Form::plain(ty) };
        let raw = if matches!(ty, Type::F32 | Type::F64) { Value::Float(number) } else { Value::Whole(number as i128) };
        let mut bytes = vec![0; ty.bytes().unwrap() as usize];
        prop_assert!(raw.write(ty, &mut bytes));
        form.order().apply(&mut bytes);
        let words: Vec<u16> = bytes.chunks(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
        let whole = if matches!(ty, Type::F32 | Type::F64) { number } else { number.trunc() };
        let value = whole * form.scale.as_f64();
        let found = fits(&[Sample { words, value }], TOLERANCE);
        prop_assert!(found.iter().any(|fit| fit.form.ty == ty && (fit.form.scale == form.scale || fit.error <= TOLERANCE)), "{form} {value}: {found:?}");
    }

    #[test]
    fn no_words_make_it_panic(words in prop::collection::vec(any::<u16>(), 0..12), value in any::<f64>(), text in ".{0,20}") {
        let _ = readings(&words);
        let _ = fits(&[Sample { words, value }], TOLERANCE);
        let _ = parse_words(&text, None);
    }
}
