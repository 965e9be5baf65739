//! A device while it is set up: what was read of it, its blocks' modes, and the writes.

use super::{Ended, called};
use crate::Failure;
use crate::connections::{Connections, Failed};
use std::collections::BTreeMap;
use woodrush_core::check::Checked;
use woodrush_core::protocol::{Extent, SetUp, SetUpStep, Setup, Space};
use woodrush_core::wanted::Wanted;

/// How a block is.
#[derive(Debug, Clone, serde::Serialize)]
pub(super) struct BlockState {
    pub(super) name: String,
    /// Its mode and errors, in words.
    pub(super) state: String,
    /// It is in the mode that is wanted.
    pub(super) met: bool,
    /// Why not, or why its value is not what it looks like.
    pub(super) causes: Vec<String>,
}

/// A device while it is set up.
pub(super) struct Device<'d> {
    checked: &'d Checked,
    device: usize,
    name: String,
    setup: Setup,
    how: &'d dyn SetUp,
    connections: &'d mut Connections,
    /// By the name of the parameter.
    read: BTreeMap<String, Vec<u8>>,
    /// By block: how often it was changed, as it was read first.
    revisions: BTreeMap<String, Vec<u8>>,
    /// Blocks of which something was written.
    begun: Vec<String>,
    /// Those of them that were out of service before.
    out_before: Vec<String>,
}

impl<'d> Device<'d> {
    pub(super) fn new(
        checked: &'d Checked,
        device: usize,
        how: &'d dyn SetUp,
        connections: &'d mut Connections,
    ) -> Self {
        let station = checked.plan.devices.get(device);
        Self {
            checked,
            device,
            name: station.map(|own| own.name.clone()).unwrap_or_default(),
            setup: station.map(|own| own.setup.clone()).unwrap_or_default(),
            how,
            connections,
            read: BTreeMap::new(),
            revisions: BTreeMap::new(),
            begun: vec![],
            out_before: vec![],
        }
    }

    fn wanted(&self, space: &Space) -> Result<Wanted, Ended> {
        Wanted::of_space(self.checked, self.device, space)
            .ok_or_else(|| Ended::Failure(Failure::Usage(format!("{} has no size", space.name()))))
    }

    fn failed(&self, space: &Space, failed: Failed) -> Ended {
        Ended::Failed(called(&self.name, space), failed)
    }

    /// Reads a parameter, unless it was read since it was written last.
    pub(super) fn read(&mut self, space: &Space) -> Result<(), Ended> {
        if self.read.contains_key(space.name()) {
            return Ok(());
        }
        self.read_again(space)
    }

    fn read_again(&mut self, space: &Space) -> Result<(), Ended> {
        let wanted = self.wanted(space)?;
        let extent = wanted.place.extent();
        let answer = self.connections.ask(&wanted, |reach, station| reach.read(station, extent));
        let cells = answer.map_err(|failed| self.failed(space, failed))?.cells;
        self.read.insert(space.name().to_string(), cells);
        Ok(())
    }

    /// What was read of a parameter.
    pub(super) fn cells(&self, space: &Space) -> Vec<u8> {
        self.read.get(space.name()).cloned().unwrap_or_default()
    }

    /// What a step is about, in words: the parameter, or its member.
    pub(super) fn shown(&self, step: &SetUpStep, present: &[u8]) -> String {
        let all = self.how.shown(&step.space, present);
        let Some(dialect) = self.checked.plan.devices.get(self.device).and_then(|own| own.dialect) else {
            return all;
        };
        let members = dialect.notation().meanings().members(&step.space, present);
        let whole = step.wanted.len() + 1 >= present.len();
        if members.len() < 2 || whole {
            return all;
        }
        // The member that begins where the step does.
        let shown = dialect.notation().show(&step.space, step.first, 0, None, &self.setup).canonical;
        let name = shown.strip_prefix(step.space.name()).unwrap_or_default().trim_start_matches('.');
        let name = if name.is_empty() { "VALUE" } else { name };
        members.into_iter().find(|own| own.name == name).map_or(all, |own| own.shown)
    }

    /// How blocks are now.
    pub(super) fn states(&mut self, blocks: &[String]) -> Result<Vec<BlockState>, Ended> {
        let mut found = vec![];
        let mut seen: Vec<String> = vec![];
        for block in blocks {
            for space in self.how.looked_at(&self.setup, block) {
                // What others of them look at too is read once.
                if !seen.contains(&space.name().to_string()) {
                    self.read_again(&space)?;
                    seen.push(space.name().to_string());
                }
            }
            if let (Some(space), false) =
                (self.how.revision(&self.setup, block), self.revisions.contains_key(block))
            {
                self.read_again(&space)?;
                self.revisions.insert(block.clone(), self.cells(&space));
            }
            let read = |space: &Space| self.read.get(space.name()).cloned();
            let (state, met) = self.how.state(&self.setup, block, &read);
            let causes = self.how.causes(&self.setup, block, &read);
            found.push(BlockState { name: block.clone(), state, met, causes });
        }
        Ok(found)
    }

    /// Whether another tool has changed a block since it was read: looked at before its first write.
    pub(super) fn compare_revision(&mut self, block: &str) -> Result<(), Ended> {
        let Some(space) = self.how.revision(&self.setup, block) else { return Ok(()) };
        if self.begun.contains(&block.to_string()) {
            return Ok(());
        }
        self.begun.push(block.to_string());
        if self.is_out_of_service(block) {
            self.out_before.push(block.to_string());
        }
        self.read_again(&space)?;
        let now = self.cells(&space);
        match self.revisions.get(block) {
            Some(known) if *known != now => {
                let number = |cells: &[u8]| cells.iter().fold(0u32, |sum, byte| sum << 8 | u32::from(*byte));
                Err(Ended::Failure(Failure::Outside(format!(
                    "another tool changed {block} meanwhile (its static revision was {} and is {}): nothing more is written; run it again",
                    number(known),
                    number(&now)
                ))))
            }
            _ => Ok(()),
        }
    }

    /// Whether a block was out of service when its mode was read last.
    pub(super) fn is_out_of_service(&self, block: &str) -> bool {
        let Some(step) = self.how.out_of_service(&self.setup, block) else { return true };
        step.is_met(&self.cells(&step.space))
    }

    /// Puts a block out of service; gives back its mode as it was.
    pub(super) fn put_out_of_service(&mut self, block: &str) -> Result<Vec<u8>, Ended> {
        let Some(step) = self.how.out_of_service(&self.setup, block) else { return Ok(vec![]) };
        self.read(&step.space)?;
        let before = self.cells(&step.space);
        self.write(&step)?;
        Ok(before)
    }

    /// Blocks that we put out of service, as far as we know still are, and were not before.
    pub(super) fn left_out_of_service(&self) -> Vec<String> {
        let is_left = |block: &&String| self.is_out_of_service(block) && !self.out_before.contains(block);
        self.begun.iter().filter(is_left).cloned().collect()
    }

    /// Gives a block the mode back that it had.
    pub(super) fn restore(&mut self, block: &str, mode: &[u8]) -> Result<(), Ended> {
        match self.how.restore(&self.setup, block, mode) {
            Some(step) => self.write(&step),
            None => Ok(()),
        }
    }

    /// Writes a step, and reads back what is there then.
    pub(super) fn write(&mut self, step: &SetUpStep) -> Result<(), Ended> {
        let wanted = self.wanted(&step.space)?;
        let cells = step.target(&self.cells(&step.space));
        let extent = Extent {
            first: step.first,
            count: u32::try_from(cells.len()).unwrap_or(0),
            ..wanted.place.extent()
        };
        let taken = self.connections.ask(&wanted, |reach, station| reach.write(station, extent, cells));
        taken.map_err(|failed| self.failed(&step.space, failed))?;
        self.read_again(&step.space)?;
        if !step.is_mode && !step.is_met(&self.cells(&step.space)) {
            let what = format!(
                "{} was taken and is not what was written: {} is read back",
                called(&self.name, &step.space),
                self.how.shown(&step.space, &self.cells(&step.space))
            );
            return Err(Ended::Failure(Failure::Outside(what)));
        }
        Ok(())
    }
}
