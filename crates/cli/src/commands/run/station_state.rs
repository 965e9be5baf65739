//! What others have told stations of the converter to keep: names and addresses, in `woodrush.state` beside the project.

use crate::Failure;
use crate::kept;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use woodrush_core::plan::Plan;
use woodrush_engine::converter::Event;
use woodrush_engine::speak::StationNews;

/// What is kept, by the name of an image and by key.
pub(super) type KeptOfStations = BTreeMap<String, BTreeMap<String, String>>;

/// The file, and what stands in it.
pub(super) struct StationState {
    place: PathBuf,
    pub(super) kept: KeptOfStations,
}

impl StationState {
    /// What the file beside a project says; nothing where there is none.
    pub(super) fn of(project: &Path) -> Result<Self, Failure> {
        let name = project.file_stem().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let place = project.with_file_name(format!("{name}.state"));
        let kept =
            kept::load(&place, "not what stations have kept; remove it, and they are as the project says")?;
        Ok(Self { place, kept: kept.unwrap_or_default() })
    }

    /// Keeps what an event says that outlives the run; why it could not, in words.
    pub(super) fn take(&mut self, plan: &Plan, event: &Event) -> Result<(), String> {
        let Event::Station { link, news: StationNews::Now { key, value, permanent: true } } = event else {
            return Ok(());
        };
        let station = plan.links.get(*link).and_then(|link| plan.station(link.with));
        let Some(station) = station else { return Ok(()) };
        self.kept.entry(station.name.clone()).or_default().insert((*key).to_string(), value.clone());
        kept::save(&self.place, &self.kept).map_err(|failure| {
            let why = match failure {
                Failure::Usage(why) | Failure::Outside(why) => why,
                Failure::OutputClosed => String::new(),
            };
            format!("{why}; `{}` is called as before after a restart", station.name)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SITE: &str = r#"
[ports.machine]
ethernet = "eth1"
protocol = "profinet"

[images.io]
port         = "machine"
station-name = "raceway-box"
slots        = [{ slot = 1, in = 2 }]
"#;

    /// A folder with a project, and that project's plan.
    fn site() -> (tempfile::TempDir, PathBuf, Plan) {
        let folder = tempfile::tempdir().unwrap();
        let project = folder.path().join("hatchery.toml");
        std::fs::write(&project, SITE).unwrap();
        let Ok(checked) = crate::project::load(&project) else { panic!("{SITE}") };
        (folder, project, checked.plan)
    }

    fn now(key: &'static str, value: &str, permanent: bool) -> Event {
        Event::Station { link: 0, news: StationNews::Now { key, value: value.into(), permanent } }
    }

    #[test]
    fn what_is_to_last_is_there_in_the_next_run_and_nothing_else() {
        let (folder, project, plan) = site();
        let file = folder.path().join("hatchery.state");
        let mut state = StationState::of(&project).unwrap_or_else(|_| panic!("there is none yet"));
        assert!(state.kept.is_empty());
        state.take(&plan, &now("station-name", "drum-9", false)).unwrap();
        let blinks = Event::Station { link: 0, news: StationNews::Blinks };
        state.take(&plan, &blinks).unwrap();
        assert!(!file.exists(), "what is for the time being is not kept");
        state.take(&plan, &now("station-name", "drum-2", true)).unwrap();
        state.take(&plan, &now("address", "192.0.2.31/24", true)).unwrap();
        state.take(&plan, &now("station-name", "drum-3", true)).unwrap();
        let Ok(again) = StationState::of(&project) else { panic!("it was written by ourselves") };
        let own = &again.kept["io"];
        assert_eq!((own["station-name"].as_str(), own["address"].as_str()), ("drum-3", "192.0.2.31/24"));
        // A link that the project does not have any more.
        state.take(&Plan::default(), &now("station-name", "drum-4", true)).unwrap();
        assert_eq!(again.kept, state.kept);
    }

    #[test]
    fn a_file_that_is_damaged_is_told_and_stays_as_it_is() {
        let (folder, project, _) = site();
        let file = folder.path().join("hatchery.state");
        for text in ["", "{", "[]", r#"{"io": {"station-name": 7}}"#, r#"{"io": "drum-2"}"#] {
            std::fs::write(&file, text).unwrap();
            let Err(Failure::Usage(why)) = StationState::of(&project) else { panic!("{text}") };
            let part =
                "hatchery.state is not what stations have kept; remove it, and they are as the project says";
            assert!(why.contains(part), "{why}");
            assert_eq!(std::fs::read_to_string(&file).unwrap(), text);
        }
    }

    #[test]
    fn what_cannot_be_kept_is_told_with_what_follows() {
        let (folder, project, plan) = site();
        let Ok(mut state) = StationState::of(&project) else { panic!("there is none yet") };
        // A folder is in its place, which no one may write over.
        std::fs::create_dir(folder.path().join("hatchery.state")).unwrap();
        let why = state.take(&plan, &now("station-name", "drum-2", true)).unwrap_err();
        for part in ["hatchery.state cannot be written", "`io` is called as before after a restart"] {
            assert!(why.contains(part), "{part}: {why}");
        }
        let left = std::fs::read_dir(folder.path()).unwrap().count();
        assert_eq!(left, 2, "the project and that folder: nothing half-made");
    }
}
