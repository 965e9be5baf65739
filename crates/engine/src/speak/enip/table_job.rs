//! A question about data tables as messages of the router, one command after the other.

use super::refusal;
use crate::speak::Ask;
use crate::speak::tables::{Replied, TableAsk};
use woodrush_core::plan::Station;
use woodrush_core::protocol::enip::{REQUESTER, has_tables};
use woodrush_wire::enip::cip::{Reply, service};
use woodrush_wire::enip::tables::Execute;
use woodrush_wire::tables::COMMAND;

/// The station of a question, where its memory is data tables.
pub(super) fn table_station(stations: &[Station], ask: &Ask) -> Option<usize> {
    let station = match ask {
        Ask::Read { station, .. } | Ask::Write { station, .. } | Ask::Change { station, .. } => *station,
        Ask::Pass { .. } => return None,
    };
    stations.get(station).filter(|station| has_tables(&station.setup)).map(|_| station)
}

/// The next command of a question, as the request that carries it; `None` where there is no such place.
pub(super) fn command(ask: &TableAsk, tns: u16) -> Option<Vec<u8>> {
    let (mut body, mut message) = (vec![], vec![]);
    ask.emit(&mut body)?;
    Execute { requester: &REQUESTER, cmd: COMMAND, sts: 0, tns, body: &body }.emit_request(&mut message);
    Some(message)
}

/// What the reply to such a request brings: a status of the router's, or the outcome of the command.
pub(super) fn command_replied(ask: &mut TableAsk, tns: u16, message: &[u8]) -> Replied {
    let Ok(reply) = Reply::parse(message) else { return Replied::Unfitting };
    if reply.status != 0 {
        return Replied::Ended(Err(refusal(reply.status, reply.word())));
    }
    match Execute::parse(reply.data) {
        Ok(own) if reply.service == service::EXECUTE_PCCC && own.replies_to(&REQUESTER, COMMAND, tns) => {
            ask.replied(own.outcome())
        }
        _ => Replied::Unfitting,
    }
}
