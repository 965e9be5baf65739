//! Modbus: questions and refusals between spaces and PDUs, the same for all framings.

mod diagnosis;
mod line_client;
mod observer;
mod plain_reads;
mod question;
mod server;
mod tcp_client;
#[cfg(test)]
mod tests;
mod unsettled;

use super::{BitChange, Exchange, Message, Speaker, Want};
use question::Question;
use server::{Framing, ModbusServer};
use woodrush_core::protocol::{Extent, Setup, SpaceId};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::modbus::{Exception, Request, Response, Table, pack, unpack};

/// `modbus-rtu`.
pub(super) const RTU: Speaker = Speaker {
    name: "modbus-rtu",
    client: Some(|setup| Box::new(line_client::LineClient::rtu(setup))),
    server: Some(|setup| Box::new(ModbusServer::new(Framing::Rtu, setup))),
    observer: |setup| Box::new(observer::ModbusObserver::new(Framing::Rtu, setup)),
    behaviour: None,
    node: None,
    finder: None,
    roll_call: None,
    discovery: None,
    frames: None,
};

/// `modbus-ascii`.
pub(super) const ASCII: Speaker = Speaker {
    name: "modbus-ascii",
    client: Some(|setup| Box::new(line_client::LineClient::ascii(setup))),
    server: Some(|setup| Box::new(ModbusServer::new(Framing::Ascii, setup))),
    observer: |setup| Box::new(observer::ModbusObserver::new(Framing::Ascii, setup)),
    behaviour: None,
    node: None,
    finder: None,
    roll_call: None,
    discovery: None,
    frames: None,
};

/// `modbus-tcp`.
pub(super) const TCP: Speaker = Speaker {
    name: "modbus-tcp",
    client: Some(|setup| Box::new(tcp_client::TcpClient::new(setup))),
    server: Some(|setup| Box::new(ModbusServer::new(Framing::Tcp, setup))),
    observer: |setup| Box::new(observer::ModbusObserver::new(Framing::Tcp, setup)),
    behaviour: None,
    node: None,
    finder: None,
    roll_call: None,
    discovery: None,
    frames: None,
};

/// The name under which refusals carry an exception code.
pub(crate) const NATIVE: &str = "Modbus exception";

/// The table of a space: the dialect's standing spaces come in the order of [`Table::ALL`].
fn table(id: SpaceId) -> Table {
    Table::ALL.get(id.index()).copied().unwrap_or(Table::HoldingRegister)
}

fn space(table: Table) -> SpaceId {
    let at = Table::ALL.iter().position(|known| *known == table).unwrap_or_default();
    SpaceId(u32::try_from(at).unwrap_or_default())
}

fn unit(setup: &Setup) -> u8 {
    setup.number("unit").and_then(|unit| u8::try_from(unit).ok()).unwrap_or(1)
}

/// A device's exception as a refusal.
fn refusal(exception: Exception) -> Refusal {
    let kind = match exception {
        Exception::ILLEGAL_FUNCTION => Kind::NoSuchCommand,
        Exception::ILLEGAL_DATA_ADDRESS => Kind::NoSuchAddress,
        Exception::ILLEGAL_DATA_VALUE => Kind::BadValue,
        Exception::ACKNOWLEDGE | Exception::SERVER_DEVICE_BUSY => Kind::Busy,
        Exception::GATEWAY_PATH_UNAVAILABLE => Kind::NoPath,
        Exception::GATEWAY_TARGET_FAILED => Kind::NoAnswer,
        _ => Kind::Fault,
    };
    Refusal::new(kind, Blame::Device).with_native(NATIVE, u32::from(exception.0))
}

/// The exception that answers a refusal: the device's own where there is one (APP section 7).
fn exception(refusal: Refusal) -> Exception {
    if let Some((NATIVE, code)) = refusal.native {
        return Exception(u8::try_from(code).unwrap_or(4));
    }
    match refusal.kind {
        Kind::NoSuchCommand => Exception::ILLEGAL_FUNCTION,
        Kind::NoSuchAddress | Kind::ReadOnly => Exception::ILLEGAL_DATA_ADDRESS,
        Kind::BadValue | Kind::DoesNotFit | Kind::TooMuch => Exception::ILLEGAL_DATA_VALUE,
        Kind::Fault => Exception::SERVER_DEVICE_FAILURE,
        Kind::Busy | Kind::WrongMode => Exception::SERVER_DEVICE_BUSY,
        Kind::NoPath => Exception::GATEWAY_PATH_UNAVAILABLE,
        Kind::NoAnswer
        | Kind::Damaged
        | Kind::Mismatch
        | Kind::Lost
        | Kind::NeverSeen
        | Kind::TypeDiffers
        | Kind::Unsound => Exception::GATEWAY_TARGET_FAILED,
    }
}

/// What the answer to a request repeats of it.
#[derive(Clone, Copy)]
struct Echo {
    function: u8,
    body: Repeats,
}

#[derive(Clone, Copy)]
enum Repeats {
    Values(Table, u16),
    Coil(u16, bool),
    Register(u16, u16),
    Wrote(Table, u16, u16),
    Mask(u16, u16, u16),
    Exchanged,
    /// The whole answer comes as it is.
    Whole,
    Nothing,
}

/// A range of a table; offset and count past 65536: part of it does not exist.
fn within(table: Table, offset: u16, count: u16) -> Result<Extent, Exception> {
    let (first, count) = (u32::from(offset), u32::from(count));
    let fits = first + count <= 65_536;
    fits.then_some(Extent { space: space(table), first, count }).ok_or(Exception::ILLEGAL_DATA_ADDRESS)
}

/// What a request wants, or the exception that answers it at once (the order of checks of APP 7: function, structure,
/// then address).
fn want(pdu: &[u8]) -> (Echo, Result<Want, Exception>) {
    let function = pdu.first().copied().unwrap_or_default() & 0x7F;
    let echo = |body| Echo { function, body };
    let Ok(request) = Request::parse(pdu) else {
        return (echo(Repeats::Nothing), Err(Exception::ILLEGAL_DATA_VALUE));
    };
    let write = |table: Table, offset: u16, count: u16, cells: Vec<u8>| {
        within(table, offset, count).map(|extent| Want::Write { extent, cells })
    };
    let registers = |words: &[u8]| u16::try_from(words.len() / 2).unwrap_or(u16::MAX);
    let holding = Table::HoldingRegister;
    match request {
        Request::Read { table, offset, count } => {
            (echo(Repeats::Values(table, count)), within(table, offset, count).map(Want::Read))
        }
        Request::WriteCoil { offset, on } => {
            (echo(Repeats::Coil(offset, on)), write(Table::Coil, offset, 1, vec![u8::from(on)]))
        }
        Request::WriteRegister { offset, value } => {
            let cells = value.to_be_bytes().to_vec();
            (echo(Repeats::Register(offset, value)), write(holding, offset, 1, cells))
        }
        Request::WriteCoils { offset, count, bits } => {
            let cells = unpack(Table::Coil, bits, count);
            (echo(Repeats::Wrote(Table::Coil, offset, count)), write(Table::Coil, offset, count, cells))
        }
        Request::WriteRegisters { offset, words } => {
            let count = registers(words);
            (echo(Repeats::Wrote(holding, offset, count)), write(holding, offset, count, words.to_vec()))
        }
        Request::MaskWrite { offset, and, or } => {
            let change = |extent| {
                let (keep, set) = (and.to_be_bytes().to_vec(), or.to_be_bytes().to_vec());
                Want::Change(Box::new(BitChange { extent, keep, set }))
            };
            (echo(Repeats::Mask(offset, and, or)), within(holding, offset, 1).map(change))
        }
        Request::Exchange { offset, count, write_offset, words } => {
            let read = within(holding, offset, count);
            let both = within(holding, write_offset, registers(words)).and_then(|write| {
                read.map(|read| Want::Exchange(Box::new(Exchange { write, cells: words.to_vec(), read })))
            });
            (echo(Repeats::Exchanged), both)
        }
        Request::ExceptionStatus
        | Request::Diagnostics { .. }
        | Request::EventCounter
        | Request::EventLog
        | Request::ServerId
        | Request::ReadQueue { .. }
        | Request::Identification { .. }
        | Request::Other { .. } => (echo(Repeats::Nothing), Err(Exception::ILLEGAL_FUNCTION)),
    }
}

/// A request as it is passed on.
fn whole(pdu: &[u8]) -> (Echo, Want) {
    let code = pdu.first().copied().unwrap_or_default();
    // What is not known to read only may change something.
    let writes = !Request::parse(pdu).is_ok_and(|request| request.only_reads());
    let message = Message { code, body: pdu.to_vec(), writes };
    (Echo { function: code & 0x7F, body: Repeats::Whole }, Want::Pass(Box::new(message)))
}

/// Appends the answer to a request.
fn respond(echo: Echo, result: Result<&[u8], Exception>, out: &mut Vec<u8>) {
    let response = match (result, echo.body) {
        (Err(exception), _) => Response::Refused { function: echo.function, exception },
        (Ok(cells), Repeats::Values(table, _)) if table.is_bits() => {
            return Response::Read { table, data: &pack(table, cells) }.emit(out);
        }
        (Ok(body), Repeats::Whole) => return out.extend_from_slice(body),
        (Ok(data), Repeats::Values(table, _)) => Response::Read { table, data },
        (Ok(data), Repeats::Exchanged) => Response::Exchanged(data),
        (Ok(_), Repeats::Coil(offset, on)) => Response::WroteCoil { offset, on },
        (Ok(_), Repeats::Register(offset, value)) => Response::WroteRegister { offset, value },
        (Ok(_), Repeats::Wrote(table, offset, count)) => Response::Wrote { table, offset, count },
        (Ok(_), Repeats::Mask(offset, and, or)) => Response::MaskWrote { offset, and, or },
        (Ok(_), Repeats::Nothing) => {
            Response::Refused { function: echo.function, exception: Exception::SERVER_DEVICE_FAILURE }
        }
    };
    response.emit(out);
}
