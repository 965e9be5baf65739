//! Raw bytes: nobody asks and nobody answers in them; forwarding pipes them through without a machine.

use super::{Act, Ask, Client, ClientSetup, News, Serve, Server, ServerSetup, Speaker, Ticket};
use crate::Moment;
use woodrush_core::{Blame, Kind, Refusal};

/// `raw`.
pub(super) const RAW: Speaker =
    Speaker { name: "raw", client: |_| Box::new(Mute::default()), server: |_| Box::new(Mute::default()) };

#[derive(Default)]
struct Mute {
    asked: Option<Ticket>,
}

impl Client for Mute {
    fn is_free(&self) -> bool {
        self.asked.is_none()
    }

    fn ask(&mut self, ticket: Ticket, _ask: Ask) {
        self.asked = Some(ticket);
    }

    fn set_up(&mut self, _setup: &ClientSetup<'_>) {}

    fn handle(&mut self, _now: Moment, _news: News<'_>) {}

    fn poll(&mut self, _now: Moment) -> Act {
        match self.asked.take() {
            Some(ticket) => Act::Done(ticket, Err(Refusal::new(Kind::NoSuchCommand, Blame::File))),
            None => Act::Rest,
        }
    }
}

impl Server for Mute {
    fn set_up(&mut self, _setup: &ServerSetup) {}

    fn handle(&mut self, _now: Moment, _news: News<'_>) {}

    fn give(&mut self, _result: Result<&[u8], Refusal>) {}

    fn poll(&mut self, _now: Moment) -> Serve {
        Serve::Rest
    }

    fn native(&self, _refusal: Refusal) -> (u32, &'static str) {
        (0, "raw bytes are not answered")
    }
}
