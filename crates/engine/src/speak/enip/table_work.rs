//! A command for a data table in a message that was sent to us: what it wants of an image, and the reply to the service.

use crate::speak::Want;
use crate::speak::tables::{Begun, Sts, TOO_LARGE, TableWork};
use woodrush_core::Refusal;
use woodrush_core::protocol::Spaces;
use woodrush_wire::enip::cip;
use woodrush_wire::enip::tables::Execute;
use woodrush_wire::tables::reply_body;

/// A command under way.
pub(super) struct CommandService {
    head: Head,
    work: TableWork,
    waits: bool,
    /// The most bytes of the reply.
    room: usize,
}

/// What a reply repeats of its command.
struct Head {
    requester: Vec<u8>,
    cmd: u8,
    tns: u16,
}

/// What becomes of the data of a service.
pub(super) enum TableTodo {
    /// The service is refused, by a general status.
    Refused(u8),
    /// It is answered at once.
    Said(Vec<u8>),
    /// Something is wanted first.
    Begun(CommandService),
}

impl Head {
    fn reply(&self, status: Sts, data: &[u8]) -> Vec<u8> {
        let own = Execute { requester: &self.requester, cmd: self.cmd, sts: 0, tns: self.tns, body: &[] };
        let mut reply = vec![];
        own.reply(status.0, &reply_body(status, data)).emit_response(&mut reply);
        reply
    }
}

impl CommandService {
    /// Looks at a command over these tables.
    pub(super) fn begin(spaces: &Spaces, data: &[u8], room: usize) -> TableTodo {
        let own = match Execute::parse(data) {
            Ok(own) => own,
            Err(error) => return TableTodo::Refused(cip::status_of(&error)),
        };
        let head = Head { requester: own.requester.to_vec(), cmd: own.cmd, tns: own.tns };
        match TableWork::begin(Some(spaces), own.cmd, own.body) {
            Ok(Begun::Said(data)) => TableTodo::Said(head.reply((0, 0), &data)),
            Ok(Begun::Work(work)) => TableTodo::Begun(Self { head, work, waits: false, room }),
            Err(status) => TableTodo::Said(head.reply(status, &[])),
        }
    }

    pub(super) fn next(&mut self) -> Option<Want> {
        let want = self.work.next();
        self.waits = want.is_some();
        want
    }

    pub(super) const fn waits(&self) -> bool {
        self.waits
    }

    pub(super) fn given(&mut self, result: Result<&[u8], Refusal>) {
        self.waits = false;
        self.work.given(result);
    }

    pub(super) fn reply(self) -> Vec<u8> {
        let (status, data) = self.work.end();
        let reply = self.head.reply(status, &data);
        if reply.len() <= self.room { reply } else { self.head.reply(TOO_LARGE, &[]) }
    }
}
