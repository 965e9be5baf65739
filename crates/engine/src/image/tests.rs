//! An image against a plain model of it: nothing torn, nothing stale without a sign.

use super::*;
use proptest::prelude::*;
use woodrush_core::check::check;
use woodrush_core::project::read;
use woodrush_core::protocol::SpaceId;

const SITE: &str = r#"
[ports.bus]
serial = "/dev/ttyS0"
line = "38400 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.a]
port = "bus"
unit = 1
[devices.b]
port = "bus"
unit = 2
write-one = "single"
[images.scada]
port = "office"
max-age = "1s"
[[map]]
from = "a:400001 as u32 CDAB"
to = "scada:400001 as u32 ABCD"
count = 2
[[map]]
from = "a:400010 as i16"
to = "scada:400005 as u16"
access = "read-write"
[[map]]
from = "b:400001"
to = "scada:400006"
count = 3
on-loss = "hold"
access = "read-write"
[[map]]
from = "b:400021"
to = "scada:400009"
on-loss = "fill 0xBEEF"
"#;

const HOLDING: SpaceId = SpaceId(3);

fn image(zero: bool) -> (Board, Arc<Plan>) {
    image_of(SITE, zero)
}

fn image_of(site: &str, zero: bool) -> (Board, Arc<Plan>) {
    let checked = check(read("w", site.into(), &mut |_| Err(String::new())));
    assert!(!checked.has_errors());
    let plan = Arc::new(checked.plan);
    let devices = plan.devices.iter().map(|_| Arc::default()).collect();
    let health = Arc::new(HealthCounters::new(&plan, devices, vec![], vec![], None));
    (Board::new(0, Arc::clone(&plan), health, zero), plan)
}

/// Lets an answer land in which every register holds `word`.
fn land(image: &mut Board, plan: &Plan, transfer: usize, at: Moment, word: u16) {
    let transfer = &plan.transfers[transfer];
    let cells: Vec<u8> = (0..transfer.grains()).flat_map(|_| word.to_be_bytes()).collect();
    for step in transfer.steps.clone() {
        image.land(step, at, &cells);
    }
}

fn read_words(image: &Board, now: Moment, first: u32, count: u32) -> Result<Vec<u16>, Kind> {
    let mut out = vec![];
    match image.read(now, Extent { space: HOLDING, first, count }, &mut out) {
        Ok(()) => Ok(out.chunks(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect()),
        Err(refusal) => {
            assert!(out.is_empty(), "a refusal leaves nothing behind");
            Err(refusal.kind)
        }
    }
}

fn route(image: &Board, first: u32, words: &[u16]) -> Result<Vec<DeviceWrite>, Kind> {
    let cells: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
    let count = u32::try_from(words.len()).unwrap();
    let tasks = image.route(Extent { space: HOLDING, first, count }, &cells);
    let write = |task| match task {
        Task::Send(write) => Some(write),
        Task::Enter(_) => None,
    };
    tasks.map(|tasks| tasks.into_iter().filter_map(write).collect()).map_err(|refusal| refusal.kind)
}

#[test]
fn no_rule_comes_before_lost_and_zero_stands_for_unmapped_where_asked() {
    let (plain, _) = image(false);
    assert_eq!(read_words(&plain, Moment(0), 0, 4), Err(Kind::NeverSeen));
    assert_eq!(read_words(&plain, Moment(0), 8, 2), Err(Kind::NoSuchAddress), "the second is fed by none");
    assert_eq!(read_words(&plain, Moment(0), 65_535, 1), Err(Kind::NoSuchAddress));
    let (zero, _) = image(true);
    assert_eq!(read_words(&zero, Moment(0), 8, 3), Ok(vec![0xBEEF, 0, 0]));
    assert_eq!(read_words(&zero, Moment(0), 500, 2), Ok(vec![0, 0]));
    assert_eq!(read_words(&zero, Moment(0), 0, 4), Err(Kind::NeverSeen), "a lost value is never zero");
}

#[test]
fn words_are_put_into_order_and_a_misfit_is_lost_alone() {
    let (mut image, plan) = image(false);
    let first = &plan.transfers[0];
    assert_eq!((first.device(), first.grains()), (Some(0), 4));
    for step in first.steps.clone() {
        image.land(step, Moment(5), &[0x56, 0x78, 0x12, 0x34, 0, 2, 0, 1]);
    }
    assert_eq!(read_words(&image, Moment(5), 0, 4), Ok(vec![0x1234, 0x5678, 1, 2]));
    land(&mut image, &plan, 1, Moment(5), 0x8000);
    assert_eq!(read_words(&image, Moment(5), 4, 1), Err(Kind::Lost), "-32768 does not fit u16");
    land(&mut image, &plan, 1, Moment(6), 7);
    assert_eq!(read_words(&image, Moment(6), 4, 1), Ok(vec![7]));
}

#[test]
fn hold_shows_nothing_before_a_value_has_fitted() {
    let site =
        SITE.replace("to = \"scada:400005 as u16\"", "to = \"scada:400005 as u16\"\non-loss = \"hold\"");
    let (mut image, plan) = image_of(&site, false);
    land(&mut image, &plan, 1, Moment(5), 0x8000);
    assert_eq!(read_words(&image, Moment(5), 4, 1), Err(Kind::Lost), "0 would look live");
    land(&mut image, &plan, 1, Moment(6), 7);
    land(&mut image, &plan, 1, Moment(7), 0x8000);
    assert_eq!(read_words(&image, Moment(7), 4, 1), Ok(vec![7]), "the last one that fitted");
}

#[test]
fn a_write_is_routed_whole_values_in_address_order_and_joined_where_one_request_takes_them() {
    let (image, _) = image(false);
    let writes = route(&image, 4, &[5, 6, 7, 8]).unwrap();
    let told: Vec<(usize, u32, u32, &[u8])> =
        writes.iter().map(|w| (w.device, w.extent.first, w.extent.count, w.cells.as_slice())).collect();
    assert_eq!(told, [(0, 9, 1, &[0, 5][..]), (1, 0, 3, &[0, 6, 0, 7, 0, 8][..])]);
    assert_eq!(route(&image, 4, &[40_000]), Err(Kind::DoesNotFit));
    assert_eq!(route(&image, 0, &[1, 2]), Err(Kind::ReadOnly));
    assert_eq!(route(&image, 7, &[1, 2]), Err(Kind::ReadOnly), "400009 is read-only");
    assert_eq!(route(&image, 9, &[1]), Err(Kind::NoSuchAddress));
}

#[test]
fn what_was_written_is_shown_and_stays_as_fresh_as_it_was() {
    let (mut image, plan) = image(false);
    image.show_written(Extent { space: HOLDING, first: 5, count: 1 }, &[0, 9]);
    assert_eq!(read_words(&image, Moment(0), 5, 1), Err(Kind::NeverSeen), "a write is no reading");
    land(&mut image, &plan, 2, Moment(0), 3);
    image.show_written(Extent { space: HOLDING, first: 5, count: 1 }, &[0, 9]);
    assert_eq!(read_words(&image, Moment(1_000_000), 5, 2), Ok(vec![9, 3]));
}

/// What the model knows of one transfer: the word, when it landed, whether it is lost.
#[derive(Debug, Clone, Copy, Default)]
struct Known {
    word: u16,
    at: Option<u64>,
    lost: bool,
}

#[derive(Debug, Clone)]
enum Event {
    Land(usize, u16),
    Lose(usize),
    Pass(u64),
    Read(u32, u32),
}

fn event() -> impl Strategy<Value = Event> {
    prop_oneof![
        (0usize..4, 0u16..0x7FFF).prop_map(|(transfer, word)| Event::Land(transfer, word)),
        (0usize..4).prop_map(Event::Lose),
        (0u64..900_000).prop_map(Event::Pass),
        (0u32..10, 1u32..10).prop_map(|(first, count)| Event::Read(first, count)),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]
    #[test]
    fn a_reader_never_gets_a_value_older_than_its_age_nor_a_mixture(events in prop::collection::vec(event(), 1..60)) {
        let (mut image, plan) = image(false);
        let (mut known, mut now) = ([Known::default(); 4], 0u64);
        // Cells 0 to 3 come from the first transfer, 4 from the second, 5 to 7 from the third, 8 from the fourth.
        let source = |cell: u32| match cell { 0..=3 => 0, 4 => 1, 5..=7 => 2, 8 => 3, _ => 9 };
        for event in events {
            match event {
                Event::Land(transfer, word) => {
                    land(&mut image, &plan, transfer, Moment(now), word);
                    known[transfer] = Known { word, at: Some(now), lost: false };
                }
                Event::Lose(transfer) => {
                    plan.transfers[transfer].steps.clone().for_each(|step| image.lose(step));
                    known[transfer].lost = true;
                }
                Event::Pass(micros) => now += micros,
                Event::Read(first, count) => {
                    let cells: Vec<usize> = (first..first + count).map(source).collect();
                    let fresh = |k: &Known| !k.lost && k.at.is_some_and(|at| now - at <= 1_000_000);
                    let wanted = if cells.contains(&9) {
                        Err(())
                    } else {
                        cells.iter().map(|at| match (at, &known[*at]) {
                            (_, k) if fresh(k) => Ok(k.word),
                            (2, k) if k.at.is_some() => Ok(k.word),
                            (3, _) => Ok(0xBEEF),
                            _ => Err(()),
                        }).collect()
                    };
                    let got = read_words(&image, Moment(now), first, count);
                    prop_assert_eq!(got.map_err(|_| ()), wanted);
                }
            }
        }
    }
}
