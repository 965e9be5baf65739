//! An address followed through the converter to the other side, down to the request bytes.
//!
//! The stations are those that the value really passes: reader's request, image cell, rule, poll, device.

mod frames;

use crate::check::Checked;
use crate::form::{Conversion, Form, Type, Value, hex_words};
use crate::plan::{Plan, PlannedRule, Source, Station};
use crate::project::{Endpoint, OnLoss, Owner, Target, show_micros};
use crate::protocol::{Example, Extent, Grain, Place, Requests, Setup, Space, Verb};
use frames::comes;
pub use frames::{TracedCycle, TracedFrame};
use serde::Serialize;

/// One value's way through the converter, as data; every rendering shows the same.
#[derive(Debug, Clone, Serialize)]
pub struct Trace {
    /// The address in the image, both notations.
    pub shown: String,
    /// What the reader sends and gets; nothing where a frame brings it.
    pub read: Option<Exchange>,
    /// The frame that brings it to the target.
    pub frame: Option<TracedFrame>,
    /// Which cell, in words.
    pub cell: String,
    /// What a reader gets once the source is lost.
    pub on_loss: String,
    /// The rule as it stands in the file.
    pub rule: RuleText,
    /// The source, both notations or the health item.
    pub source: String,
    /// A device is sent the value; else an image shows it.
    pub sent: bool,
    /// A write at the target goes back to the source.
    pub both_ways: bool,
    /// The request that feeds it; nothing where no device is polled.
    pub poll: Option<Poll>,
    /// The frames in which it comes from the source; nothing where none does.
    pub comes: Option<TracedCycle>,
    /// Who else feeds it, in words.
    pub fed: Option<String>,
    /// From the source's words to the target's.
    pub conversion: Worked,
    /// What clients may write, and what becomes of it.
    pub writes: Vec<TracedWrite>,
}

/// Request and answer in hex.
#[derive(Debug, Clone, Serialize)]
pub struct Exchange {
    /// In words.
    pub words: String,
    /// Bytes in hex, blank-separated.
    pub request: String,
    /// Bytes in hex, blank-separated.
    pub answer: String,
}

impl Exchange {
    fn of(example: &Example) -> Self {
        Self { words: example.words.clone(), request: hex(&example.request), answer: hex(&example.answer) }
    }
}

/// Where the rule stands.
#[derive(Debug, Clone, Serialize)]
pub struct RuleText {
    /// Its name, where it has one.
    pub name: Option<String>,
    /// File and line.
    pub at: String,
    /// `from`, as written.
    pub from: String,
    /// `to`, as written.
    pub to: String,
    /// Which of its values this is, from 1, and how many there are.
    pub value: (u32, u32),
}

/// The request that feeds the value.
#[derive(Debug, Clone, Serialize)]
pub struct Poll {
    /// The device with its station.
    pub device: String,
    /// How often, in microseconds.
    pub every_us: u64,
    /// Its time on the line, in microseconds.
    pub takes_us: u64,
    /// Whether that time was assumed: over TCP it is not known beforehand.
    pub assumed: bool,
    /// Whether it comes by itself, and the exchange is what is said once for it and what comes then.
    pub published: bool,
    /// The exchange, with the example's words in the answer and 0 elsewhere.
    pub exchange: Exchange,
}

/// A worked example of the conversion.
#[derive(Debug, Clone, Serialize)]
pub struct Worked {
    /// The form at the source.
    pub from: String,
    /// The form at the target.
    pub to: String,
    /// The words at the source, in hex.
    pub source_words: String,
    /// What they mean.
    #[serde(serialize_with = "crate::shown::one")]
    pub value: String,
    /// Its engineering unit.
    pub eu: Option<String>,
    /// The words at the target, in hex; nothing where the value does not fit.
    pub target_words: Option<String>,
}

/// What a client's write becomes.
#[derive(Debug, Clone, Serialize)]
pub struct TracedWrite {
    /// Where, both notations.
    pub at: String,
    /// The same as the reference alone: the request's words say the offset.
    #[serde(skip)]
    pub reference: String,
    /// The client's request.
    pub client: Exchange,
    /// What becomes of it, in words.
    pub becomes: String,
    /// The converter's request to the device; nothing where an image shows it.
    pub device: Option<Exchange>,
}

/// Follows an endpoint: an image address to its source, a device's point or address to everywhere it is shown.
#[must_use]
pub fn trace(checked: &Checked, endpoint: &Endpoint) -> Vec<Trace> {
    let Checked { plan, .. } = checked;
    match (&endpoint.target, endpoint.owner) {
        (Target::Cells(address, _), Owner::Image(image)) => {
            let id = plan.images.get(image).and_then(|station| station.spaces.id(&address.space.key));
            let rules = plan
                .rules
                .iter()
                .filter(|rule| rule.board == image && Some(rule.target.space) == id)
                .filter(|rule| rule.source != Source::Client);
            let shown = rules.filter_map(|rule| follow(checked, rule, within(rule.target, address.first)?));
            let carried = plan.rules.iter().filter_map(|rule| match rule.source {
                Source::ClientCells { image: from, place, .. }
                | Source::Values { owner: Owner::Image(from), place, .. }
                    if from == image && Some(place.space) == id =>
                {
                    follow(checked, rule, within(place, address.first)?)
                }
                _ => None,
            });
            shown.chain(carried).collect()
        }
        (Target::Cells(address, _), Owner::Device(at)) => {
            let id = plan.devices.get(at).and_then(|station| station.spaces.id(&address.space.key));
            let found = plan.rules.iter().filter_map(|rule| match rule.source {
                Source::Values { owner: Owner::Device(device), place, .. }
                    if device == at && Some(place.space) == id =>
                {
                    follow(checked, rule, within(place, address.first)?)
                }
                _ if plan.sink(rule) == Some(at) && Some(rule.target.space) == id => {
                    follow(checked, rule, within(rule.target, address.first)?)
                }
                _ => None,
            });
            found.collect()
        }
        (Target::Health(wanted), _) => {
            let same = |rule: &&PlannedRule| rule.source == Source::Health(*wanted);
            plan.rules.iter().filter(same).filter_map(|rule| follow(checked, rule, 0)).collect()
        }
        (Target::Cells(..), Owner::Converter) => vec![],
    }
}

/// Which of a place's values lies over a grain.
fn within(place: Place, grain: u32) -> Option<u32> {
    let item = grain.checked_sub(place.first)? / place.width.max(1);
    (item < place.count).then_some(item)
}

fn follow(checked: &Checked, rule: &PlannedRule, item: u32) -> Option<Trace> {
    let Checked { project, plan, .. } = checked;
    let map = project.maps.get(rule.map)?;
    let board = plan.board(rule.board)?;
    let sends = plan.sink(rule).is_some();
    let target = rule.target.item(item);
    let target_space = board.space_at(target.space)?;
    let each = target_space.grain.cell_bytes();
    let mut target_cells = vec![0; if rule.target.bit.is_some() { 1 } else { target.count as usize * each }];
    let (station, place) = match rule.source {
        Source::Values { owner, place, .. } => (plan.station(owner), Some(place)),
        Source::ClientCells { image, place, .. } => (plan.images.get(image), Some(place)),
        Source::Health(_) | Source::Client => (None, None),
    };
    let source = place.map(|place| (place, place.item(item)));
    let source_space = station.zip(place).and_then(|(station, place)| station.space_at(place.space));
    let source_bytes = match (source, source_space) {
        (Some((place, extent)), Some(space)) if place.bit.is_none() => {
            extent.count as usize * space.grain.cell_bytes()
        }
        (Some(_), _) => 1,
        (None, _) => rule.conversion.from.ty.bytes().map_or(1, |bytes| bytes as usize),
    };
    let eu = point_of(checked, rule).and_then(|point| point.eu.clone());
    let source_cells = sample(&rule.conversion.from, source_bytes);
    let fits = rule.conversion.convert(&source_cells, &mut target_cells).is_ok();
    let value = Conversion::shown(&rule.conversion.from, &source_cells).unwrap_or_default();
    let position = project.sources.position(map.from.span);
    let dialect = board.dialect?;
    let frame = frames::goes(board, target_space, target, rule.target.bit, &target_cells);
    // What goes in a frame is asked by nobody.
    let read = if frame.is_some() {
        None
    } else if sends {
        Some(written(
            dialect.requests()?,
            target_space,
            target.first,
            rule.target.bit,
            &target_cells,
            &board.setup,
        ))
    } else {
        let whole = rule.target.bit.map(|bit| {
            let mut whole = vec![0; each];
            crate::cells::set_bit(&mut whole, bit, target_cells != [0]);
            whole
        });
        let cells = whole.as_ref().unwrap_or(&target_cells);
        Some(dialect.requests()?.example(Verb::Read, target_space, target.first, cells, &board.setup))
    };
    let worked = Worked {
        from: rule.conversion.from.to_string(),
        to: rule.conversion.to.to_string(),
        source_words: words(&source_cells, source_space.is_some_and(|space| space.grain == Grain::Bit)),
        value,
        eu,
        target_words: fits.then(|| words(&target_cells, target_space.grain == Grain::Bit)),
    };
    Some(Trace {
        shown: board.show_wide(target.space, target.first, target.count, rule.target.bit),
        read: read.as_ref().map(Exchange::of),
        cell: cell(if sends { "device" } else { "image" }, board, target_space, target),
        on_loss: match (frame.is_some(), sends) {
            (true, true) => frames::idle(rule),
            (_, true) => sending(rule),
            (_, false) => loss(board, rule),
        },
        frame,
        rule: RuleText {
            name: map.name.as_ref().map(|name| name.value.clone()),
            at: format!("{}:{}", position.file, position.line),
            from: map.from.value.clone(),
            to: map.to.value.clone(),
            value: (item + 1, rule.target.count),
        },
        source: match (rule.source, source) {
            (Source::Health(told), _) => told.show(project),
            (_, Some((place, extent))) => {
                let shown =
                    |station: &Station| station.show_wide(place.space, extent.first, extent.count, place.bit);
                station.map(shown).unwrap_or_default()
            }
            (_, None) => "what clients write".into(),
        },
        poll: source.and_then(|(place, extent)| poll(checked, rule, place.bit, extent, &source_cells)),
        comes: source.and_then(|(place, extent)| comes(checked, rule, place.bit, extent, &source_cells)),
        conversion: worked,
        sent: sends,
        both_ways: rule.writable,
        fed: fed(checked, rule),
        writes: if fits { writes(plan, rule, item, (&source_cells, &target_cells)) } else { vec![] },
    })
}

/// What feeds a rule that polls no device.
fn fed(checked: &Checked, rule: &PlannedRule) -> Option<String> {
    match rule.source {
        Source::Values { .. } => None,
        Source::ClientCells { image, .. } => {
            let station = checked.plan.images.get(image)?;
            Some(format!("written by clients of {}, not polled", station.name))
        }
        Source::Health(_) | Source::Client => Some("health of the converter, not polled".into()),
    }
}

/// One end of a rule as a client or the converter would write it.
struct There {
    at: String,
    reference: String,
    exchange: Exchange,
}

/// How a value is written; one bit of a register so that its other bits stay.
fn written(
    requests: &dyn Requests,
    space: &Space,
    first: u32,
    bit: Option<u8>,
    cells: &[u8],
    setup: &Setup,
) -> Example {
    let Some(bit) = bit else { return requests.example(Verb::Write, space, first, cells, setup) };
    let on = cells.first().is_some_and(|on| *on != 0);
    requests.example_bit(space, first, bit, on, setup).unwrap_or_else(|| {
        let mut register = vec![0; space.grain.cell_bytes()];
        crate::cells::set_bit(&mut register, bit, on);
        requests.example(Verb::Write, space, first, &register, setup)
    })
}

fn there(board: Option<&Station>, place: Place, item: u32, cells: &[u8]) -> Option<There> {
    let board = board?;
    let (space, dialect, extent) = (board.space_at(place.space)?, board.dialect?, place.item(item));
    let example = written(dialect.requests()?, space, extent.first, place.bit, cells, &board.setup);
    let shown = dialect.notation().show(space, extent.first, extent.count, place.bit, &board.setup);
    Some(There {
        at: format!("{}:{shown}", board.name),
        reference: format!("{}:{}", board.name, shown.canonical),
        exchange: Exchange::of(&example),
    })
}

impl There {
    /// A client writes here, and a device must take it there.
    fn onto(self, device: Self) -> TracedWrite {
        let becomes = format!("becomes at the device: {}", device.exchange.words);
        let Self { at, reference, exchange } = self;
        TracedWrite { at, reference, client: exchange, becomes, device: Some(device.exchange) }
    }

    /// A client writes here, and another image shows it there.
    fn shown_as(&self, other: &Self) -> TracedWrite {
        TracedWrite {
            at: self.at.clone(),
            reference: self.reference.clone(),
            client: self.exchange.clone(),
            becomes: format!("is shown as {} at once", other.at),
            device: None,
        }
    }
}

/// What clients may write over a rule, each with an example of the same value.
fn writes(plan: &Plan, rule: &PlannedRule, item: u32, (source, target): (&[u8], &[u8])) -> Vec<TracedWrite> {
    let (station, place) = match rule.source {
        Source::Values { owner, place, .. } => (plan.station(owner), place),
        Source::ClientCells { image, place, .. } => (plan.images.get(image), place),
        Source::Health(_) | Source::Client => return vec![],
    };
    let ends =
        there(station, place, item, source).zip(there(plan.board(rule.board), rule.target, item, target));
    let Some((from, to)) = ends else { return vec![] };
    match rule.source {
        Source::Values { .. } if rule.writable => vec![to.onto(from)],
        Source::Values { .. } => vec![],
        _ if plan.sink(rule).is_some() => vec![from.onto(to)],
        _ if rule.writable => vec![from.shown_as(&to), to.shown_as(&from)],
        _ => vec![from.shown_as(&to)],
    }
}

fn point_of<'a>(checked: &'a Checked, rule: &PlannedRule) -> Option<&'a crate::project::Point> {
    match rule.source {
        Source::Values { owner: Owner::Device(device), point: Some(point), .. } => {
            checked.project.profile_of(device)?.points.get(point)
        }
        _ => None,
    }
}

fn cell(whose: &str, board: &Station, space: &Space, extent: Extent) -> String {
    let last = extent.end() - 1;
    if last == extent.first {
        format!("{whose} {}, {} {}", board.name, space.name(), extent.first)
    } else {
        format!("{whose} {}, {} {} to {last}", board.name, space.name(), extent.first)
    }
}

fn loss(image: &Station, rule: &PlannedRule) -> String {
    let after = match (rule.max_age, rule.source) {
        (u64::MAX, Source::Values { .. }) => "its watchdog".to_string(),
        (age, _) => show_micros(age),
    };
    match (rule.source, rule.on_loss) {
        (Source::Health(_), _) => "health is never refused".into(),
        (Source::ClientCells { .. }, _) if rule.max_age == u64::MAX => {
            "refused until a client has written it".into()
        }
        (_, OnLoss::Refuse) => {
            let answer = image.dialect.map_or("a refusal", |dialect| dialect.refusals().lost);
            format!("refused with {answer} once older than {after}")
        }
        (_, OnLoss::Stop) => String::new(),
        (_, OnLoss::Hold) => format!("the last value goes on being shown once older than {after}"),
        (_, OnLoss::Fill(word)) => format!("0x{word:04X} is shown once older than {after}"),
    }
}

/// When a device is written, and what it gets once the source is lost.
fn sending(rule: &PlannedRule) -> String {
    let mut when = vec![];
    when.extend(rule.sending.on_write.then(|| "at each write of a client".to_string()));
    when.extend(rule.sending.on_change.then(|| "when the value changes".to_string()));
    when.extend(rule.sending.every.map(|every| format!("every {}", show_micros(every))));
    let lost = match (rule.source, rule.on_loss) {
        (Source::Health(_), _) => return format!("sent {}", when.join(" and ")),
        (_, OnLoss::Hold) => "the last value goes on being sent".into(),
        (_, OnLoss::Fill(word)) => format!("0x{word:04X} is sent once"),
        (Source::ClientCells { .. } | Source::Client, _) if rule.max_age == u64::MAX => {
            return format!("sent {}", when.join(" and "));
        }
        _ => "nothing is sent".to_string(),
    };
    let after = match rule.max_age {
        u64::MAX if matches!(rule.source, Source::Values { .. }) => ", when its controller stops".into(),
        u64::MAX => String::new(),
        age => format!(" once older than {}", show_micros(age)),
    };
    format!("sent {}; {lost}{after}", when.join(" and "))
}

fn poll(
    checked: &Checked,
    rule: &PlannedRule,
    bit: Option<u8>,
    extent: Extent,
    cells: &[u8],
) -> Option<Poll> {
    let plan = &checked.plan;
    let Source::Values { owner: Owner::Device(device), .. } = rule.source else { return None };
    let holds = |t: &&crate::plan::Transfer| {
        t.device() == Some(plan.host(device))
            && t.cadence.interval() == rule.every
            && t.cadence.is_asked() != rule.published
            && t.part_over(extent).is_some()
    };
    let transfer = plan.transfers.iter().find(holds)?;
    let part = transfer.part_over(extent)?;
    let station = plan.devices.get(device)?;
    let space = station.space_at(extent.space)?;
    let each = space.grain.cell_bytes();
    let mut answer = vec![0; part.count as usize * each];
    let at = (extent.first - part.first) as usize * each;
    match bit {
        // The example's bit where it lies in its register.
        Some(bit) => {
            let on = cells.first().is_some_and(|cell| *cell != 0);
            crate::cells::set_bit(answer.get_mut(at..at + each)?, bit, on);
        }
        None => answer.get_mut(at..at + cells.len())?.copy_from_slice(cells),
    }
    let dialect = station.dialect?;
    let requests = dialect.requests()?;
    let published = !transfer.cadence.is_asked();
    let exchange = match published {
        true => requests.published_example(space, &answer, &station.setup)?,
        false => requests.example(Verb::Read, space, part.first, &answer, &station.setup),
    };
    let key = dialect.stations().station_key(crate::protocol::Transport::Serial).map_or("", |(key, _)| key);
    Some(Poll {
        device: match station.id() {
            Some(number) => format!("{}, {key} {number}", station.name),
            None => station.name.clone(),
        },
        every_us: transfer.cadence.interval(),
        takes_us: transfer.takes,
        assumed: plan.lines.get(station.port).is_some_and(|line| line.round_trip() > 0),
        published,
        exchange: Exchange::of(&exchange),
    })
}

/// A value that tells its bytes apart, in the words of its form.
fn sample(form: &Form, bytes: usize) -> Vec<u8> {
    let mut cells = vec![0; bytes];
    let value = match form.ty {
        Type::Bool => Value::Bit(true),
        Type::F32 | Type::F64 => Value::Float(17.46),
        Type::Text(_) => Value::Text(b"Ro".to_vec()),
        Type::Raw if bytes < 2 => Value::Whole(1),
        Type::Raw => Value::Whole(0x1234),
        Type::U8 | Type::I8 => Value::Whole(0x12),
        Type::U32 | Type::I32 | Type::U64 | Type::I64 => Value::Whole(0x1234_5678),
        Type::Bcd32 => Value::Whole(12_345_678),
        Type::U16 | Type::I16 | Type::Bcd16 => Value::Whole(1746),
    };
    value.write(form.ty, &mut cells);
    form.order().apply(&mut cells);
    cells
}

/// Cells as words in hex; bits one by one, the first first.
fn words(cells: &[u8], bits: bool) -> String {
    match cells {
        [bit] => bit.to_string(),
        _ if bits => cells.iter().map(ToString::to_string).collect::<Vec<_>>().join(" "),
        _ => hex_words(cells),
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ")
}
