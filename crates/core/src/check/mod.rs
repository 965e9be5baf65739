//! Every static fault of a project, all at once: what, where, why it hurts in the field, and the fix.

mod areas;
mod blocks;
mod cells;
mod clients;
mod cycles;
mod declared;
mod examples;
mod files;
mod forwarded;
mod forwards;
mod idle;
mod issued;
mod limits;
mod mapping;
mod mirrors;
mod network;
mod pace;
mod ports;
mod profiles;
mod rings;
mod slots;
mod taken_for;
mod tidy;
mod timing;
mod values;
mod wires;
mod writes;

pub use limits::descriptors;

pub use crate::checked::Checked;
pub use crate::finding::{Finding, RULES, Rule, Severity, rule};

use crate::plan::Plan;
use crate::project::Read;

/// Resolves the rules and runs every check.
#[must_use]
pub fn check(read: Read) -> Checked {
    let Read { project, mut findings } = read;
    let plan = Plan::build(&project, &mut findings);
    profiles::check(&project, &mut findings);
    examples::check(&project, &mut findings);
    ports::check(&project, &plan, &mut findings);
    wires::check(&project, &plan, &mut findings);
    network::check(&project, &plan, &mut findings);
    areas::check(&project, &plan, &mut findings);
    issued::check(&project, &plan, &mut findings);
    mapping::check(&project, &plan, &mut findings);
    cycles::check(&project, &plan, &mut findings);
    mirrors::check(&project, &plan, &mut findings);
    values::check(&project, &plan, &mut findings);
    writes::check(&project, &plan, &mut findings);
    blocks::check(&project, &plan, &mut findings);
    files::check(&project, &plan, &mut findings);
    declared::check(&project, &plan, &mut findings);
    forwards::check(&project, &mut findings);
    timing::check(&project, &plan, &mut findings);
    limits::check(&project, &plan, &mut findings);
    let read = clients::check(&project, &plan, &mut findings);
    pace::check(&project, &plan, &read, &mut findings);
    forwarded::check(&project, &plan, &mut findings);
    tidy::tidy(&mut findings);
    Checked { project, plan, findings }
}
