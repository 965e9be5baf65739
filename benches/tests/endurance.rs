//! The first hours of the endurance run, which `cargo bench` makes a hundred of.
#![allow(missing_docs)]

use woodrush_benches::checked;
use woodrush_benches::endurance::{Endurance, site};

#[test]
fn hours_of_faults_serve_nothing_wrong_and_lose_nothing() {
    for seed in [1, 7] {
        let checked = checked(site());
        let mut run = Endurance::new(&checked, seed);
        run.run(3600);
        let seen = &run.seen;
        assert_eq!(
            (seen.wrong, seen.old, seen.lost, seen.passed_wrong),
            (0, 0, 0, 0),
            "seed {seed}: {seen:?}"
        );
        assert!(
            seen.right > 1000 && seen.written > 100 && seen.passed > 300 && seen.refused > 100,
            "{seen:?}"
        );
    }
}
