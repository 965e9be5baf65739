//! The first half hour of the endurance run, which `cargo bench` makes hundreds of.
#![allow(missing_docs)]

use woodrush_benches::endurance::{Endurance, site};

#[test]
fn half_an_hour_of_faults_serves_and_sends_nothing_wrong_and_loses_nothing() {
    let checked = site::checked();
    let mut run = Endurance::new(&checked, 7);
    // With the look at whether all is well once nothing is wrong.
    run.run(1900);
    let seen = &run.seen;
    assert!(seen.bad().iter().all(|(_, count)| *count == 0), "{seen:?}");
    assert!(
        seen.right > 300 && seen.written > 100 && seen.sent > 5000 && seen.passed > 40 && seen.refused > 50,
        "{seen:?}"
    );
}
