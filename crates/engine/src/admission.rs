//! Who may connect to a listening port, and which connection makes room when the port is full: the same for every kind
//! of listening port.

use crate::Moment;
use crate::shared::AnswerSettings;
use rustix::fd::AsFd;
use rustix::io::Errno;
use rustix::net::sockopt;
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

/// A connection without an answered request for so long may be closed for a new one, in microseconds.
const EVICT_AFTER: u64 = 10_000_000;
/// TCP keepalive: the first probe after so much silence, then one each interval, and the connection is dead after
/// [`PROBES`] without an answer. So a peer that vanished (a pulled cable, a firewall that forgot) is noticed within a
/// minute on every connection.
const KEEP_IDLE: Duration = Duration::from_secs(30);
const KEEP_INTERVAL: Duration = Duration::from_secs(10);
const PROBES: u32 = 3;

/// Addresses that stand for others on the rig, where all clients run on this machine.
pub type Aliases = Arc<HashMap<IpAddr, Ipv4Addr>>;

/// Lets the system find out that the other end of a connection has vanished.
pub(crate) fn keep_alive(socket: impl AsFd) {
    // A socket that refuses one of these works as before.
    let _ = sockopt::set_socket_keepalive(&socket, true);
    let _ = sockopt::set_tcp_keepidle(&socket, KEEP_IDLE);
    let _ = sockopt::set_tcp_keepintvl(&socket, KEEP_INTERVAL);
    let _ = sockopt::set_tcp_keepcnt(&socket, PROBES);
}

/// One connection of a listening port, as far as admission looks at it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Seat {
    /// The machine at the other end.
    pub(crate) address: IpAddr,
    /// When a request of it was last answered, or when it connected.
    pub(crate) heard: Moment,
}

/// What becomes of a newcomer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Admission {
    /// There is room.
    Room,
    /// There is, once this connection is closed for that reason.
    InsteadOf(usize, &'static str),
    /// There is none, for that reason.
    TurnedAway(String),
}

/// Whether an address may connect at all.
pub(crate) fn may_connect(
    allow: Option<&[woodrush_core::project::Network]>,
    aliases: Option<&Aliases>,
    who: SocketAddr,
) -> bool {
    match (allow, claimed(aliases, who)) {
        (None, _) => true,
        // A client of the rig that plays none of the described ones may look.
        (Some(_), None) => aliases.is_some(),
        (Some(allow), Some(address)) => allow.iter().any(|network| network.holds(address)),
    }
}

/// The address that `allow` and `writers` are held against.
pub(crate) fn claimed(aliases: Option<&Aliases>, who: SocketAddr) -> Option<Ipv4Addr> {
    let IpAddr::V4(own) = who.ip().to_canonical() else { return None };
    match aliases {
        None => Some(own),
        Some(aliases) => aliases.get(&IpAddr::V4(own)).copied(),
    }
}

/// Decides about a newcomer. One address cannot take all places: when the port is full, an address that has its share
/// gets no more, and one that has more than its share makes room for others. Slow and silent connections go first.
pub(crate) fn admit(settings: &AnswerSettings, seats: &[Seat], who: IpAddr, now: Moment) -> Admission {
    let most = settings.max_clients.max(1);
    if seats.len() < most {
        return Admission::Room;
    }
    let mut held: HashMap<IpAddr, usize> = HashMap::new();
    for seat in seats {
        *held.entry(seat.address).or_default() += 1;
    }
    let has = |address: &IpAddr| held.get(address).copied().unwrap_or(0);
    let longest = |may_go: &dyn Fn(&Seat) -> bool| {
        let mine = seats.iter().enumerate().filter(|(_, seat)| may_go(seat));
        mine.min_by_key(|(_, seat)| seat.heard).map(|(at, _)| at)
    };
    let silent = |seat: &Seat| now.since(seat.heard) > EVICT_AFTER;
    if has(&who) >= settings.max_clients_per_address && most > 1 {
        return match longest(&|seat| seat.address == who && silent(seat)) {
            Some(at) => Admission::InsteadOf(at, "it was idle longest, and its address has used its share"),
            None => Admission::TurnedAway(format!(
                "{most} clients are connected, {} of them from its address",
                has(&who)
            )),
        };
    }
    if let Some(at) = longest(&silent) {
        return Admission::InsteadOf(at, "it was idle longest");
    }
    match longest(&|seat| has(&seat.address) > settings.max_clients_per_address) {
        Some(at) => Admission::InsteadOf(at, "its address has more than `max-clients-per-address`"),
        None => Admission::TurnedAway(match most {
            1 => "another client is connected".into(),
            _ => format!("{most} clients are connected"),
        }),
    }
}

/// Where a port listens: the address that the project gives, and the socket once there is one.
pub(crate) struct ListenPlace {
    /// As the project says; on the rig any free loopback port.
    pub(crate) wanted: SocketAddr,
    /// The bound socket; `None` where the address is not there yet.
    pub(crate) listener: Option<std::net::TcpListener>,
}

impl ListenPlace {
    /// A second descriptor of the socket, which nobody waits for from now on, and where it really is.
    ///
    /// # Errors
    /// The system has no descriptor left.
    pub(crate) fn second(&self) -> std::io::Result<Option<(std::net::TcpListener, SocketAddr)>> {
        let Some(listener) = &self.listener else { return Ok(None) };
        listener.set_nonblocking(true)?;
        Ok(Some((listener.try_clone()?, listener.local_addr()?)))
    }
}

/// Whether the system has no descriptor or no memory for another connection (accept(2)).
pub(crate) fn is_out_of_room(error: &std::io::Error) -> bool {
    let errno = Errno::from_io_error(error);
    matches!(errno, Some(Errno::MFILE | Errno::NFILE | Errno::NOBUFS | Errno::NOMEM))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::speak::ServerSetup;

    fn settings(most: usize, each: usize) -> AnswerSettings {
        AnswerSettings {
            protocol: "modbus-tcp",
            max_clients: most,
            max_clients_per_address: each,
            allow: None,
            idle_timeout: 60_000_000,
            images: vec![],
            server: ServerSetup::default(),
        }
    }

    fn at(last: u8) -> IpAddr {
        IpAddr::V4(Ipv4Addr::new(192, 0, 2, last))
    }

    fn seats(list: &[(u8, u64)]) -> Vec<Seat> {
        list.iter()
            .map(|(last, second)| Seat { address: at(*last), heard: Moment(second * 1_000_000) })
            .collect()
    }

    const NOW: Moment = Moment(100_000_000);

    #[test]
    fn one_address_cannot_take_all_places() {
        let settings = settings(4, 2);
        let full = seats(&[(1, 99), (1, 98), (1, 97), (1, 96)]);
        assert_eq!(admit(&settings, &full[..3], at(1), NOW), Admission::Room, "while there is room");
        let turned = admit(&settings, &full, at(1), NOW);
        assert_eq!(
            turned,
            Admission::TurnedAway("4 clients are connected, 4 of them from its address".into())
        );
        let instead = admit(&settings, &full, at(2), NOW);
        assert_eq!(
            instead,
            Admission::InsteadOf(3, "its address has more than `max-clients-per-address`"),
            "another address takes the place that was heard least lately"
        );
    }

    #[test]
    fn silent_connections_go_first_and_only_those_of_the_own_address_for_one_that_has_its_share() {
        let settings = settings(4, 2);
        let full = seats(&[(1, 99), (1, 98), (2, 5), (3, 97)]);
        assert_eq!(admit(&settings, &full, at(4), NOW), Admission::InsteadOf(2, "it was idle longest"));
        assert!(matches!(admit(&settings, &full, at(1), NOW), Admission::TurnedAway(_)));
        let full = seats(&[(1, 99), (1, 7), (2, 5), (3, 97)]);
        assert!(matches!(admit(&settings, &full, at(1), NOW), Admission::InsteadOf(1, _)));
    }

    #[test]
    fn each_within_its_share_and_none_silent_leaves_no_room() {
        let full = seats(&[(1, 99), (1, 98), (2, 95), (3, 97)]);
        let turned = admit(&settings(4, 2), &full, at(4), NOW);
        assert_eq!(turned, Admission::TurnedAway("4 clients are connected".into()));
        let one = admit(&settings(1, 1), &full[..1], at(1), NOW);
        assert_eq!(one, Admission::TurnedAway("another client is connected".into()));
    }
}
