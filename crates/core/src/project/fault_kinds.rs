//! Every kind of fault of the rig, in one table.

use super::faults::{Changes, FaultKind, FaultNumber, FaultValue, LineFaults, Takes};
use crate::protocol::{Key, KeyKind};

const fn key(name: &'static str, doc: &'static str) -> Key {
    Key { table: "faults", name, kind: KeyKind::Text, doc }
}

const fn of_line(
    key: Key,
    takes: Takes,
    set: fn(&mut LineFaults, Option<FaultValue>),
    says: &'static str,
) -> FaultKind {
    let changes = Changes::Line(set);
    FaultKind {
        key,
        takes,
        changes,
        says,
        shown: "",
        of_station: false,
        of_acknowledgements: false,
        of_publications: false,
        of_cycles: false,
        of_controllers: false,
    }
}

const fn of_device(
    key: Key,
    takes: Takes,
    changes: Changes,
    says: &'static str,
    shown: &'static str,
) -> FaultKind {
    FaultKind {
        key,
        takes,
        changes,
        says,
        shown,
        of_station: false,
        of_acknowledgements: false,
        of_publications: false,
        of_cycles: false,
        of_controllers: false,
    }
}

/// Whether it is there, for faults that take nothing.
fn on(is_on: bool) -> Option<FaultValue> {
    is_on.then_some(FaultValue::On)
}

/// Bytes of a port stop both ways; nothing closes.
pub static CUT: FaultKind = of_line(
    key("cut", "a port whose bytes stop both ways"),
    Takes::Nothing,
    |line, value| line.cut = value.is_some(),
    "is cut: bytes stop both ways, nothing closes",
);

/// A port's adapter or connection goes away.
pub static UNPLUG: FaultKind = of_line(
    key("unplug", "a port whose adapter or connection goes away"),
    Takes::Nothing,
    |line, value| line.unplugged = value.is_some(),
    "is unplugged: its adapter or connection is gone",
);

/// A share of a port's bytes is damaged.
pub static NOISE: FaultKind = of_line(
    key("noise", "a port and the share of its bytes that are damaged"),
    Takes::Share,
    |line, value| line.noise = value.map_or(0.0, FaultValue::share),
    "has {} in 1000 bytes damaged",
);

/// A device does not answer.
pub static MUTE: FaultKind = of_device(
    key("mute", "a device that does not answer"),
    Takes::Nothing,
    Changes::Device(|device, value| device.mute = value.is_some(), |device| on(device.mute)),
    "no longer answers",
    "mute",
);

/// A device answers later.
pub static SLOW: FaultKind = of_device(
    key("slow", "a device and how much later it answers"),
    Takes::Duration,
    Changes::Device(
        |device, value| device.slow = value.map_or(0, FaultValue::micros),
        |device| (device.slow > 0).then_some(FaultValue::Micros(device.slow)),
    ),
    "answers {} later",
    "slow {}",
);

/// A device answers every request with a code.
pub static REFUSE: FaultKind = of_device(
    key("refuse", "a device and the exception it answers with"),
    Takes::Number(FaultNumber::Exception),
    Changes::Device(
        |device, value| device.refuse = value.and_then(FaultValue::number),
        |device| device.refuse.map(FaultValue::Number),
    ),
    "answers every request with {}",
    "refuses with {}",
);

/// A device answers after the timeout.
pub static LATE: FaultKind = of_device(
    key("late", "a device whose answers come after the timeout"),
    Takes::Nothing,
    Changes::Device(|device, value| device.late = value.is_some(), |device| on(device.late)),
    "answers after the timeout",
    "late",
);

/// A device sends each answer twice.
pub static TWICE: FaultKind = of_device(
    key("twice", "a device that sends each answer twice"),
    Takes::Nothing,
    Changes::Device(|device, value| device.twice = value.is_some(), |device| on(device.twice)),
    "sends each answer twice",
    "twice",
);

/// A device's answers end too early.
pub static SHORT: FaultKind = of_device(
    key("short", "a device whose answers end too early"),
    Takes::Nothing,
    Changes::Device(|device, value| device.short = value.is_some(), |device| on(device.short)),
    "ends its answers too early",
    "short",
);

/// A device answers as another unit.
pub static AS_UNIT: FaultKind = FaultKind {
    of_station: true,
    ..of_device(
        key("as-unit", "a device and the unit that it answers as"),
        Takes::Number(FaultNumber::Unit),
        Changes::Device(
            |device, value| device.as_unit = value.and_then(FaultValue::number),
            |device| device.as_unit.map(FaultValue::Number),
        ),
        "answers as unit {}",
        "answers as unit {}",
    )
};

/// A device's acknowledgements get lost, the first of each message.
pub static DROP_ACK: FaultKind = FaultKind {
    of_station: true,
    of_acknowledgements: true,
    ..of_device(
        key("drop-ack", "a device whose acknowledgements get lost, the first of each message"),
        Takes::Nothing,
        Changes::Device(|device, value| device.drop_ack = value.is_some(), |device| on(device.drop_ack)),
        "loses the first acknowledgement of each message",
        "its acknowledgements get lost",
    )
};

/// Connections to a port are refused.
pub static CLOSE: FaultKind = of_line(
    key("close", "a port at which connections are refused"),
    Takes::Nothing,
    |line, value| line.closed = value.is_some(),
    "is closed: connections are refused",
);

/// A device takes no writes.
pub static READ_ONLY: FaultKind = of_device(
    key("read-only", "a device that takes no writes"),
    Takes::Nothing,
    Changes::Device(|device, value| device.read_only = value.is_some(), |device| on(device.read_only)),
    "takes no writes",
    "read-only",
);

/// A tag of a device has another name.
pub static RENAME: FaultKind = FaultKind {
    of_station: true,
    ..of_device(
        key("rename", "a device and the tag of it that has another name"),
        Takes::Tag,
        Changes::Device(
            |device, value| device.renamed = value.and_then(FaultValue::space),
            |device| device.renamed.map(FaultValue::Space),
        ),
        "has another name for {}",
        "{} has another name",
    )
};

/// A tag of a device has another type.
pub static RETYPE: FaultKind = FaultKind {
    of_station: true,
    ..of_device(
        key("retype", "a device and the tag of it that has another type"),
        Takes::Tag,
        Changes::Device(
            |device, value| device.retyped = value.and_then(FaultValue::space),
            |device| device.retyped.map(FaultValue::Space),
        ),
        "has another type for {}",
        "{} has another type",
    )
};

const fn of_segment(
    key: Key,
    takes: Takes,
    changes: Changes,
    says: &'static str,
    shown: &'static str,
) -> FaultKind {
    FaultKind { of_publications: true, of_station: true, ..of_device(key, takes, changes, says, shown) }
}

/// What a device measures has a status that is not good.
static BAD_STATUS: FaultKind = of_segment(
    key("bad-status", "a device and the status byte of what it measures, such as 0x10 for a sensor failure"),
    Takes::Number(FaultNumber::Status),
    Changes::Device(
        |device, value| device.bad_status = value.and_then(FaultValue::number),
        |device| device.bad_status.map(FaultValue::Number),
    ),
    "measures with {}",
    "measures with {}",
);

/// A device is out of service as a whole.
static OUT_OF_SERVICE: FaultKind = of_segment(
    key("out-of-service", "a device whose resource block is out of service"),
    Takes::Nothing,
    Changes::Device(
        |device, value| device.out_of_service = value.is_some(),
        |device| on(device.out_of_service),
    ),
    "is out of service",
    "out of service",
);

/// Another device of the kind stands in a device's place.
static SWAP: FaultKind = of_segment(
    key("swap", "a device that is replaced by another one with its tag"),
    Takes::Nothing,
    Changes::Device(|device, value| device.swapped = value.is_some(), |device| on(device.swapped)),
    "is another device now, with its tag",
    "replaced",
);

/// A device answers at another node.
static MOVE: FaultKind = of_segment(
    key("move", "a device and the node that it moves to"),
    Takes::Number(FaultNumber::Node),
    Changes::Device(
        |device, value| device.moved_to = value.and_then(FaultValue::number),
        |device| device.moved_to.map(FaultValue::Number),
    ),
    "is at node {} now",
    "at node {}",
);

/// A device's publications come later.
static LATE_PUBLICATIONS: FaultKind = of_segment(
    key("late-publications", "a device and how much later its publications come"),
    Takes::Duration,
    Changes::Device(
        |device, value| device.late_publications = value.map_or(0, FaultValue::micros),
        |device| (device.late_publications > 0).then_some(FaultValue::Micros(device.late_publications)),
    ),
    "publishes {} later",
    "publishes {} later",
);

/// A share of a device's publications does not come.
static DROP_PUBLICATIONS: FaultKind = of_segment(
    key("drop-publications", "a device and the share of its publications that do not come"),
    Takes::Share,
    Changes::Device(
        |device, value| device.dropped_publications = value.map_or(0, FaultValue::per_mille),
        |device| {
            let share = f64::from(device.dropped_publications) / 1000.0;
            (device.dropped_publications > 0).then_some(FaultValue::Share(share))
        },
    ),
    "loses {} in 1000 publications",
    "loses {} in 1000 publications",
);

/// A device is locked against writes.
static WRITE_LOCK: FaultKind = of_segment(
    key("write-lock", "a device whose switch locks it against writes"),
    Takes::Nothing,
    Changes::Device(|device, value| device.write_lock = value.is_some(), |device| on(device.write_lock)),
    "is locked against writes",
    "write-locked",
);

/// A device's blocks are in no schedule.
static UNSCHEDULED: FaultKind = of_segment(
    key("unscheduled", "a device whose blocks are in no schedule, so that none of them runs"),
    Takes::Nothing,
    Changes::Device(|device, value| device.unscheduled = value.is_some(), |device| on(device.unscheduled)),
    "is in no schedule: its blocks do not run",
    "in no schedule",
);

/// A device is as it left its maker.
static AS_SHIPPED: FaultKind = of_segment(
    key("as-shipped", "a device that is not set up: its blocks are out of service"),
    Takes::Nothing,
    Changes::Device(
        // Once more is once more, whatever was set up in between.
        |device, value| {
            device.as_shipped = if value.is_some() { device.as_shipped.saturating_add(1) } else { 0 }
        },
        |device| on(device.as_shipped > 0),
    ),
    "is as it left its maker: its blocks are out of service",
    "as shipped",
);

/// A segment has no link active scheduler.
static NO_MASTER: FaultKind = FaultKind {
    of_publications: true,
    ..of_line(
        key("no-master", "a port whose segment has no link active scheduler"),
        Takes::Nothing,
        |line, value| line.no_master = value.is_some(),
        "has no link active scheduler: nothing is published",
    )
};

const fn of_exchange(
    key: Key,
    takes: Takes,
    changes: Changes,
    says: &'static str,
    shown: &'static str,
) -> FaultKind {
    FaultKind { of_cycles: true, ..of_device(key, takes, changes, says, shown) }
}

/// What an end sends in cycles stands still.
static FREEZE: FaultKind = of_exchange(
    key("freeze", "a device or client whose frames go on with the same bytes"),
    Takes::Nothing,
    Changes::Device(|device, value| device.frozen = value.is_some(), |device| on(device.frozen)),
    "sends the same bytes from now on",
    "frozen",
);

/// A controller says that it is idle.
pub static IDLE: FaultKind = FaultKind {
    of_controllers: true,
    ..of_exchange(
        key("idle", "a client that says in its frames that it is idle"),
        Takes::Nothing,
        Changes::Device(|device, value| device.idles = value.is_some(), |device| on(device.idles)),
        "is idle",
        "idle",
    )
};

/// A share of an end's frames gets lost.
static DROP_CYCLES: FaultKind = of_exchange(
    key("drop-cycles", "a device or client and the share of its frames that get lost"),
    Takes::Share,
    Changes::Device(
        |device, value| device.dropped_cycles = value.map_or(0, FaultValue::per_mille),
        |device| {
            let share = f64::from(device.dropped_cycles) / 1000.0;
            (device.dropped_cycles > 0).then_some(FaultValue::Share(share))
        },
    ),
    "loses {} in 1000 frames",
    "loses {} in 1000 frames",
);

/// An end's frames come later.
static LATE_CYCLES: FaultKind = of_exchange(
    key("late-cycles", "a device or client and how much later its frames come"),
    Takes::Duration,
    Changes::Device(
        |device, value| device.late_cycles = value.map_or(0, FaultValue::micros),
        |device| (device.late_cycles > 0).then_some(FaultValue::Micros(device.late_cycles)),
    ),
    "sends its frames {} later",
    "frames {} later",
);

/// An end has another size than was agreed.
pub static WRONG_SIZE: FaultKind = of_exchange(
    key("wrong-size", "a client that asks for another size, or a device that sends one"),
    Takes::Nothing,
    Changes::Device(|device, value| device.wrong_size = value.is_some(), |device| on(device.wrong_size)),
    "has another size than was agreed",
    "another size",
);

/// Another controller wants the same outputs.
pub static SECOND_OWNER: FaultKind = FaultKind {
    of_controllers: true,
    ..of_exchange(
        key("second-owner", "a client whose outputs another controller wants as well"),
        Takes::Nothing,
        Changes::Device(
            |device, value| device.second_owner = value.is_some(),
            |device| on(device.second_owner),
        ),
        "has a rival that wants the same outputs",
        "a second owner",
    )
};

/// A controller expects another module than there is.
pub(super) static WRONG_SLOT: FaultKind = FaultKind {
    of_controllers: true,
    ..of_exchange(
        key("wrong-slot", "a client that expects another module in its last slot than is plugged"),
        Takes::Nothing,
        Changes::Device(|device, value| device.wrong_slot = value.is_some(), |device| on(device.wrong_slot)),
        "expects another module in its last slot",
        "a wrong slot",
    )
};

/// Another station has the name that a controller looks for.
pub(super) static NAME_TAKEN: FaultKind = FaultKind {
    of_controllers: true,
    ..of_exchange(
        key("name-taken", "a client beside which another station has the name that it looks for"),
        Takes::Nothing,
        Changes::Device(|device, value| device.name_taken = value.is_some(), |device| on(device.name_taken)),
        "finds a second station of the same name",
        "its station's name taken",
    )
};

/// Every kind of fault.
pub static FAULTS: [&FaultKind; 33] = [
    &CUT,
    &UNPLUG,
    &CLOSE,
    &NOISE,
    &MUTE,
    &SLOW,
    &REFUSE,
    &LATE,
    &TWICE,
    &SHORT,
    &AS_UNIT,
    &DROP_ACK,
    &READ_ONLY,
    &RENAME,
    &RETYPE,
    &BAD_STATUS,
    &OUT_OF_SERVICE,
    &SWAP,
    &MOVE,
    &LATE_PUBLICATIONS,
    &DROP_PUBLICATIONS,
    &WRITE_LOCK,
    &UNSCHEDULED,
    &AS_SHIPPED,
    &NO_MASTER,
    &FREEZE,
    &IDLE,
    &DROP_CYCLES,
    &LATE_CYCLES,
    &WRONG_SIZE,
    &SECOND_OWNER,
    &WRONG_SLOT,
    &NAME_TAKEN,
];
