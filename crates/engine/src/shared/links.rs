//! What runs in cycles: the bytes that go in a frame, and what becomes of those that come.

use super::{Event, Shared};
use crate::Moment;
use crate::health::{LinkHealth, LinkState, failure_code};
use crate::image::Board;
use crate::speak::{LinkLoss, LinkNews, Produced, StationNews};
use std::sync::{Arc, PoisonError};
use woodrush_core::plan::Plan;
use woodrush_core::project::Owner;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// Those of a plan; what stands for the same station is taken over.
pub(super) fn of(plan: &Plan, old: Option<&Shared>) -> Vec<Arc<LinkHealth>> {
    let name = |plan: &Plan, owner: Owner| plan.station(owner).map(|station| station.name.clone());
    let known = |owner: Owner| {
        let old = old?;
        let own = name(plan, owner);
        let at = old.plan.links.iter().position(|link| name(&old.plan, link.with) == own)?;
        old.health.links.get(at).cloned()
    };
    plan.links.iter().map(|link| known(link.with).unwrap_or_default()).collect()
}

impl Shared {
    /// What goes in the frame that is due of a link. Where a landing holds the board, `last` stays as it was: what was sent
    /// last goes out once more, and nobody waits.
    pub(crate) fn produce(&self, link: usize, now: Moment, last: &mut Produced) {
        let Some(own) = self.plan.links.get(link) else { return };
        let Some(Ok(board)) = self.boards.get(own.board).map(|board| board.try_read()) else { return };
        last.lost.clear();
        last.slots.resize(own.slots.len(), vec![]);
        for (at, (slot, bytes)) in own.slots.iter().zip(&mut last.slots).enumerate() {
            bytes.clear();
            if let Some(extent) = slot.goes
                && board.produce(now, extent, bytes)
            {
                last.lost.push(at);
            }
        }
    }

    /// The transfer by which a slot of a link lands.
    fn landing(&self, link: usize, slot: usize) -> Option<usize> {
        let (_, transfer) = self.plan.links.get(link)?.slots.get(slot)?.comes?;
        Some(transfer)
    }

    /// A frame came with bytes that differ from those before.
    pub(crate) fn land_frame(&self, link: usize, slot: usize, at: Moment, cells: &[u8]) {
        // First the age: once the values are there, they must count as fresh.
        self.still(link, at);
        if let Some(health) = self.health.links.get(link)
            && health.judge_slot(slot, true)
        {
            self.tell(Event::SlotGood { link, slot });
        }
        if let Some(transfer) = self.landing(link, slot) {
            self.land(transfer, at, cells, [].iter());
        }
    }

    /// A frame came that changes nothing: no board is touched and nobody is woken.
    pub(crate) fn still(&self, link: usize, at: Moment) {
        let (Some(own), Some(health)) = (self.plan.links.get(link), self.health.links.get(link)) else {
            return;
        };
        health.heard(at);
        let back = health.state() != LinkState::Run;
        if back {
            health.set_state(LinkState::Run);
        }
        for (_, transfer) in own.slots.iter().filter_map(|slot| slot.comes) {
            if let Some(tally) = self.health.transfers.get(transfer) {
                tally.whole.came(at, Ok(()));
            }
        }
        if let Owner::Device(device) = own.with
            && let Some(known) = self.health.devices.get(device)
        {
            known.good(Some(at));
            if back {
                self.tell(Event::DeviceBack { device });
            }
        } else if back {
            self.tell(Event::LinkRuns { link });
        }
    }

    /// The other end says that what comes in a slot is bad.
    pub(crate) fn spoil_slot(&self, link: usize, slot: usize) {
        let Some(health) = self.health.links.get(link) else { return };
        if health.judge_slot(slot, false) {
            self.tell(Event::SlotBad { link, slot });
        }
        if let Some(transfer) = self.landing(link, slot) {
            self.lose_values(transfer);
        }
    }

    /// Others have named or addressed a station, or asked it to show itself.
    pub(crate) fn station_news(&self, link: usize, news: StationNews) {
        let Some(health) = self.health.links.get(link) else { return };
        match &news {
            StationNews::Begins(is) => {
                return is.iter().for_each(|(key, value)| health.station_is(key, value));
            }
            StationNews::Now { key, value, .. } => health.station_is(key, value),
            StationNews::Blinks | StationNews::Rival { .. } => {}
        }
        self.tell(Event::Station { link, news });
    }

    /// Nothing comes on a link any more.
    pub(crate) fn stop_link(&self, link: usize, why: &LinkLoss) {
        let (Some(own), Some(health)) = (self.plan.links.get(link), self.health.links.get(link)) else {
            return;
        };
        let before = health.state();
        health.set_state(match why {
            LinkLoss::Idle => LinkState::Idle,
            LinkLoss::Watchdog => LinkState::Watchdog,
            LinkLoss::Closed => LinkState::Closed,
            LinkLoss::Invalid => LinkState::Invalid,
        });
        if *why == LinkLoss::Idle {
            // Its frames come, and say so.
            health.heard_idle();
        }
        for (_, transfer) in own.slots.iter().filter_map(|slot| slot.comes) {
            self.lose_values(transfer);
        }
        match own.with {
            Owner::Device(device) => {
                let kind = if *why == LinkLoss::Idle { Kind::WrongMode } else { Kind::NoAnswer };
                if let Some(known) = self.health.devices.get(device) {
                    known.bad(failure_code(&Refusal::new(kind, Blame::Device)));
                    known.lost();
                }
                if before == LinkState::Run || before == LinkState::Waiting {
                    self.tell(Event::DeviceLost { device, kind });
                }
            }
            _ => self.tell(Event::LinkStopped { link, why: why.clone() }),
        }
    }

    /// Something became of a link.
    pub(crate) fn link_news(&self, link: usize, news: LinkNews) {
        let Some(health) = self.health.links.get(link) else { return };
        match &news {
            LinkNews::Opened { peer, period, lost_after, only_reads } => {
                let is_led = health.state() == LinkState::Run || health.state() == LinkState::Idle;
                // One that reads beside the owner changes nothing of what the owner has agreed.
                if !(*only_reads && is_led) {
                    health.open(*peer, *period, *lost_after);
                }
            }
            LinkNews::Refused { peer, refusal, .. } => {
                if matches!(
                    health.state(),
                    LinkState::Closed | LinkState::Watchdog | LinkState::Invalid | LinkState::Refused
                ) {
                    // Without a number there was no refusal: it was not reached.
                    let state = if refusal.native.is_some() { LinkState::Refused } else { LinkState::Closed };
                    health.set_state(state);
                    health.name_peer(*peer);
                }
                if let Some(Owner::Device(device)) = self.plan.links.get(link).map(|link| link.with)
                    && let Some(known) = self.health.devices.get(device)
                {
                    known.bad(failure_code(refusal));
                    known.lost();
                }
            }
            LinkNews::OneLess { .. } | LinkNews::Ended { .. } => {}
        }
        self.tell(Event::Link { link, news });
    }

    /// Reads cells that a rule fills, as one who asks would be answered: also in a block, which itself never refuses.
    ///
    /// # Errors
    /// As [`Board::read`]; no such image is no path.
    pub(crate) fn read_values(
        &self,
        image: usize,
        now: Moment,
        extent: Extent,
        out: &mut Vec<u8>,
    ) -> Result<(), Refusal> {
        let no_path = Refusal::new(Kind::NoPath, Blame::ClientIdentity);
        self.read_board(image).ok_or(no_path)?.read(now, extent, out)
    }

    /// What a message reads of an image that is exchanged in cycles: all that goes, as the next frame would carry it, or what
    /// came last.
    pub(super) fn read_block(
        &self,
        link: usize,
        board: &Board,
        now: Moment,
        extent: Extent,
        out: &mut Vec<u8>,
    ) -> Result<(), Refusal> {
        let bare = Refusal::new(Kind::NoSuchAddress, Blame::ClientIdentity);
        let own = self.plan.links.get(link).ok_or(bare)?;
        let inside = |whole: &Extent| whole.space == extent.space && extent.end() <= whole.end();
        if own.slots.iter().filter_map(|slot| slot.goes).any(|whole| inside(&whole)) {
            board.produce(now, extent, out);
            return Ok(());
        }
        let comes = own.slots.iter().filter_map(|slot| slot.comes).find(|(whole, _)| inside(whole));
        let (_, transfer) = comes.ok_or(bare)?;
        let brought = self.brought.get(transfer).ok_or(bare)?.lock().unwrap_or_else(PoisonError::into_inner);
        let range = extent.first as usize..extent.end() as usize;
        match brought.get(range) {
            // Nothing has come yet.
            None => out.resize(out.len() + extent.count as usize, 0),
            Some(cells) => out.extend_from_slice(cells),
        }
        Ok(())
    }
}
