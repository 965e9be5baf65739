use super::*;
use proptest::prelude::*;

fn form(text: &str) -> Form {
    Form::parse(text).unwrap_or_else(|fault| panic!("{text}: {}", fault.what))
}

fn through(from: &str, to: &str, overflow: Overflow, cells: &[u8]) -> Result<Vec<u8>, ()> {
    let conversion = Conversion { from: form(from), to: form(to), overflow };
    let bytes = conversion.to.ty.bytes().unwrap_or(2) as usize;
    let mut out = vec![0xA5; bytes];
    conversion.convert(cells, &mut out).map(|()| out)
}

#[test]
fn forms_are_read_and_shown() {
    for (text, shown) in [
        ("u16", "u16"),
        ("f32 CDAB", "f32 CDAB"),
        ("INT scale 0.01", "i16 scale 0.01"),
        ("REAL  ABCD", "f32 ABCD"),
        ("i32 DCBA scale 0.1 plus -40", "i32 DCBA scale 0.1 plus -40"),
        ("u64 GHEFCDAB", "u64 GHEFCDAB"),
        ("text(12) BA", "text(12) BA"),
        ("bcd32 BADC", "bcd32 BADC"),
        ("bool", "bool"),
        ("raw", "raw"),
    ] {
        assert_eq!(form(text).to_string(), shown);
    }
}

#[test]
fn faults_of_forms_name_the_word_and_what_is_allowed() {
    for (text, what, word) in [
        ("f23", "`f23` is not a type (perhaps `f32`)", "f23"),
        ("f32 CDBA", "`CDBA` is not an order of `f32` (one of ABCD, CDAB, BADC, DCBA)", "CDBA"),
        ("u16 ABCD", "`ABCD` is not an order of `u16` (AB or BA)", "ABCD"),
        ("u16 scale", "`scale ` is not a decimal number of at most 18 digits, such as 0.01 or -40", "scale"),
        ("u16 scale 0", "a scale of 0 makes every value 0", "0"),
        (
            "u16 times 3",
            "`times` is not understood after `u16` (an order such as ABCD, `scale N`, `scale LOW..HIGH to LOW..HIGH` or `plus N`)",
            "times",
        ),
        ("text(4) scale 2", "`text(4)` is not a number and takes no scale or plus", "text(4)"),
        ("bool AB", "`bool` has no order", "AB"),
    ] {
        let fault = Form::parse(text).unwrap_err();
        assert_eq!((fault.what.as_str(), &text[fault.at.clone()]), (what, word), "{text}");
    }
}

#[test]
fn orders_are_those_of_the_reference_table() {
    // 17.46 and 123456789, bytes as on the wire.
    let table = [
        (
            "f32",
            [0x41, 0x8B, 0xAE, 0x14],
            [0xAE, 0x14, 0x41, 0x8B],
            [0x8B, 0x41, 0x14, 0xAE],
            [0x14, 0xAE, 0x8B, 0x41],
        ),
        (
            "i32",
            [0x07, 0x5B, 0xCD, 0x15],
            [0xCD, 0x15, 0x07, 0x5B],
            [0x5B, 0x07, 0x15, 0xCD],
            [0x15, 0xCD, 0x5B, 0x07],
        ),
    ];
    for (ty, abcd, cdab, badc, dcba) in table {
        for (order, bytes) in [("CDAB", cdab), ("BADC", badc), ("DCBA", dcba)] {
            let source = format!("{ty} {order}");
            assert_eq!(
                through(&source, &format!("{ty} ABCD"), Overflow::Refuse, &bytes),
                Ok(abcd.to_vec()),
                "{source}"
            );
            assert_eq!(
                through(&format!("{ty} ABCD"), &source, Overflow::Refuse, &abcd),
                Ok(bytes.to_vec()),
                "{source}"
            );
        }
    }
    let eight = [1, 2, 3, 4, 5, 6, 7, 8];
    for (order, bytes) in [
        ("GHEFCDAB", [7, 8, 5, 6, 3, 4, 1, 2]),
        ("BADCFEHG", [2, 1, 4, 3, 6, 5, 8, 7]),
        ("HGFEDCBA", [8, 7, 6, 5, 4, 3, 2, 1]),
    ] {
        assert_eq!(
            through("u64 ABCDEFGH", &format!("u64 {order}"), Overflow::Refuse, &eight),
            Ok(bytes.to_vec())
        );
    }
}

#[test]
fn scales_are_exact_and_round_half_away_from_zero() {
    let words = |word: i16| word.to_be_bytes().to_vec();
    let single = |number: f32| number.to_be_bytes().to_vec();
    assert_eq!(through("u16 scale 0.01", "f32", Overflow::Refuse, &words(1746)), Ok(single(17.46)));
    assert_eq!(through("f32", "u16 scale 0.01", Overflow::Refuse, &single(17.46)), Ok(words(1746)));
    assert_eq!(through("i16", "i16 scale 10", Overflow::Refuse, &words(-25)), Ok(words(-3)));
    assert_eq!(through("i16", "i16 scale 10", Overflow::Refuse, &words(25)), Ok(words(3)));
    assert_eq!(through("i16", "i16 scale 10", Overflow::Refuse, &words(24)), Ok(words(2)));
    assert_eq!(through("i16 scale 0.1 plus -40", "i16", Overflow::Refuse, &words(655)), Ok(words(26)));
    assert_eq!(through("f32", "i16", Overflow::Refuse, &single(-2.5)), Ok(words(-3)));
    assert_eq!(
        through("u64", "f64", Overflow::Refuse, &u64::MAX.to_be_bytes()),
        Ok((u64::MAX as f64).to_be_bytes().to_vec())
    );
}

#[test]
fn what_does_not_fit_is_refused_or_clamped() {
    let single = |number: f32| number.to_be_bytes().to_vec();
    assert_eq!(through("f32", "u16", Overflow::Refuse, &single(-1.0)), Err(()));
    assert_eq!(through("f32", "u16", Overflow::Clamp, &single(-1.0)), Ok(vec![0, 0]));
    assert_eq!(through("f32", "u16", Overflow::Clamp, &single(f32::INFINITY)), Ok(vec![0xFF, 0xFF]));
    assert_eq!(through("f32", "u16", Overflow::Clamp, &single(f32::NAN)), Err(()), "NaN fits no integer");
    assert_eq!(through("u32", "u16", Overflow::Refuse, &[0, 1, 0, 0]), Err(()));
    assert_eq!(through("u32", "bcd16", Overflow::Clamp, &[0, 1, 0, 0]), Ok(vec![0x99, 0x99]));
    assert_eq!(through("bcd16", "u16", Overflow::Refuse, &[0x12, 0x3A]), Err(()), "no such digit");
    assert_eq!(through("bcd16", "u16", Overflow::Refuse, &[0x12, 0x34]), Ok(1234u16.to_be_bytes().to_vec()));
    assert_eq!(through("f64", "f32", Overflow::Refuse, &1e300f64.to_be_bytes()), Err(()));
    assert_eq!(through("f64", "f32", Overflow::Clamp, &(-1e300f64).to_be_bytes()), Ok(single(f32::MIN)));
}

#[test]
fn text_and_bits_come_through() {
    assert_eq!(through("text(4) BA", "text(4)", Overflow::Refuse, b"oRn1"), Ok(b"Ro1n".to_vec()));
    assert_eq!(through("text(4)", "text(6)", Overflow::Refuse, b"abc\0"), Ok(b"abc\0\0\0".to_vec()));
    assert_eq!(through("text(4)", "text(2)", Overflow::Refuse, b"abcd"), Err(()), "longer than its room");
    let bit = Conversion { from: form("bool"), to: form("u16"), overflow: Overflow::Refuse };
    let mut out = [9, 9];
    assert_eq!(bit.convert(&[1], &mut out), Ok(()));
    assert_eq!(out, [0, 1]);
    let mut bit_out = [0];
    assert_eq!(bit.back().convert(&[1, 0], &mut bit_out), Ok(()));
    assert_eq!(bit_out, [1]);
}

#[test]
fn floats_are_shown_with_the_digits_that_they_have() {
    for (value, shown) in [
        (17.46f32, "17.46"),
        (0.0, "0"),
        (-0.000_02, "-0.00002"),
        (2.8e-44, "2.8e-44"),
        (16_777_216.0, "16777216"),
        (f32::MAX, "3.4028235e38"),
        (f32::NEG_INFINITY, "-inf"),
    ] {
        let told = Conversion::shown(&Form::plain(Type::F32), &value.to_be_bytes());
        assert_eq!(told.as_deref(), Some(shown));
        assert_eq!(shown.parse::<f32>(), Ok(value), "what is shown can be put in again");
    }
}

proptest! {
    #[test]
    fn the_same_type_in_another_order_keeps_every_bit(bytes in any::<[u8; 8]>(), from in 0usize..4, to in 0usize..4) {
        let make = |at: usize| Form { order: Some(Order::ALL[at]), ..Form::plain(Type::F64) };
        let there = Conversion { from: make(from), to: make(to), overflow: Overflow::Refuse };
        let (mut middle, mut back) = ([0; 8], [0; 8]);
        prop_assert_eq!(there.convert(&bytes, &mut middle), Ok(()));
        prop_assert_eq!(there.back().convert(&middle, &mut back), Ok(()));
        prop_assert_eq!(back, bytes);
    }

    #[test]
    fn a_scaled_integer_comes_back_through_a_float_of_twice_its_width(raw in any::<i32>(), places in -6i8..=0, plus in -1000i64..1000) {
        let scale = Decimal { mantissa: 1, exponent: places };
        let from = Form { scale, plus: Decimal { mantissa: plus, exponent: 0 }, ..Form::plain(Type::I32) };
        let there = Conversion { from, to: Form::plain(Type::F64), overflow: Overflow::Refuse };
        let (mut middle, mut back) = ([0; 8], [0; 4]);
        prop_assert_eq!(there.convert(&raw.to_be_bytes(), &mut middle), Ok(()));
        prop_assert_eq!(there.back().convert(&middle, &mut back), Ok(()));
        prop_assert_eq!(i32::from_be_bytes(back), raw);
    }

    #[test]
    fn no_cells_make_a_conversion_panic(cells in prop::collection::vec(any::<u8>(), 0..12), from in 0usize..14, to in 0usize..14, clamp: bool) {
        let overflow = if clamp { Overflow::Clamp } else { Overflow::Refuse };
        let conversion = Conversion { from: Form::plain(NAMED[from].0), to: Form::plain(NAMED[to].0), overflow };
        let _ = conversion.convert(&cells, &mut vec![0; NAMED[to].0.bytes().unwrap_or(2) as usize]);
    }
}

#[test]
fn a_straight_line_through_two_points_is_exact_both_ways() {
    let text = "i16 scale 0..27648 to -50..150";
    let line = form(text);
    assert_eq!(line.to_string(), text);
    assert!(line.is_scaled());
    let up = Conversion { from: line, to: form("f32"), overflow: Overflow::Refuse };
    let made = |way: &Conversion, cells: &[u8], room: usize| {
        let mut out = vec![0; room];
        way.convert(cells, &mut out).map(|()| out)
    };
    for (raw, value) in [(0i16, -50.0f32), (27_648, 150.0), (13_824, 50.0), (1, -49.992_767)] {
        let cells = made(&up, &raw.to_be_bytes(), 4).unwrap();
        let got = f32::from_be_bytes(cells.clone().try_into().unwrap());
        assert!((got - value).abs() < 1e-5, "{raw}: {got} {value}");
        assert_eq!(made(&up.back(), &cells, 2).unwrap(), raw.to_be_bytes(), "and back");
    }
    // From one scale to another in whole numbers: 50.00 is the middle.
    let other = Conversion { from: line, to: form("i16 scale 0.01"), overflow: Overflow::Refuse };
    assert_eq!(made(&other, &13_824i16.to_be_bytes(), 2).unwrap(), 5000i16.to_be_bytes());
    assert_eq!(made(&other.back(), &15_000i16.to_be_bytes(), 2).unwrap(), 27_648i16.to_be_bytes());
    let falling =
        Conversion { from: form("u16 scale 4..20 to 100..0"), to: form("i16"), overflow: Overflow::Refuse };
    assert_eq!(made(&falling, &8u16.to_be_bytes(), 2).unwrap(), 75i16.to_be_bytes());
    assert_eq!(Conversion::shown(&line, &13_824i16.to_be_bytes()).as_deref(), Some("50"));
    assert_eq!(Conversion::shown(&line, &1746i16.to_be_bytes()).as_deref(), Some("-37.369793"));
    for wrong in [
        "i16 scale 0..27648",
        "i16 scale 0..27648 -50..150",
        "i16 scale 5..5 to 0..1",
        "i16 scale 0..1 to 3..3",
        "i16 scale 0..x to 3..4",
        "i16 scale 0..1 to 3..4 plus 2",
        "text(4) scale 0..1 to 2..3",
    ] {
        assert!(Form::parse(wrong).is_err(), "{wrong}");
    }
}
