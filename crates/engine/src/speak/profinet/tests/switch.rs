//! A switch in memory on a virtual clock, with nodes at its ports: it delays and loses frames. Only for tests.

use crate::Moment;
use crate::dice::Dice;
use crate::speak::profinet::ether::{EtherFrame, Mac};
use crate::speak::{LinkLoss, LinkNews, NetAct, NetNews, Node, NodeSetup, Produced, StationNews};
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// What a node has told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Told {
    Came(usize, Vec<u8>),
    Unsound(usize),
    Stopped(LinkLoss),
    News(LinkNews),
    Station(StationNews),
}

pub(super) struct Host {
    pub(super) node: Box<dyn Node>,
    pub(super) mac: Mac,
    /// What goes in its frames.
    pub(super) cells: Produced,
    pub(super) told: Vec<(Moment, Told)>,
    pub(super) stills: u64,
    pub(super) skipped: u64,
    waits: Moment,
}

impl Host {
    /// What it was told last of a slot; nothing while that is bad or lost.
    pub(super) fn last(&self, slot: usize) -> Option<&[u8]> {
        let of = |(_, told): &(Moment, Told)| match told {
            Told::Came(own, _) | Told::Unsound(own) => *own == slot,
            Told::Stopped(_) => true,
            _ => false,
        };
        match self.told.iter().rev().find(|own| of(own)) {
            Some((_, Told::Came(_, bytes))) => Some(bytes),
            _ => None,
        }
    }

    pub(super) fn has_opened(&self) -> bool {
        self.told.iter().any(|(_, told)| matches!(told, Told::News(LinkNews::Opened { .. })))
    }

    /// Why it was refused, in words, one after the other.
    pub(super) fn refusals(&self) -> Vec<&str> {
        let why = |(_, told): &(Moment, Told)| matches!(told, Told::News(LinkNews::Refused { .. }));
        self.told
            .iter()
            .filter(|own| why(own))
            .map(|(_, told)| match told {
                Told::News(LinkNews::Refused { why, .. }) => why.as_str(),
                _ => "",
            })
            .collect()
    }

    pub(super) fn losses(&self) -> Vec<LinkLoss> {
        let loss = |(_, told): &(Moment, Told)| match told {
            Told::Stopped(why) => Some(why.clone()),
            _ => None,
        };
        self.told.iter().filter_map(loss).collect()
    }
}

/// When a frame arrives, in which order, where, and all of it.
type FrameOnWire = (Moment, u64, usize, Vec<u8>);

/// The switch.
pub(super) struct Switch {
    pub(super) hosts: Vec<Host>,
    pub(super) now: Moment,
    queue: BinaryHeap<Reverse<FrameOnWire>>,
    sequence: u64,
    dice: Dice,
    pub(super) latency: u64,
    pub(super) loss: f64,
    /// Nothing gets through from that host.
    pub(super) cut: Option<usize>,
    /// All frames with who sent them, if they are to be kept.
    pub(super) seen: Option<Vec<(Moment, usize, Vec<u8>)>>,
}

impl Switch {
    pub(super) fn new(seed: u64) -> Self {
        Self {
            hosts: vec![],
            now: Moment(0),
            queue: BinaryHeap::new(),
            sequence: 0,
            dice: Dice::new(seed),
            latency: 50,
            loss: 0.0,
            cut: None,
            seen: None,
        }
    }

    pub(super) fn plug(&mut self, setup: &NodeSetup, cells: Vec<Vec<u8>>) -> usize {
        let mut node = super::super::DEVICE.node.unwrap()(setup);
        let number = u8::try_from(self.hosts.len() + 1).unwrap();
        let mac = [2, 0x57, 0x52, 0, 0, number];
        node.handle(self.now, NetNews::Up);
        node.handle(self.now, NetNews::Interface(mac));
        let cells = Produced { slots: cells, lost: vec![] };
        let waits = self.now;
        self.hosts.push(Host { node, mac, cells, told: vec![], stills: 0, skipped: 0, waits });
        self.hosts.len() - 1
    }

    /// Puts a frame on the wire, as one who is at no port.
    pub(super) fn inject(&mut self, bytes: &[u8]) {
        self.deliver(usize::MAX, bytes);
    }

    fn deliver(&mut self, from: usize, bytes: &[u8]) {
        if let Some(seen) = &mut self.seen {
            seen.push((self.now, from, bytes.to_vec()));
        }
        let Some(ether) = EtherFrame::parse(bytes) else { return };
        for to in 0..self.hosts.len() {
            // It has learnt nothing: all get all, as of a new one.
            if to == from || self.cut == Some(from) || self.cut == Some(to) {
                continue;
            }
            if self.loss > 0.0 && ether.kind == 0x8892 && self.dice.share() < self.loss {
                continue;
            }
            self.sequence += 1;
            let at = self.now + self.latency;
            self.queue.push(Reverse((at, self.sequence, to, bytes.to_vec())));
        }
    }

    pub(super) fn set_up(&mut self, host: usize, setup: &NodeSetup) {
        let now = self.now;
        self.hosts[host].node.set_up(now, setup);
        self.poll(host);
    }

    pub(super) fn shut(&mut self, host: usize) {
        let now = self.now;
        self.hosts[host].node.shut(now);
        self.poll(host);
    }

    fn poll(&mut self, at: usize) {
        loop {
            let now = self.now;
            let host = &mut self.hosts[at];
            let tell = |host: &mut Host, told| host.told.push((now, told));
            match host.node.poll(now) {
                NetAct::Produce(link) => {
                    let cells = host.cells.clone();
                    host.node.produced(now, link, &cells);
                }
                NetAct::Frame { bytes, .. } => self.deliver(at, &bytes),
                NetAct::Came { slot, cells, .. } => tell(host, Told::Came(slot, cells)),
                NetAct::Unsound { slot, .. } => tell(host, Told::Unsound(slot)),
                NetAct::Still(_) => host.stills += 1,
                NetAct::Stopped(_, why) => tell(host, Told::Stopped(why)),
                NetAct::Tell(_, news) => tell(host, Told::News(news)),
                NetAct::Station(_, news) => tell(host, Told::Station(news)),
                NetAct::Skipped(_, frames) => host.skipped += frames,
                NetAct::WaitUntil(moment) => {
                    host.waits = moment;
                    return;
                }
                NetAct::Rest => {
                    host.waits = Moment::NEVER;
                    return;
                }
                other => panic!("{other:?}"),
            }
        }
    }

    /// Runs for so long, in microseconds.
    pub(super) fn run(&mut self, micros: u64) {
        let end = self.now + micros;
        loop {
            for at in 0..self.hosts.len() {
                if self.hosts[at].waits <= self.now {
                    self.poll(at);
                }
            }
            let parcel = self.queue.peek().map_or(Moment::NEVER, |Reverse((at, ..))| *at);
            let waits = self.hosts.iter().map(|own| own.waits).min().unwrap_or(Moment::NEVER);
            let next = parcel.min(waits);
            if next > end {
                break;
            }
            self.now = next.max(self.now);
            if parcel <= self.now
                && let Some(Reverse((_, _, to, bytes))) = self.queue.pop()
            {
                let now = self.now;
                self.hosts[to].node.handle(now, NetNews::Frame(&bytes));
                self.poll(to);
            }
        }
        self.now = end;
    }
}
