//! What commands cost on a DF1 link, how long it waits, and how they look there.

use super::{Df1, Search, check};
use crate::protocol::requests::one_part;
use crate::protocol::tables::{asking, changing, fitting};
use crate::protocol::{Cost, Example, Extent, Requests, Setup, Space, TooMuch, Verb};
use woodrush_wire::df1::{Check, Message, emit_message, emit_to_station};
use woodrush_wire::tables::COMMAND;

impl Df1 {
    /// A command and its answer as they go over the link.
    fn framed(&self, setup: &Setup, body: &[u8], data: &[u8]) -> (Vec<u8>, Vec<u8>) {
        let node = u8::try_from(setup.number("node").unwrap_or(1)).unwrap_or(1);
        let own = u8::try_from(setup.number("own-node").unwrap_or(0)).unwrap_or(0);
        let asked = Message { dst: node, src: own, cmd: COMMAND, sts: 0, tns: 1, body };
        let answered = asked.reply(0, data);
        let check = check(setup);
        let framed = |message: &Message<'_>, to: Option<u8>| {
            let (mut bytes, mut out) = (vec![], vec![]);
            message.emit(&mut bytes);
            match to {
                Some(station) => emit_to_station(station, &bytes, check, &mut out),
                None => emit_message(&bytes, check, &mut out),
            }
            out
        };
        (framed(&asked, self.half.then_some(node)), framed(&answered, None))
    }
}

impl Requests for Df1 {
    fn search(&self) -> Option<&dyn Search> {
        Some(self)
    }

    fn acknowledges(&self) -> bool {
        true
    }

    fn unanswered(&self, port: &Setup) -> Option<(u64, &'static str)> {
        let tries = u64::from(port.number("link-retries").unwrap_or(3)) + 1;
        let wait = u64::from(port.number("ack-timeout").unwrap_or(1_000_000));
        Some((tries * wait, "`ack-timeout` or `link-retries`"))
    }

    fn first_wait(&self, port: &Setup) -> Option<u64> {
        Some(port.number("ack-timeout").unwrap_or(1_000_000).into())
    }

    fn cost(&self, verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch> {
        let (space, count) = one_part(parts)?;
        let fitting = fitting(verb, space, count, setup)?;
        let check = if check(setup) == Check::Bcc { 1 } else { 2 };
        let frame = |body: u32| 4 + 6 + body + check;
        // Each message has its acknowledgement the other way; in half duplex the reply is polled for.
        let (polls, station) = if self.half { (4, 3) } else { (0, 0) };
        Ok(Cost {
            out: station + frame(fitting.asked) + polls + 2,
            back: 2 + frame(fitting.answered),
            turns: 2,
        })
    }

    fn example_bit(&self, space: &Space, first: u32, bit: u8, on: bool, setup: &Setup) -> Option<Example> {
        let (words, body) = changing(space, first, bit, on, setup)?;
        let (request, answer) = self.framed(setup, &body, &[]);
        Some(Example { words, request, answer })
    }

    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example {
        let Some((words, body, data)) = asking(verb, space, first, cells, setup) else {
            return Example { words: "no such place".into(), request: vec![], answer: vec![] };
        };
        let (request, answer) = self.framed(setup, &body, &data);
        Example { words, request, answer }
    }
}
