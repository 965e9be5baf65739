//! Controllers that exchange blocks: nobody answers them and nobody refuses them a value, so what must hold is looked at in
//! the blocks. After idle, watchdog and close no device is sent what the controller wrote before.

use super::Progress;
use super::refusals::whole_word;
use super::runner::{GRACE, Runner, told};
use super::subject::{Feed, Subject};
use crate::moment::nap;
use crate::rig::SeenLink;
use woodrush_core::form::hex_words;
use woodrush_core::plan::CyclicLink;
use woodrush_core::project::{DeviceFaults, OnLoss, Owner};
use woodrush_core::protocol::Extent;

/// How long something is watched that must not happen, in microseconds: several frames of any controller on the bench, and
/// several requests of the lines behind them.
const WATCHED: u64 = 150_000;
/// How long a controller is waited for that opens its connection anew, in microseconds.
const OPENS: u64 = 10_000_000;

impl Runner<'_> {
    /// Whether a controller exchanges with an image in cycles.
    pub(super) fn exchanges(&self, image: usize) -> bool {
        self.checked.plan.link_of(Owner::Image(image)).is_some()
    }

    /// Whether a rule ends in a block.
    pub(super) fn in_cycles(&self, subject: &Subject) -> bool {
        subject.image().is_some_and(|image| self.exchanges(image))
    }

    /// Whether a frame can say of a part of an image's blocks that it is bad.
    pub(super) fn has_slots(&self, image: usize) -> bool {
        let station = self.checked.plan.images.get(image);
        station.and_then(|own| own.dialect?.cyclic()).is_some_and(|own| own.tells_loss())
    }

    /// Whether the controller of an image is told that these cells are bad.
    pub(super) fn is_bad(&self, image: usize, extent: Extent) -> bool {
        let owner = Owner::Image(image);
        let Some(link) = self.checked.plan.link_of(owner) else { return false };
        let slot = link.slots.iter().position(|slot| slot.goes.is_some_and(|own| own.space == extent.space));
        slot.is_some_and(|slot| self.rig.seen(owner).is_some_and(|seen| seen.bad.contains(&slot)))
    }

    fn links(&self) -> impl Iterator<Item = (usize, &CyclicLink)> {
        let image = |link: &CyclicLink| if let Owner::Image(image) = link.with { Some(image) } else { None };
        self.checked.plan.links.iter().filter_map(move |link| Some((image(link)?, link)))
    }

    /// Waits until every controller has its connection, and every device that we exchange with has ours.
    pub(super) fn wait_for_controllers(&self) {
        let begun = self.clock.now();
        let all = || {
            let seen = self.checked.plan.links.iter().map(|link| self.rig.seen(link.with));
            seen.flatten().all(|seen| seen.online)
        };
        while !all() && self.clock.now().since(begun) < OPENS {
            nap(2000);
        }
    }

    /// What is beside mapped values of a block must be 0.
    pub(super) fn zero_beside(&mut self, beside: &[(usize, Extent)]) {
        if beside.is_empty() {
            return;
        }
        let mut right = 0;
        for (image, extent) in beside {
            let result = self.read(*image, *extent);
            if result.as_ref().is_ok_and(|cells| cells.iter().all(|byte| *byte == 0)) {
                right += 1;
            } else if let Some(station) = self.checked.plan.images.get(*image) {
                let shown = station.show(extent.space, extent.first, None);
                self.others.push((format!("{shown}, which no rule feeds, is {}", told(&result)), false));
            }
        }
        let what = format!("unmapped bytes of blocks next to mapped ones: {right} of {} are 0", beside.len());
        self.others.push((what, right == beside.len()));
    }

    /// Cells of a value as a controller writes them: one bit comes into the byte around it.
    fn with_bit_of(&self, image: usize, at: usize, place: Extent, cells: &[u8]) -> Vec<u8> {
        let bit = self.subjects.get(at).and_then(Subject::source).and_then(|source| source.bit);
        let (Some(bit), true) = (bit, self.exchanges(image)) else { return cells.to_vec() };
        let around = self.rig.with_controller(image, |own| own.peek(place)).flatten().unwrap_or_default();
        let byte = around.first().copied().unwrap_or(0);
        let on = cells.iter().any(|cell| *cell != 0);
        vec![byte & !(1 << bit) | u8::from(on) << bit]
    }

    /// Writes a pattern of a rule where others write it.
    pub(super) fn enter(
        &mut self,
        at: usize,
        (image, place): (usize, Extent),
        cells: &[u8],
    ) -> Result<(), woodrush_core::Refusal> {
        let whole = self.with_bit_of(image, at, place, cells);
        self.write(image, place, whole)
    }

    /// Watches what must not change, or may only show as lost; what it is where it is something else.
    pub(super) fn left_alone(
        &mut self,
        at: usize,
        place: Extent,
        before: Option<&Vec<u8>>,
    ) -> Option<String> {
        let begun = self.clock.now();
        while self.clock.now().since(begun) < WATCHED {
            let seen = self.see(at, place);
            let subject = self.subjects.get(at)?;
            let good = seen.as_ref().is_ok_and(|cells| match subject.on_loss {
                OnLoss::Fill(word) => Some(cells) == before || whole_word(subject, cells, word),
                _ => Some(cells) == before,
            });
            if !good {
                let was = before.map_or_else(|| "nothing".into(), |cells| hex_words(cells));
                return Some(format!("{} is there where {was} was", told(&seen)));
            }
            nap(5000);
        }
        None
    }

    /// Idle, watchdog and close, a second owner and a wrong size, for every controller.
    pub(super) fn controllers(&mut self, progress: &mut dyn FnMut(Progress)) {
        let images: Vec<usize> = self.links().map(|(image, _)| image).collect();
        if images.is_empty() {
            return;
        }
        let doing = "controllers that stop";
        progress(Progress { doing, done: 0, of: 4 });
        self.stops("idle", &images, |runner, image, stop| {
            runner.rig.spoil_controller(image, |faults| faults.idles = stop);
        });
        progress(Progress { doing, done: 1, of: 4 });
        // A controller that is silent until both ends give up opens anew with a wrong size: it is refused, and stays away.
        let mut refused = vec![];
        self.stops("the watchdog", &images, |runner, image, stop| {
            let spoil = |faults: &mut DeviceFaults| (faults.mute, faults.wrong_size) = (stop, stop);
            if stop {
                runner.rig.spoil_controller(image, spoil);
                // Once both ends have given up it speaks again: what it sends while it is mute would be lost, and waited for.
                let _ = runner.wait_to_see(image, |seen| !seen.online);
                runner.rig.spoil_controller(image, |faults| faults.mute = false);
            } else {
                let right = if runner.has_slots(image) { broken_off } else { names_size };
                let seen = runner.wait_to_see(image, right);
                refused.push((image, seen.and_then(|seen| seen.refused)));
                runner.rig.spoil_controller(image, spoil);
            }
        });
        progress(Progress { doing, done: 2, of: 4 });
        for image in &images {
            self.second_owner(*image);
            self.wrong_slot(*image);
        }
        for (image, seen) in refused {
            self.wrong_size(image, &seen);
        }
        progress(Progress { doing, done: 3, of: 4 });
        let mut closed = false;
        self.stops("the close", &images, |runner, _, stop| {
            if stop != closed {
                closed = stop;
                match stop {
                    true => runner.rig.end_controllers(),
                    // Where they cannot begin again, nothing arrives, which is told.
                    false => drop(runner.rig.begin_controllers(true)),
                }
            }
        });
    }

    /// The rules by which a controller writes to devices, each with the image.
    fn written_to_devices(&self, images: &[usize]) -> Vec<(usize, usize)> {
        let of = |at: usize| {
            let subject = self.subjects.get(at)?;
            let Feed::Written(image, _) = &subject.feed else { return None };
            (images.contains(image) && subject.image().is_none() && !self.is_wrong(at))
                .then_some((at, *image))
        };
        (0..self.subjects.len()).filter_map(of).collect()
    }

    /// Lets every controller stop in one way: each device must be as the rule says, whatever stands in the controller's block
    /// meanwhile; and get the value again once it goes on.
    fn stops(&mut self, how: &str, images: &[usize], mut stop: impl FnMut(&mut Self, usize, bool)) {
        let rules = self.written_to_devices(images);
        let mut before = vec![];
        for (at, image) in &rules {
            before.push(self.carried(*at, *image, 0).err());
        }
        for ((at, _), why) in rules.iter().zip(before) {
            self.note(*at, why, &format!("before {how}"));
        }
        let held: Vec<Option<Vec<u8>>> = rules.iter().map(|(at, _)| self.look(*at).ok()).collect();
        for image in images {
            stop(self, *image, true);
        }
        // What a device gets once they stop is waited for; then nothing else may come.
        let since = self.clock.now();
        for ((at, _), held) in rules.iter().zip(&held) {
            if self.is_wrong(*at) {
                continue;
            }
            let why = self
                .wait_for(*at, since, GRACE, |subject, seen| stopped_rightly(subject, seen, held.as_ref()));
            self.note(*at, why, &format!("after {how}"));
        }
        for (at, image) in &rules {
            if !how.contains("close") {
                self.poke_pattern(*at, *image, 1);
            }
        }
        let begun = self.clock.now();
        while self.clock.now().since(begun) < WATCHED {
            for ((at, _), held) in rules.iter().zip(&held) {
                if self.is_wrong(*at) {
                    continue;
                }
                let seen = self.look(*at);
                let Some(subject) = self.subjects.get(*at) else { continue };
                if !stopped_rightly(subject, &seen, held.as_ref()) {
                    let why = format!("{} is sent {}", self.show(subject, 0), told(&seen));
                    self.note(*at, Some(why), &format!("after {how}"));
                }
            }
            nap(5000);
        }
        for image in images {
            stop(self, *image, false);
        }
        self.wait_for_controllers();
        for (at, image) in &rules {
            let why = self.carried(*at, *image, 1).err();
            self.note(*at, why, &format!("once it went on after {how}"));
        }
        let right = rules.iter().filter(|(at, _)| !self.is_wrong(*at)).count();
        let what = format!(
            "after {how} of a controller {right} of {} devices' values are as `on-loss` says",
            rules.len()
        );
        if !rules.is_empty() {
            self.others.push((what, right == rules.len()));
        }
    }

    /// The pattern of a round that fits at both ends and does not look like a loss, with what a device gets for it.
    pub(super) fn plain_pattern(&self, at: usize, round: usize) -> Option<(Vec<u8>, Vec<u8>)> {
        let subject = self.subjects.get(at)?;
        let plain = |cells: &Vec<u8>| {
            let shown = subject.carried(cells)?;
            let is_fill = match subject.on_loss {
                OnLoss::Fill(word) => whole_word(subject, &shown, word),
                _ => false,
            };
            (!is_fill).then(|| (cells.clone(), shown))
        };
        let fitting: Vec<(Vec<u8>, Vec<u8>)> = subject.patterns.iter().filter_map(plain).collect();
        fitting.get(round % fitting.len().max(1)).cloned()
    }

    /// Puts the pattern of a round into the controller's block.
    fn poke_pattern(&mut self, at: usize, image: usize, round: usize) -> Option<()> {
        let (cells, _) = self.plain_pattern(at, round)?;
        let place = self.subjects.get(at)?.source()?.item(0);
        self.enter(at, (image, place), &cells).ok()
    }

    /// Puts a pattern into the controller's block and waits until the device has it.
    fn carried(&mut self, at: usize, image: usize, round: usize) -> Result<(), String> {
        let Some((_, wanted)) = self.plain_pattern(at, round) else { return Ok(()) };
        let begun = self.clock.now();
        let patience = self.subjects.get(at).map_or(GRACE, |subject| self.patience(subject)) + OPENS;
        loop {
            // Again: the controller may have begun anew, with nothing in its block.
            let _ = self.poke_pattern(at, image, round);
            let seen = self.look(at);
            let Some(subject) = self.subjects.get(at) else { return Ok(()) };
            if seen.as_ref().is_ok_and(|seen| subject.agrees(seen, &wanted)) {
                return Ok(());
            }
            if self.clock.now().since(begun) > patience {
                let shown = self.show(subject, 0);
                return Err(format!("{shown} is {}, and {} was expected", told(&seen), hex_words(&wanted)));
            }
            nap(2000);
        }
    }

    fn wait_to_see(&self, image: usize, right: impl Fn(&SeenLink) -> bool) -> Option<SeenLink> {
        let begun = self.clock.now();
        loop {
            let seen = self.rig.seen(Owner::Image(image));
            if seen.as_ref().is_none_or(&right) || self.clock.now().since(begun) > OPENS {
                return seen;
            }
            nap(2000);
        }
    }

    fn name_of(&self, image: usize) -> &str {
        self.checked.plan.images.get(image).map_or("", |image| image.name.as_str())
    }

    /// Another controller wants the outputs as well: it is refused, and the first one goes on.
    fn second_owner(&mut self, image: usize) {
        let writes = self.checked.plan.link_of(Owner::Image(image));
        if !writes.is_some_and(|link| link.slots.iter().any(|slot| slot.comes.is_some())) {
            return;
        }
        let before = self.rig.seen(Owner::Image(image)).unwrap_or_default();
        self.rig.spoil_controller(image, |faults| faults.second_owner = true);
        let owned = |seen: &SeenLink| {
            let told =
                |why: &String| why.contains("owned") || why.contains("another controller is connected");
            seen.refused.as_ref().is_some_and(told)
        };
        let seen = self.wait_to_see(image, owned).unwrap_or_default();
        self.rig.spoil_controller(image, |faults| faults.second_owner = false);
        let right = owned(&seen) && seen.online && seen.opened == before.opened;
        let what = format!(
            "a second owner of {} is refused ({}), and the first goes on",
            self.name_of(image),
            seen.refused.as_deref().unwrap_or("it was not")
        );
        self.others.push((what, right));
    }

    /// A controller that expects another module is told which slot differs, and goes on with the others.
    fn wrong_slot(&mut self, image: usize) {
        if !self.has_slots(image) {
            return;
        }
        self.rig.spoil_controller(image, |faults| faults.wrong_slot = true);
        let differs =
            |seen: &SeenLink| seen.online && seen.refused.as_ref().is_some_and(|why| why.contains("slot "));
        let seen = self.wait_to_see(image, differs).unwrap_or_default();
        self.rig.spoil_controller(image, |faults| faults.wrong_slot = false);
        let what = format!(
            "a module that {} has not is told to its controller ({}), which goes on",
            self.name_of(image),
            seen.refused.as_deref().unwrap_or("it was not")
        );
        self.others.push((what, differs(&seen)));
        self.wait_for_controllers();
    }

    /// A controller that asks for a wrong size is refused, with the right one named; where sizes follow from modules, frames
    /// of a wrong size are as good as none.
    fn wrong_size(&mut self, image: usize, seen: &Option<String>) {
        if self.has_slots(image) {
            let what = format!(
                "frames of a wrong size to {} are not taken ({})",
                self.name_of(image),
                seen.as_deref().unwrap_or("they were")
            );
            let right = seen.as_ref().is_some_and(|why| why.contains(BROKEN_OFF));
            return self.others.push((what, right));
        }
        let what = format!(
            "a wrong size at {} is refused with the right one ({})",
            self.name_of(image),
            seen.as_deref().unwrap_or("it was not")
        );
        let right = seen.as_ref().is_some_and(|why| why.contains(RIGHT_SIZE));
        self.others.push((what, right));
    }
}

/// What a refusal that names the right size says.
const RIGHT_SIZE: &str = "is right";

/// What an end that breaks off for want of frames says.
const BROKEN_OFF: &str = "no frame came in time";

fn broken_off(seen: &SeenLink) -> bool {
    seen.refused.as_ref().is_some_and(|why| why.contains(BROKEN_OFF))
}

fn names_size(seen: &SeenLink) -> bool {
    seen.refused.as_ref().is_some_and(|why| why.contains(RIGHT_SIZE))
}

/// Whether a device is as the rule says once its controller has stopped.
fn stopped_rightly(
    subject: &Subject,
    seen: &Result<Vec<u8>, woodrush_core::Refusal>,
    held: Option<&Vec<u8>>,
) -> bool {
    match (subject.on_loss, seen) {
        (OnLoss::Fill(word), Ok(cells)) => whole_word(subject, cells, word),
        (_, seen) => seen.as_ref().ok() == held,
    }
}
