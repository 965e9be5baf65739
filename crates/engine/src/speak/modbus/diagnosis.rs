//! What a server tells about itself and its line: functions 7, 8, 11, 12, 17 and 43/14 (APP 6.7 to 6.10, 6.13, 6.21).

use woodrush_wire::modbus::{Exception, Request, Response};

/// Events that are kept (APP 6.10).
const EVENTS: usize = 64;
/// Received: a frame was damaged.
const RECEIVED: u8 = 0x80;
const COMMUNICATION_ERROR: u8 = 0x02;
const LISTEN_ONLY_RECEIVED: u8 = 0x20;
const FOR_ALL: u8 = 0x40;
/// Sent.
const SENT: u8 = 0x40;
const LISTEN_ONLY_SENT: u8 = 0x20;
const ENTERED_LISTEN_ONLY: u8 = 0x04;
const RESTARTED: u8 = 0x00;

/// Objects 0 to 2 of the identification: who made it, what it is, which version.
const OBJECTS: [&str; 3] = ["Woodrush", "protocol converter", env!("CARGO_PKG_VERSION")];

/// Counters of one line's server; a full one stays at 0xFFFF.
#[derive(Debug, Default)]
pub(super) struct DiagnosticCounters {
    bus_messages: u16,
    damaged: u16,
    exceptions: u16,
    messages: u16,
    unanswered: u16,
    nak: u16,
    busy: u16,
    completed: u16,
    events: Vec<u8>,
    pub(super) listen_only: bool,
}

/// What becomes of a request about the server itself.
pub(super) enum Own {
    /// It is none.
    NotMine,
    /// Answered.
    Answer(Vec<u8>),
    /// Refused.
    Refuse(Exception),
    /// Done without an answer.
    Silent,
}

impl DiagnosticCounters {
    /// A sound message was seen, to anyone.
    pub(super) fn heard(&mut self) {
        self.bus_messages = self.bus_messages.saturating_add(1);
    }

    /// Bytes came that are no message.
    pub(super) fn noise(&mut self) {
        self.damaged = self.damaged.saturating_add(1);
        self.event(RECEIVED | COMMUNICATION_ERROR);
    }

    /// A request for this server, or for all.
    pub(super) fn taken(&mut self, for_all: bool) {
        self.messages = self.messages.saturating_add(1);
        let listening = if self.listen_only { LISTEN_ONLY_RECEIVED } else { 0 };
        self.event(RECEIVED | listening | if for_all { FOR_ALL } else { 0 });
    }

    /// How a request ended; `sent` is whether an answer went out.
    pub(super) fn ended(&mut self, refused: Option<Exception>, sent: bool) {
        let count = |counter: &mut u16| *counter = counter.saturating_add(1);
        let mut event = SENT;
        match refused {
            None => count(&mut self.completed),
            Some(exception) => {
                count(&mut self.exceptions);
                event |= match exception {
                    Exception(1..=3) => 0x01,
                    Exception(5 | 6) => 0x04,
                    Exception(7) => 0x08,
                    _ => 0x02,
                };
                match exception {
                    Exception(7) => count(&mut self.nak),
                    Exception::SERVER_DEVICE_BUSY => count(&mut self.busy),
                    _ => {}
                }
            }
        }
        if sent {
            self.event(event);
        } else {
            count(&mut self.unanswered);
            if self.listen_only {
                self.event(SENT | LISTEN_ONLY_SENT);
            }
        }
    }

    /// Damaged frames so far.
    pub(super) fn damaged(&self) -> u64 {
        self.damaged.into()
    }

    fn event(&mut self, event: u8) {
        self.events.truncate(EVENTS - 1);
        self.events.insert(0, event);
    }

    /// Answers a request about the server itself; `line` is whether functions of a serial line are served.
    pub(super) fn answer(&mut self, pdu: &[u8], line: bool) -> Own {
        let emit = |response: Response<'_>| {
            let mut out = vec![];
            response.emit(&mut out);
            Own::Answer(out)
        };
        match Request::parse(pdu) {
            Ok(Request::Identification { code, object }) => identify(code, object),
            // Another type of function 43: not served.
            Ok(Request::Other { function: 43, .. }) => Own::Refuse(Exception::ILLEGAL_FUNCTION),
            Ok(Request::ExceptionStatus) if line => emit(Response::ExceptionStatus(0)),
            Ok(Request::EventCounter) if line => {
                emit(Response::EventCounter { status: 0, count: self.completed })
            }
            Ok(Request::EventLog) if line => emit(Response::EventLog {
                status: 0,
                count: self.completed,
                messages: self.bus_messages,
                events: &self.events,
            }),
            Ok(Request::ServerId) if line => {
                // Id, running, what it is.
                let id = [&[0x57, 0xFF], OBJECTS[1].as_bytes()].concat();
                emit(Response::ServerId(&id))
            }
            Ok(Request::Diagnostics { sub, data }) if line => self.diagnose(sub, data),
            _ => Own::NotMine,
        }
    }

    fn diagnose(&mut self, sub: u16, data: &[u8]) -> Own {
        let emit = |data: &[u8]| {
            let mut out = vec![];
            Response::Diagnostics { sub, data }.emit(&mut out);
            Own::Answer(out)
        };
        let zero = data == [0, 0];
        let counter = match sub {
            0 => return emit(data),
            1 if zero || data == [0xFF, 0] => {
                let silent = std::mem::take(&mut self.listen_only);
                if data == [0xFF, 0] {
                    self.events.clear();
                }
                self.clear();
                self.event(RESTARTED);
                return if silent { Own::Silent } else { emit(data) };
            }
            4 if zero => {
                self.listen_only = true;
                self.event(ENTERED_LISTEN_ONLY);
                return Own::Silent;
            }
            10 if zero => {
                self.clear();
                return emit(data);
            }
            // The diagnostic register: no bit of it is defined here.
            2 => 0,
            11 => self.bus_messages,
            12 => self.damaged,
            13 => self.exceptions,
            14 => self.messages,
            15 => self.unanswered,
            16 => self.nak,
            17 => self.busy,
            // Overruns happen in drivers and are not seen here.
            18 | 20 => 0,
            1 | 4 | 10 => return Own::Refuse(Exception::ILLEGAL_DATA_VALUE),
            _ => return Own::Refuse(Exception::ILLEGAL_FUNCTION),
        };
        if zero { emit(&counter.to_be_bytes()) } else { Own::Refuse(Exception::ILLEGAL_DATA_VALUE) }
    }

    fn clear(&mut self) {
        let (events, listen_only) = (std::mem::take(&mut self.events), self.listen_only);
        *self = Self { events, listen_only, ..Self::default() };
    }
}

/// Function 43/14: the three objects that every device has, in one answer or one at a time.
fn identify(code: u8, object: u8) -> Own {
    /// Basic objects, streamed and one by one.
    const CONFORMITY: u8 = 0x81;
    let single = code == 4;
    if single && usize::from(object) >= OBJECTS.len() {
        return Own::Refuse(Exception::ILLEGAL_DATA_ADDRESS);
    }
    // An unknown object starts the stream again (APP 6.21).
    let begin = if usize::from(object) < OBJECTS.len() { usize::from(object) } else { 0 };
    let end = if single { begin + 1 } else { OBJECTS.len() };
    let mut objects = vec![];
    for (number, text) in (0u8..).zip(OBJECTS).skip(begin).take(end - begin) {
        objects.extend([number, u8::try_from(text.len()).unwrap_or(u8::MAX)]);
        objects.extend_from_slice(text.as_bytes());
    }
    let count = u8::try_from(end - begin).unwrap_or(u8::MAX);
    let mut out = vec![];
    Response::Identification { code, conformity: CONFORMITY, next: None, count, objects: &objects }
        .emit(&mut out);
    Own::Answer(out)
}
