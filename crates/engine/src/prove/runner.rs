//! The runner: bench, converter and reader; one round a pattern, all rules at once.

use super::field;
use super::steady::Watch;
use super::subject::{Feed, Subject};
use super::{Progress, Proof, RuleProof, Share};
use crate::Dialer;
use crate::converter::{Running, start};
use crate::health::HealthCounters;
use crate::moment::Clock;
use crate::rig::{Rig, RigWires};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};
use woodrush_core::check::Checked;
use woodrush_core::form::hex_words;
use woodrush_core::plan::Plan;
use woodrush_core::project::Owner;
use woodrush_core::protocol::{Extent, refusal_shown};
use woodrush_core::{Kind, Refusal};

/// How long the reader waits for one answer, in microseconds.
pub(super) const PATIENCE: u64 = 5_000_000;
/// What is added to the age before a value counts as not arrived: a shared machine may be away for a while.
pub(super) const GRACE: u64 = 3_000_000;
/// How much longer a device that counts as lost is waited for, in microseconds.
pub(super) const LOST: u64 = 8_000_000;

/// How long the machine may have been away before a proof that fails is taken again, in microseconds.
const AWAY: u64 = 1_000_000;

/// What a bench is made of besides its project: the texts of replays, and real interfaces.
pub type BenchParts<'a> = (&'a dyn Fn(&str) -> Result<String, String>, &'a RigWires);

/// Proves every rule of a project on its bench. `plan` is what the converter runs by; it is the project's own but in
/// tests that break it on purpose. `read_file` brings the text of a replay.
///
/// # Errors
/// The bench or the converter cannot be brought up, in words.
pub fn prove(
    checked: &Arc<Checked>,
    plan: Arc<Plan>,
    read_file: &dyn Fn(&str) -> Result<String, String>,
    progress: &mut dyn FnMut(Progress),
) -> Result<Proof, String> {
    prove_on(checked, plan, (read_file, &RigWires::new()), progress)
}

/// The same, with simulated stations of some ports on real interfaces.
///
/// # Errors
/// As [`prove`].
pub fn prove_on(
    checked: &Arc<Checked>,
    plan: Arc<Plan>,
    rig: BenchParts<'_>,
    progress: &mut dyn FnMut(Progress),
) -> Result<Proof, String> {
    let (first, away) = once(checked, Arc::clone(&plan), rig, progress)?;
    if first.holds() || away < AWAY {
        return Ok(first);
    }
    // What is wrong in the converter stays wrong, and what was seen the first time is not kept back.
    let (mut again, _) = once(checked, plan, rig, progress)?;
    let seconds = away as f64 / 1e6;
    let what = format!(
        "the whole proof was repeated: this computer stalled for {seconds:.1} s, and {}",
        first.faults()
    );
    again.others.push((what, true));
    Ok(again)
}

/// One proof, and how long the machine was away meanwhile, in microseconds.
fn once(
    checked: &Arc<Checked>,
    plan: Arc<Plan>,
    (read_file, wires): BenchParts<'_>,
    progress: &mut dyn FnMut(Progress),
) -> Result<(Proof, u64), String> {
    let clock = Clock::start();
    let rig = Rig::up_on(Arc::clone(checked), read_file, wires).map_err(|fault| fault.to_string())?;
    rig.stand_still();
    // One side alone first: a device that does not answer here cannot be heard through the converter either.
    let field = field::alone(checked, &rig, progress);
    let running = start(checked, plan, &rig.bindings(), |_| {}).map_err(|fault| fault.to_string())?;
    rig.serves(&running.listening());
    rig.begin_controllers(true).map_err(|fault| fault.to_string())?;
    let subjects: Vec<Subject> =
        (0..checked.project.maps.len()).filter_map(|map| Subject::of(checked, map)).collect();
    let results = subjects.iter().map(|_| RuleResult::default()).collect();
    let watch = Watch::begin();
    let begun = watch.away();
    let mut runner = Runner {
        checked,
        rig,
        health: Arc::clone(&running.shared().health),
        again: 0,
        watch,
        noted: (0, 0),
        _running: running,
        subjects,
        results,
        readers: HashMap::new(),
        last: HashMap::new(),
        clock,
        others: vec![],
        forwards: Share::default(),
        began: today(),
        field,
    };
    runner.wait_for_controllers();
    runner.part_patterns();
    runner.fill_slots();
    runner.read_rounds(progress);
    runner.bad_slots(progress);
    runner.write_rounds(progress);
    runner.guarded(progress);
    runner.forwards(progress);
    runner.together(progress);
    runner.loss(progress);
    runner.loss_of_one(progress);
    runner.controllers(progress);
    runner.tell_of_tries();
    for result in &mut runner.results {
        result.loss = result.why.is_none();
    }
    let away = runner.watch.away() - begun;
    Ok((runner.proof(), away))
}

#[allow(clippy::disallowed_methods, reason = "the date of a report, which nothing is decided by")]
fn today() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs())
}

#[derive(Default)]
pub(super) struct RuleResult {
    pub(super) read: u32,
    pub(super) written: u32,
    pub(super) loss: bool,
    pub(super) micros: Vec<u64>,
    pub(super) why: Option<String>,
}

impl RuleResult {
    pub(super) fn fail(&mut self, why: String) {
        self.why.get_or_insert(why);
    }
}

pub(super) struct Runner<'a> {
    pub(super) checked: &'a Checked,
    pub(super) rig: Rig,
    /// What the converter counts.
    pub(super) health: Arc<HealthCounters>,
    /// Steps that were tried again.
    pub(super) again: u32,
    pub(super) watch: Watch,
    /// Requests without a sound answer, and how long the machine was away, up to the last step.
    pub(super) noted: (u64, u64),
    /// Held so that it goes on.
    _running: Running,
    pub(super) subjects: Vec<Subject>,
    pub(super) results: Vec<RuleResult>,
    pub(super) readers: HashMap<usize, Dialer>,
    /// The last cells that fitted and were seen, by rule and value: what `hold` shows.
    pub(super) last: HashMap<(usize, u32), Vec<u8>>,
    pub(super) clock: Clock,
    pub(super) others: Vec<(String, bool)>,
    pub(super) forwards: Share,
    /// Unix seconds.
    began: u64,
    /// By device: why it does not answer alone.
    field: Vec<Option<String>>,
}

pub(super) fn told(result: &Result<Vec<u8>, Refusal>) -> String {
    match result {
        Ok(cells) => hex_words(cells),
        Err(refusal) => match refusal.native {
            Some(native) => refusal_shown(native),
            None => refusal.kind.words().to_string(),
        },
    }
}

impl Runner<'_> {
    fn reader(&mut self, image: usize) -> Option<&mut Dialer> {
        if !self.readers.contains_key(&image) {
            let station = self.checked.plan.images.get(image)?;
            let dialer =
                self.rig.dial(station.port, station.dialect?.name(), station, None, PATIENCE).ok()?;
            self.readers.insert(image, dialer);
        }
        self.readers.get_mut(&image)
    }

    pub(super) fn read(&mut self, image: usize, extent: Extent) -> Result<Vec<u8>, Refusal> {
        let gone = Refusal::new(Kind::NoPath, woodrush_core::Blame::Us);
        if self.exchanges(image) {
            // What the other end calls bad is no value to its controller.
            if self.is_bad(image, extent) {
                return Err(Refusal::new(Kind::Unsound, woodrush_core::Blame::Device));
            }
            return self.rig.with_controller(image, |own| own.peek(extent)).flatten().ok_or(gone);
        }
        let result = self.reader(image).ok_or(gone)?.read(extent);
        self.dropped(image, result.as_ref().err());
        result
    }

    /// A connection that gave no answer is opened again.
    fn dropped(&mut self, image: usize, refusal: Option<&Refusal>) {
        if matches!(refusal, Some(Refusal { native: None, .. })) {
            self.readers.remove(&image);
            if let Some(station) = self.checked.plan.images.get(image) {
                self.rig.forget(station.port);
            }
        }
    }

    pub(super) fn write(&mut self, image: usize, extent: Extent, cells: Vec<u8>) -> Result<(), Refusal> {
        let gone = Refusal::new(Kind::NoPath, woodrush_core::Blame::Us);
        if self.exchanges(image) {
            return self.rig.with_controller(image, |own| own.poke(extent, &cells)).ok_or(gone);
        }
        let result = self.reader(image).ok_or(gone)?.write(extent, cells);
        self.dropped(image, result.as_ref().err());
        result
    }

    /// Cells at the target of a rule: read by a client, or looked at in the device that is sent them.
    pub(super) fn see(&mut self, at: usize, extent: Extent) -> Result<Vec<u8>, Refusal> {
        let gone = Refusal::new(Kind::NoPath, woodrush_core::Blame::Us);
        match self.subjects.get(at).map(|subject| subject.to).ok_or(gone)? {
            Owner::Image(image) => self.read(image, extent),
            Owner::Device(device) => self.rig.peek(device, extent).ok_or(gone),
            Owner::Converter => Err(gone),
        }
    }

    pub(super) fn show(&self, subject: &Subject, item: u32) -> String {
        let extent = subject.target.item(item);
        let plan = &self.checked.plan;
        let board = plan.board_of(subject.to).and_then(|board| plan.board(board));
        let bit = subject.target.bit;
        board.map_or_else(String::new, |board| board.show_wide(extent.space, extent.first, extent.count, bit))
    }

    /// The age after which a rule's value must have come or gone.
    pub(super) fn patience(&self, subject: &Subject) -> u64 {
        let rule = self.checked.plan.rules.iter().find(|rule| rule.map == subject.map);
        let age = rule.map_or(0, |rule| if rule.max_age == u64::MAX { 0 } else { rule.max_age });
        // A device is known to be lost once it has not answered so often, the others of its line meanwhile either.
        let lost = subject.device.and_then(|device| {
            let own = self.checked.project.devices.get(device)?;
            let port = own.port?.value;
            let plan = &self.checked.plan;
            let here = plan.devices.iter().filter(|station| station.port == port).count() as u64;
            let polls = plan.transfers.iter().filter(|transfer| transfer.device() == subject.device);
            let every = polls.map(|poll| poll.cadence.interval()).min().unwrap_or(0);
            Some(u64::from(own.lost_after) * (here * plan.unanswered.get(port)?).max(every))
        });
        let own = age.max(if matches!(subject.feed, Feed::Health(_)) { lost.unwrap_or(0) } else { 0 });
        own / 2 * 3 + GRACE
    }

    /// What a client writes for a value: itself, or the register that holds its bit.
    pub(super) fn whole(&mut self, at: usize, item: u32, cells: &[u8]) -> Vec<u8> {
        let Some(subject) = self.subjects.get(at) else { return cells.to_vec() };
        let Some(bit) = subject.target.bit else { return cells.to_vec() };
        let (extent, each) = (subject.target.item(item), subject.target.each);
        let old = self.see(at, extent).unwrap_or_default();
        let word = old.iter().fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
        let on = u64::from(cells.first().is_some_and(|cell| *cell != 0));
        let word = word & !(1 << bit) | on << bit;
        word.to_be_bytes().get(8 - each.min(8)..).unwrap_or_default().to_vec()
    }

    fn proof(self) -> Proof {
        let project = &self.checked.project;
        let rules = self.subjects.iter().zip(self.results).filter_map(|(subject, mut result)| {
            let map = project.maps.get(subject.map)?;
            let position = project.sources.position(map.span);
            result.micros.sort_unstable();
            let milliseconds = |micros: Option<&u64>| micros.map(|micros| *micros as f64 / 1e3);
            let median_ms = milliseconds(result.micros.get(result.micros.len() / 2));
            let max_ms = milliseconds(result.micros.last());
            let carried = !matches!(subject.feed, Feed::Health(_));
            if carried && (result.read == 0 || subject.writable && result.written == 0) {
                result.fail("M40: no pattern was exercised in a direction that it allows".into());
            }
            // Which leg: the field side was tried alone before the converter was started.
            if let Some(why) = &mut result.why {
                let alone = subject.device.and_then(|device| self.field.get(device)).and_then(Option::as_ref);
                match (alone, subject.device) {
                    (Some(fault), _) => *why = format!("field side: {fault}; so {why}"),
                    (None, Some(_)) => {
                        *why = format!(
                            "{why} (the field side answers alone: the fault lies between it and the reader)"
                        )
                    }
                    (None, None) => {}
                }
            }
            Some(RuleProof {
                rule: map.name.as_ref().map_or_else(
                    || format!("{} -> {}", map.from.value, map.to.value),
                    |name| name.value.clone(),
                ),
                named: map.name.is_some(),
                at: format!("{}:{}", position.file, position.line),
                from: map.from.value.clone(),
                to: map.to.value.clone(),
                values: subject.count,
                patterns_read: result.read,
                patterns_written: subject.writable.then_some(result.written),
                on_loss_right: result.loss,
                median_ms,
                max_ms,
                proven: result.why.is_none(),
                why: result.why,
            })
        });
        Proof {
            format: 1,
            site: project.name.value.clone(),
            project_id: format!("{:016x}", self.checked.plan.fingerprint(project)),
            began_unix_s: self.began,
            machine: rustix::system::uname().nodename().to_string_lossy().into_owned(),
            version: env!("CARGO_PKG_VERSION").into(),
            rules: rules.collect(),
            forwards: self.forwards,
            others: self.others,
            took_s: self.clock.now().0 as f64 / 1e6,
        }
    }
}

pub(super) fn count_of(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}
