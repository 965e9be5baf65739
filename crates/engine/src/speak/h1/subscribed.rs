//! What a client of a segment has subscribed to: asked for once, followed to another node, told when it stops.

use super::client::{About, LinkClient, LinkStage, no_address};
use super::job::{delivered, tag_of};
use crate::Moment;
use crate::speak::{Act, Subscription};
use woodrush_core::protocol::h1::{self, Located};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::h1::{Object, Publication, Request, live};

/// What shall come by itself, and how it does.
pub(super) struct Published {
    pub(super) what: Subscription,
    /// Its number on the link, where it was asked for.
    pub(super) id: Option<u16>,
    /// The link has said that it comes: what came under that number before was of another subscription.
    pub(super) granted: bool,
    node: u8,
    /// How often it comes, in microseconds.
    pub(super) every: u64,
    /// When it counts as stopped; `None` while it is.
    pub(super) give_up: Option<Moment>,
    /// That it comes no more was told.
    stopped: bool,
    stale: u8,
}

impl Published {
    /// It comes no more; told once.
    pub(super) fn stop(&mut self, refusal: Refusal) -> Option<Act> {
        self.give_up = None;
        let is_new = !std::mem::replace(&mut self.stopped, true);
        is_new.then_some(Act::Stopped(self.what.transfer, refusal))
    }

    pub(super) fn patience(&self) -> u64 {
        self.every * u64::from(self.stale) + self.every / 2
    }
}

impl LinkClient {
    pub(super) fn publication(&mut self, now: Moment, publication: Publication<'_>) {
        match publication {
            Publication::LiveChange { node, flags, .. } => {
                let gone = self.devices.iter().find(|own| own.node == node && flags == 0);
                if let Some(tag) = gone.map(|own| own.tag.clone()).filter(|tag| !tag.is_empty()) {
                    self.stop_all_of(&tag);
                }
                if flags & live::DEFAULT_ADDRESS != 0 {
                    self.tell(no_address(node));
                }
                // What is there now, and whether a tag has moved.
                if self.waiting.iter().all(|own| own.about != About::LiveList) {
                    self.send(now, &Request::LiveList, About::LiveList);
                }
            }
            Publication::Data { id, stale, age_ms, value, .. } => {
                let Some(at) = self.published.iter().position(|own| own.granted && own.id == Some(id)) else {
                    return;
                };
                let is_live = |own: &Published| self.device_of(&own.what.station).is_ok();
                // Of a device that has left, its last value is sent again and again, and says nothing new.
                if stale && !self.published.get(at).is_some_and(is_live) {
                    return;
                }
                let Some(own) = self.published.get_mut(at) else { return };
                own.give_up = Some(now + own.patience());
                let at = now - u64::from(age_ms) * 1000;
                let act = match delivered(&own.what.station, own.what.extent, value) {
                    // The status of a stale value says so, and lands; the value does not.
                    Ok(mut values) if !stale || !values.unsound.is_empty() => {
                        own.stopped = false;
                        if stale {
                            values.unsound.iter_mut().for_each(|own| own.refusal.kind = Kind::NoAnswer);
                        }
                        Some(Act::Came(own.what.transfer, if stale { now } else { at }, values))
                    }
                    Ok(_) => own.stop(Refusal::new(Kind::NoAnswer, Blame::Device)),
                    Err(refusal) => own.stop(refusal),
                };
                self.acts.extend(act);
            }
        }
    }

    fn stop_all_of(&mut self, tag: &str) {
        let refusal = Refusal::new(Kind::NoAnswer, Blame::Device);
        for own in self.published.iter_mut().filter(|own| tag_of(&own.what.station) == tag) {
            self.acts.extend(own.stop(refusal));
        }
    }

    /// Subscribes to all that is not, or is at another node now.
    pub(super) fn subscribe_all(&mut self, now: Moment) {
        for at in 0..self.published.len() {
            let Some(own) = self.published.get(at) else { continue };
            let device = self.device_of(&own.what.station).map(|device| device.node);
            let (id, node) = (own.id, own.node);
            match (device, id) {
                (Ok(now_at), Some(_)) if now_at == node => {}
                (Ok(now_at), _) => {
                    if let Some(id) = id {
                        self.send(now, &Request::Unsubscribe(id), About::Nothing);
                    }
                    self.subscribe(now, at, now_at);
                }
                (Err(refusal), _) => {
                    if let Some(own) = self.published.get_mut(at) {
                        self.acts.extend(own.stop(refusal));
                    }
                }
            }
        }
    }

    fn subscribe(&mut self, now: Moment, at: usize, node: u8) {
        let Some(own) = self.published.get_mut(at) else { return };
        let id = number_of(own.what.transfer);
        let space = own.what.station.space_at(own.what.extent.space);
        let Some(located) = space.and_then(Located::of) else { return };
        (own.id, own.granted, own.node) = (Some(id), false, node);
        // Until it is granted it is as the project says.
        own.give_up = Some(now + own.patience());
        let at = Object { node, index: located.index, sub: 0 };
        let stale = own.stale;
        self.send(now, &Request::Subscribe { id, at, period_ms: 0, stale }, About::Subscription(id));
    }

    /// What shall come by itself from now on: what is the same goes on.
    pub(super) fn keep_subscriptions(&mut self, published: Vec<Subscription>) {
        let same = |own: &Subscription, new: &Subscription| {
            own.station.setup == new.station.setup
                && own.station.space_at(own.extent.space) == new.station.space_at(new.extent.space)
        };
        // Those that wait to be told have the numbers of the plan before.
        self.acts.retain(|act| !matches!(act, Act::Came(..) | Act::Stopped(..)));
        let mut known = std::mem::take(&mut self.published);
        for what in published {
            let number = number_of(what.transfer);
            let kept = |own: &Published| own.id.is_none_or(|id| id == number) && same(&own.what, &what);
            let at = known.iter().position(kept);
            let own = match at.map(|at| known.swap_remove(at)) {
                // Who listens now has not heard how it is.
                Some(own) => Published {
                    what,
                    stopped: false,
                    give_up: own.give_up.or(own.id.map(|_| self.heard)),
                    ..own
                },
                None => {
                    let publishing = h1::publishing(&what.station.setup);
                    let stale = u8::try_from(publishing.missed).unwrap_or(u8::MAX);
                    Published {
                        what,
                        id: None,
                        granted: false,
                        node: 0,
                        every: publishing.every,
                        give_up: None,
                        stopped: false,
                        stale,
                    }
                }
            };
            self.published.push(own);
        }
        let now = self.heard;
        for gone in known {
            if let (Some(id), LinkStage::Open) = (gone.id, self.stage) {
                self.send(now, &Request::Unsubscribe(id), About::Nothing);
            }
        }
        if self.listed {
            self.resolve(now);
        }
    }
}

/// The number of a subscription: that of its transfer in the plan, so that who listens knows what comes.
pub(super) fn number_of(transfer: usize) -> u16 {
    u16::try_from(transfer).unwrap_or(u16::MAX - 1) + 1
}
