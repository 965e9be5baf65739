//! Modbus: questions and refusals between spaces and PDUs, the same for both framings.

mod rtu_client;
mod server;
mod tcp_client;
#[cfg(test)]
mod tests;

use super::{Ask, Speaker, Want};
use woodrush_core::plan::Station;
use woodrush_core::protocol::{Extent, Setup, SpaceId};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::modbus::{Exception, Request, Response, Table, pack, unpack};

/// `modbus-rtu`.
pub(super) const RTU: Speaker = Speaker {
    name: "modbus-rtu",
    client: |setup| Box::new(rtu_client::RtuClient::new(setup)),
    server: |units| Box::new(server::ModbusServer::rtu(units)),
};

/// `modbus-tcp`.
pub(super) const TCP: Speaker = Speaker {
    name: "modbus-tcp",
    client: |setup| Box::new(tcp_client::TcpClient::new(setup)),
    server: |units| Box::new(server::ModbusServer::tcp(units)),
};

/// The name under which refusals carry an exception code.
pub(crate) const NATIVE: &str = "Modbus exception";

/// The table of a space: the dialect's standing spaces come in the order of [`Table::ALL`].
fn table(id: SpaceId) -> Table {
    Table::ALL.get(usize::from(id.0)).copied().unwrap_or(Table::HoldingRegister)
}

fn space(table: Table) -> SpaceId {
    let at = Table::ALL.iter().position(|known| *known == table).unwrap_or_default();
    SpaceId(u16::try_from(at).unwrap_or_default())
}

fn unit(setup: &Setup) -> u8 {
    setup.number("unit").and_then(|unit| u8::try_from(unit).ok()).unwrap_or(1)
}

/// A question on its way: the request's PDU and what its answer must agree with.
struct Question {
    unit: u8,
    pdu: Vec<u8>,
    answer_len: usize,
    expect: Expect,
}

#[derive(Clone, Copy)]
enum Expect {
    Values(Table, u16),
    Coil(u16, bool),
    Register(u16, u16),
    Wrote(Table, u16, u16),
}

impl Question {
    fn of(stations: &[Station], ask: &Ask) -> Self {
        let (station, extent) = match ask {
            Ask::Read { station, extent } | Ask::Write { station, extent, .. } => (*station, *extent),
        };
        let empty = Setup::default();
        let setup = stations.get(station).map_or(&empty, |station| &station.setup);
        let table = table(extent.space);
        let narrow = |number: u32| u16::try_from(number).unwrap_or(u16::MAX);
        let (offset, count) = (narrow(extent.first), narrow(extent.count));
        let mut packed = vec![];
        let single = count == 1 && setup.word("write-one") == Some("single");
        let (request, expect) = match ask {
            Ask::Read { .. } => (Request::Read { table, offset, count }, Expect::Values(table, count)),
            Ask::Write { cells, .. } if single && table.is_bits() => {
                let on = cells.first().is_some_and(|bit| *bit != 0);
                (Request::WriteCoil { offset, on }, Expect::Coil(offset, on))
            }
            Ask::Write { cells, .. } if single => {
                let value = cells.iter().fold(0, |word, byte| word << 8 | u16::from(*byte));
                (Request::WriteRegister { offset, value }, Expect::Register(offset, value))
            }
            Ask::Write { cells, .. } => {
                packed = pack(table, cells);
                let request = if table.is_bits() {
                    Request::WriteCoils { offset, count, bits: &packed }
                } else {
                    Request::WriteRegisters { offset, words: &packed }
                };
                (request, Expect::Wrote(table, offset, count))
            }
        };
        let mut pdu = vec![];
        request.emit(&mut pdu);
        Self { unit: unit(setup), pdu, answer_len: request.response_len().unwrap_or(5), expect }
    }

    fn function(&self) -> u8 {
        self.pdu.first().copied().unwrap_or_default()
    }

    /// Reads an answer; `None` where it is an answer to something else.
    fn answer(&self, pdu: &[u8]) -> Option<Result<Vec<u8>, Refusal>> {
        let response = Response::parse(pdu).ok()?;
        match (response, self.expect) {
            (Response::Refused { function, exception }, _) if function == self.function() => {
                Some(Err(refusal(exception)))
            }
            (Response::Read { table, data }, Expect::Values(asked, count))
                if table == asked && data.len() == table.bytes(count) =>
            {
                Some(Ok(unpack(table, data, count)))
            }
            (Response::WroteCoil { offset, on }, Expect::Coil(at, value)) if (offset, on) == (at, value) => {
                Some(Ok(vec![]))
            }
            (Response::WroteRegister { offset, value }, Expect::Register(at, sent))
                if (offset, value) == (at, sent) =>
            {
                Some(Ok(vec![]))
            }
            (Response::Wrote { table, offset, count }, Expect::Wrote(t, at, n))
                if (table, offset, count) == (t, at, n) =>
            {
                Some(Ok(vec![]))
            }
            _ => None,
        }
    }
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
    Refusal { kind, blame: Blame::Device, native: Some((NATIVE, u32::from(exception.0))) }
}

/// The exception that answers a refusal: the device's own where there is one (APP section 7).
fn exception(refusal: Refusal) -> Exception {
    if let Some((NATIVE, code)) = refusal.native {
        return Exception(u8::try_from(code).unwrap_or(4));
    }
    match refusal.kind {
        Kind::NoSuchCommand => Exception::ILLEGAL_FUNCTION,
        Kind::NoSuchAddress | Kind::ReadOnly => Exception::ILLEGAL_DATA_ADDRESS,
        Kind::BadValue | Kind::DoesNotFit => Exception::ILLEGAL_DATA_VALUE,
        Kind::Fault => Exception::SERVER_DEVICE_FAILURE,
        Kind::Busy | Kind::WrongMode => Exception::SERVER_DEVICE_BUSY,
        Kind::NoPath => Exception::GATEWAY_PATH_UNAVAILABLE,
        Kind::NoAnswer | Kind::Damaged | Kind::Mismatch | Kind::Lost | Kind::NeverSeen => {
            Exception::GATEWAY_TARGET_FAILED
        }
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
    Values(Table),
    Coil(u16, bool),
    Register(u16, u16),
    Wrote(Table, u16, u16),
    Nothing,
}

/// What a request wants, or the exception that answers it at once (the order of checks of APP 7: function, structure,
/// then address).
fn want(pdu: &[u8]) -> (Echo, Result<Want, Exception>) {
    let function = pdu.first().copied().unwrap_or_default() & 0x7F;
    let echo = |body| Echo { function, body };
    let Ok(request) = Request::parse(pdu) else {
        return (echo(Repeats::Nothing), Err(Exception::ILLEGAL_DATA_VALUE));
    };
    let within = |table: Table, offset: u16, count: u16| {
        let (first, count) = (u32::from(offset), u32::from(count));
        // Offset and count past 65536: part of the range does not exist.
        let fits = first + count <= 65_536;
        fits.then_some(Extent { space: space(table), first, count }).ok_or(Exception::ILLEGAL_DATA_ADDRESS)
    };
    let write = |table: Table, offset: u16, count: u16, cells: Vec<u8>| {
        within(table, offset, count).map(|extent| Want::Write { extent, cells })
    };
    match request {
        Request::Read { table, offset, count } => {
            (echo(Repeats::Values(table)), within(table, offset, count).map(Want::Read))
        }
        Request::WriteCoil { offset, on } => {
            (echo(Repeats::Coil(offset, on)), write(Table::Coil, offset, 1, vec![u8::from(on)]))
        }
        Request::WriteRegister { offset, value } => {
            let cells = value.to_be_bytes().to_vec();
            (echo(Repeats::Register(offset, value)), write(Table::HoldingRegister, offset, 1, cells))
        }
        Request::WriteCoils { offset, count, bits } => {
            let cells = unpack(Table::Coil, bits, count);
            (echo(Repeats::Wrote(Table::Coil, offset, count)), write(Table::Coil, offset, count, cells))
        }
        Request::WriteRegisters { offset, words } => {
            let count = u16::try_from(words.len() / 2).unwrap_or(u16::MAX);
            let body = Repeats::Wrote(Table::HoldingRegister, offset, count);
            (echo(body), write(Table::HoldingRegister, offset, count, words.to_vec()))
        }
        Request::Other { .. } => (echo(Repeats::Nothing), Err(Exception::ILLEGAL_FUNCTION)),
    }
}

/// Appends the answer to a request.
fn respond(echo: Echo, result: Result<&[u8], Exception>, out: &mut Vec<u8>) {
    let response = match (result, echo.body) {
        (Err(exception), _) => Response::Refused { function: echo.function, exception },
        (Ok(cells), Repeats::Values(table)) if table.is_bits() => {
            return Response::Read { table, data: &pack(table, cells) }.emit(out);
        }
        (Ok(data), Repeats::Values(table)) => Response::Read { table, data },
        (Ok(_), Repeats::Coil(offset, on)) => Response::WroteCoil { offset, on },
        (Ok(_), Repeats::Register(offset, value)) => Response::WroteRegister { offset, value },
        (Ok(_), Repeats::Wrote(table, offset, count)) => Response::Wrote { table, offset, count },
        (Ok(_), Repeats::Nothing) => {
            Response::Refused { function: echo.function, exception: Exception::SERVER_DEVICE_FAILURE }
        }
    };
    response.emit(out);
}

/// Looks for the answer to a question in what came on an RTU line: the result and where the frame ends. A place that
/// could be the beginning of the answer is waited for unless the line is `still`.
fn rtu_answer(question: &Question, came: &[u8], still: bool) -> Option<(Result<Vec<u8>, Refusal>, usize)> {
    for begin in 0..came.len() {
        let rest = came.get(begin..)?;
        let length = match rest {
            [unit, ..] if *unit != question.unit => continue,
            [_, function, ..] if *function == question.function() => question.answer_len + 3,
            [_, function, ..] if *function == question.function() | 0x80 => 5,
            [_, _, ..] => continue,
            _ => 2,
        };
        match rest.get(..length) {
            None if still => continue,
            None => return None,
            Some(bytes) => {
                let frame = woodrush_wire::modbus::rtu::parse(bytes).ok();
                if let Some(answer) = frame.and_then(|frame| question.answer(frame.pdu)) {
                    return Some((answer, begin + length));
                }
            }
        }
    }
    None
}
