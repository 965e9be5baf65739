//! What a user is told where a device or an image does not answer.

use super::{Connections, Project};
use std::net::{Ipv4Addr, SocketAddr};
use woodrush_core::plan::{Source, Station};
use woodrush_core::project::Owner;
use woodrush_core::wanted::Wanted;
use woodrush_core::{Kind, Refusal};
use woodrush_engine::Evidence;
use woodrush_engine::direct::{Cause, Diagnosis, Link, diagnose};

/// Why something could not be asked or was not answered, for people.
#[derive(Debug, Clone)]
pub(crate) struct Failed {
    pub(crate) diagnosis: Diagnosis,
    /// A device answered, with a refusal.
    pub(crate) answered: bool,
}

impl Failed {
    pub(super) fn of(seen: impl Into<String>, fix: impl Into<String>) -> Self {
        let causes = vec![Cause { what: fix.into(), test: String::new() }];
        Self { diagnosis: Diagnosis { seen: seen.into(), causes }, answered: false }
    }
}

impl Connections {
    /// What could not be reached without a converter between, how that is fixed, and whether the bench was likely meant.
    pub(crate) fn unreached(&self, seen: impl Into<String>, fix: impl Into<String>) -> Failed {
        let mut failed = Failed::of(seen, fix);
        if self.project.as_ref().is_some_and(|project| self.is_bench_meant(project)) {
            failed.diagnosis.causes.insert(0, bench());
        }
        failed
    }

    /// There is a bench, and `--rig` was not given.
    fn is_bench_meant(&self, project: &Project) -> bool {
        !self.rig && project.rig.say("lines", &[]).is_ok()
    }

    /// Says where the bench was likely meant.
    pub(super) fn also(&self, mut diagnosis: Diagnosis) -> Diagnosis {
        let Some(project) = &self.project else { return diagnosis };
        if project.running.is_none() && self.is_bench_meant(project) {
            diagnosis.causes.insert(0, bench());
        }
        diagnosis
    }

    /// An image that answers and has no value: the fault lies behind it.
    pub(super) fn with_leg(&self, wanted: &Wanted, mut diagnosis: Diagnosis, refusal: &Refusal) -> Diagnosis {
        let Some(checked) = self.checked() else { return diagnosis };
        let behind = matches!(refusal.kind, Kind::NoAnswer | Kind::NoPath) && refusal.native.is_some();
        let rule = wanted.rule.and_then(|rule| checked.plan.rules.get(rule));
        if let (true, Some(rule)) = (behind, rule)
            && let Source::Values { owner: Owner::Device(device), .. } = rule.source
            && let Some(map) = checked.project.maps.get(rule.map)
        {
            let name = checked.plan.devices.get(device).map_or("", |device| device.name.as_str());
            diagnosis.causes.insert(
                0,
                Cause {
                    what: format!("the converter answers, but it has lost {name}"),
                    test: format!("read the device directly: woodrush read {}", map.from.value),
                },
            );
        }
        diagnosis
    }
}

/// That the bench may be meant.
fn bench() -> Cause {
    let what = "the project's real ports were tried, and a rig of it is running".to_string();
    Cause { what, test: "the same with `--rig`".into() }
}

/// What a running converter says of a station that it asked for us.
pub(super) fn held(station: &Station, refusal: &Refusal, evidence: &Evidence) -> Diagnosis {
    if let Some(why) = &evidence.unasked {
        let what = "it runs the project as it was before the file was changed, or the port is busy".into();
        let test =
            "woodrush status tells whether it runs this project; SIGHUP, or `run --follow`, reloads it"
                .into();
        return Diagnosis {
            seen: format!("the running converter has not asked: {why}"),
            causes: vec![Cause { what, test }],
        };
    }
    if refusal.native.is_some() {
        let nowhere = Link::Socket(SocketAddr::from((Ipv4Addr::LOCALHOST, 0)));
        return diagnose(&nowhere, station, refusal, evidence);
    }
    let test = "woodrush status shows the port, the device and what is counted there".to_string();
    Diagnosis {
        seen: format!("through the converter that has the port: {}", refusal.kind.words()),
        causes: vec![Cause {
            what: format!("{} is lost, or the port is down", station.station_shown()),
            test,
        }],
    }
}
