//! A server on one ISO connection: a controller's passive end, or an image that looks like one.

use super::{FAILED, NO_BLOCK, TOO_SMALL, error, extent};
use crate::Moment;
use crate::speak::{News, STREAM_MAX, Serve, Server, ServerSetup, Want};
use std::sync::Arc;
use woodrush_core::Refusal;
use woodrush_core::protocol::isotcp::{memory, tsap};
use woodrush_core::protocol::{Extent, Space, SpaceId, Spaces};
use woodrush_wire::isotcp::cotp::{self, Assembly, Opening, Tpdu, emit_message};
use woodrush_wire::isotcp::fetch::{Answer, Area, Request, error_words};
use woodrush_wire::isotcp::tpkt;

/// Our reference.
const REFERENCE: u16 = 0x4431;
/// Refusals of an opening: nobody at that TSAP, no class that we speak.
const NO_TSAP: u8 = 2;
const NO_CLASS: u8 = 0x82;

pub(super) struct BlockServer {
    spaces: Arc<Spaces>,
    /// The name under which it is called; `None` for any.
    tsap: Option<Vec<u8>>,
    /// The TPDU size, once the connection is open.
    open: Option<u8>,
    came: Vec<u8>,
    assembly: Assembly,
    out: Vec<u8>,
    /// What is being worked on: whether it was a FETCH.
    fetch: Option<bool>,
    lost: Option<String>,
}

impl BlockServer {
    pub(super) fn new(setup: &ServerSetup) -> Self {
        let mut server = Self {
            spaces: Arc::default(),
            tsap: None,
            open: None,
            came: vec![],
            assembly: Assembly::default(),
            out: vec![],
            fetch: None,
            lost: None,
        };
        server.set_up(setup);
        server
    }

    fn answer(&mut self, answer: &Answer<'_>) {
        let mut message = vec![];
        answer.emit(&mut message);
        if let Some(size) = self.open {
            emit_message(&message, size, &mut self.out);
        }
    }

    fn refuse(&mut self, fetch: bool, number: u8) {
        self.answer(&if fetch { Answer::Fetched(number, &[]) } else { Answer::Wrote(number) });
    }

    /// The next thing that the caller must do; what can be answered here is.
    fn next(&mut self) -> Option<Serve> {
        loop {
            let came = std::mem::take(&mut self.came);
            let (tpdu, used) = match tpkt::parse(&came) {
                Ok(None) => {
                    self.came = came;
                    return None;
                }
                Err(error) => {
                    self.lost = Some(error.to_string());
                    return None;
                }
                Ok(Some(found)) => found,
            };
            let unit = cotp::parse(tpdu).map_err(|error| error.to_string());
            let wanted = unit.and_then(|unit| self.take(unit));
            self.came = came.get(used..).unwrap_or_default().to_vec();
            match wanted {
                Ok(None) => {}
                Ok(Some(want)) => return Some(Serve::Want { unit: 0, all: false, want }),
                Err(why) => {
                    self.lost = Some(why);
                    return None;
                }
            }
        }
    }

    fn take(&mut self, unit: Tpdu<'_>) -> Result<Option<Want>, String> {
        match (unit, self.open) {
            (Tpdu::Request(opening), None) => self.opened(&opening).map(|()| None),
            (Tpdu::Data { last, data }, Some(_)) => match self.assembly.take(last, data) {
                Ok(None) => Ok(None),
                Ok(Some(message)) => self.asked(&message),
                Err(error) => Err(error.to_string()),
            },
            (Tpdu::Data { .. }, None) => Err("data before the connection was opened".into()),
            (Tpdu::Closed { .. }, _) => Ok(None),
            (unit, _) => Err(format!("{unit:?} is out of place here")),
        }
    }

    fn opened(&mut self, opening: &Opening<'_>) -> Result<(), String> {
        let refuse = |reason| Tpdu::Refuse { dst: opening.src, src: 0, reason };
        if !opening.takes_class_0() {
            refuse(NO_CLASS).emit(&mut self.out);
            return Err("the other side offers no class 0".into());
        }
        let called = opening.called().unwrap_or_default();
        if let Some(own) = self.tsap.as_deref().filter(|own| *own != called) {
            refuse(NO_TSAP).emit(&mut self.out);
            let hex =
                |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(".");
            return Err(format!("it calls TSAP {}, and here is {}", hex(called), hex(own)));
        }
        // Never more than was proposed, nor more than class 0 has.
        let size = opening.size().unwrap_or(cotp::SIZE).min(0x0B);
        let mut parameters = vec![];
        cotp::parameters(size, opening.calling().unwrap_or_default(), called, &mut parameters);
        Tpdu::Confirm(Opening::new(opening.src, REFERENCE, &parameters)).emit(&mut self.out);
        self.open = Some(size);
        Ok(())
    }

    fn asked(&mut self, message: &[u8]) -> Result<Option<Want>, String> {
        let request = Request::parse(message).map_err(|error| error.to_string())?;
        let fetch = matches!(request, Request::Fetch(_));
        match self.place(&request) {
            Err(number) => {
                self.refuse(fetch, number);
                Ok(None)
            }
            Ok((extent, data)) => {
                self.fetch = Some(fetch);
                Ok(Some(if fetch {
                    Want::Read(extent)
                } else {
                    Want::Write { extent, cells: data.to_vec() }
                }))
            }
        }
    }

    fn place<'m>(&self, request: &Request<'m>) -> Result<(Extent, &'m [u8]), u8> {
        let range = request.range();
        let area = Area::of(range.org).ok_or(FAILED)?;
        let data = request.data().ok_or(FAILED)?;
        let here = |(_, space): &(SpaceId, &Space)| {
            let (own, block) = memory(space);
            own == area && (area != Area::DataBlock || block == range.block)
        };
        let missing = if area == Area::DataBlock { NO_BLOCK } else { TOO_SMALL };
        let (id, space) = self.spaces.with_ids().find(here).ok_or(missing)?;
        let extent = extent(area, space, id, range).ok_or(FAILED)?;
        if space.len.is_some_and(|len| extent.end() > len) {
            return Err(TOO_SMALL);
        }
        Ok((extent, data))
    }
}

impl Server for BlockServer {
    fn held(&self) -> usize {
        self.came.len() + self.out.len()
    }

    fn set_up(&mut self, setup: &ServerSetup) {
        self.spaces = setup.stations.first().map(|(_, spaces)| spaces.clone()).unwrap_or_default();
        self.tsap = setup.own.word("local-tsap").and_then(|text| tsap(text).ok());
    }

    fn handle(&mut self, _now: Moment, news: News<'_>) {
        match news {
            News::Bytes(bytes) if self.came.len() + bytes.len() > STREAM_MAX => {
                self.came.clear();
                self.lost = Some("it asks on and on without taking its answers".into());
            }
            News::Bytes(bytes) => self.came.extend_from_slice(bytes),
            News::Up | News::Down => {
                self.came.clear();
                self.out.clear();
                (self.open, self.fetch, self.lost) = (None, None, None);
                self.assembly = Assembly::default();
            }
        }
    }

    fn give(&mut self, result: Result<&[u8], Refusal>) {
        let Some(fetch) = self.fetch.take() else { return };
        match result {
            Err(refusal) => self.refuse(fetch, error(refusal)),
            Ok(_) if !fetch => self.answer(&Answer::Wrote(0)),
            Ok(cells) if cells.len().is_multiple_of(2) => self.answer(&Answer::Fetched(0, cells)),
            Ok(cells) => {
                let mut padded = cells.to_vec();
                padded.push(0);
                self.answer(&Answer::Fetched(0, &padded));
            }
        }
    }

    fn poll(&mut self, _now: Moment) -> Serve {
        if self.fetch.is_none()
            && self.lost.is_none()
            && let Some(want) = self.next()
        {
            return want;
        }
        Serve::said(&mut self.out, &mut self.lost)
    }

    fn native(&self, refusal: Refusal) -> (u32, &'static str) {
        let number = error(refusal);
        (u32::from(number), error_words(number))
    }
}
