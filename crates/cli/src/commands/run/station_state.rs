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
