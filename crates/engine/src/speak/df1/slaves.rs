//! Several slaves of one line behind one wire: each hears all of it, knows its own last command, and keeps its own reply
//! until its node is polled.

use super::server::TableServer;
use crate::Moment;
use crate::speak::{News, Serve, Server, ServerSetup};
use std::sync::Arc;
use woodrush_core::Refusal;

pub(super) struct Slaves {
    /// Which node each of them is; `None` is any.
    nodes: Vec<(Option<u16>, TableServer)>,
    /// Whose want is being answered.
    asked: usize,
}

impl Slaves {
    pub(super) fn new(setup: &ServerSetup) -> Self {
        let nodes = each(setup).map(|(node, setup)| (node, TableServer::new(&setup, true))).collect();
        Self { nodes, asked: 0 }
    }
}

/// What each node needs to know; one for a line on which nobody is said.
fn each(setup: &ServerSetup) -> impl Iterator<Item = (Option<u16>, ServerSetup)> {
    let stations =
        if setup.stations.is_empty() { vec![(None, Arc::default())] } else { setup.stations.clone() };
    stations.into_iter().map(|(node, spaces)| {
        let units = node.map_or_else(|| setup.units.clone(), |node| Some(vec![node]));
        (node, ServerSetup { units, stations: vec![(node, spaces)], ..setup.clone() })
    })
}

impl Server for Slaves {
    fn held(&self) -> usize {
        self.nodes.iter().map(|(_, server)| server.held()).sum()
    }

    fn set_up(&mut self, setup: &ServerSetup) {
        let mut old = std::mem::take(&mut self.nodes);
        for (node, setup) in each(setup) {
            let known = old.iter().position(|(known, _)| *known == node);
            let mut server =
                known.map_or_else(|| TableServer::new(&setup, true), |known| old.swap_remove(known).1);
            server.set_up(&setup);
            self.nodes.push((node, server));
        }
        self.asked = 0;
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        self.nodes.iter_mut().for_each(|(_, server)| server.handle(now, news));
    }

    fn give(&mut self, result: Result<&[u8], Refusal>) {
        if let Some((_, server)) = self.nodes.get_mut(self.asked) {
            server.give(result);
        }
    }

    fn poll(&mut self, now: Moment) -> Serve {
        let mut until: Option<Moment> = None;
        for (at, (_, server)) in self.nodes.iter_mut().enumerate() {
            match server.poll(now) {
                Serve::Rest => {}
                Serve::WaitUntil(moment) => until = Some(until.map_or(moment, |until| until.min(moment))),
                act => {
                    self.asked = at;
                    return act;
                }
            }
        }
        until.map_or(Serve::Rest, Serve::WaitUntil)
    }

    fn damaged(&self) -> u64 {
        // All hear the same.
        self.nodes.iter().map(|(_, server)| server.damaged()).max().unwrap_or(0)
    }

    fn native(&self, refusal: Refusal) -> (u32, &'static str) {
        crate::speak::tables::native(refusal)
    }
}
