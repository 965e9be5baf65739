//! Proofs of a site by the plan of its project, or by one that is spoilt.

use std::sync::Arc;
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_engine::prove::{Proof, prove};

/// Proves a sound site with a converter that runs by a plan of which something is spoilt.
pub(crate) fn proof(checked: &Arc<Checked>, spoil: impl FnOnce(&mut Plan)) -> Proof {
    assert!(!checked.has_errors(), "{:?}", checked.findings);
    let mut plan = Plan::build(&checked.project, &mut vec![]);
    spoil(&mut plan);
    prove(checked, Arc::new(plan), &|_| Err(String::new()), &mut |_| {}).unwrap()
}

/// What is not proven: rules by number, and other lines.
pub(crate) fn wrong(proof: &Proof) -> (Vec<usize>, Vec<&str>) {
    let rules = proof.rules.iter().enumerate().filter(|(_, rule)| !rule.proven).map(|(at, _)| at).collect();
    let others = proof.others.iter().filter(|(_, right)| !right).map(|(what, _)| what.as_str()).collect();
    (rules, others)
}

/// Why rules are not proven.
pub(crate) fn whys(proof: &Proof) -> Vec<&str> {
    proof.rules.iter().filter_map(|rule| rule.why.as_deref()).collect()
}
