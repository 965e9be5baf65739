//! What clients and installers know of a site: as a project says it now, or as it was handed over.

use crate::checked::Checked;
use crate::handover::{HandedValue, device_settings, image_settings, issued_values};
use crate::ledger::{EndSettings, Issue, IssuedValue};
use crate::plan::Plan;
use crate::project::{Project, show_micros};
use std::collections::BTreeMap;

/// One value, as its clients know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownValue {
    /// What an issue holds of it.
    pub issued: IssuedValue,
    /// Index of the `[[map]]` that shows it; `None` in an issue.
    pub map: Option<usize>,
    /// How often it is renewed, in words; `None` where that is not known.
    pub every: Option<String>,
    /// What a reader gets once it is lost; likewise.
    pub on_loss: Option<String>,
}

/// All that is set at clients and devices.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KnownSite {
    /// How images are asked, by name.
    pub images: BTreeMap<String, EndSettings>,
    /// How devices are set, by name.
    pub devices: BTreeMap<String, EndSettings>,
    /// Values by image and address: `scada:300001`.
    pub values: BTreeMap<String, KnownValue>,
}

impl KnownSite {
    /// What an issue says.
    #[must_use]
    pub fn of_issue(issue: &Issue) -> Self {
        let known = |(address, value): (&String, &IssuedValue)| {
            let value = KnownValue { issued: value.clone(), map: None, every: None, on_loss: None };
            (address.clone(), value)
        };
        Self {
            images: issue.images.clone(),
            devices: issue.devices.clone(),
            values: issue.values.iter().map(known).collect(),
        }
    }

    /// What a project says.
    #[must_use]
    pub fn of_project(checked: &Checked) -> Self {
        Self::of_plan(&checked.project, &checked.plan)
    }

    /// The same, before all its faults are found.
    #[must_use]
    pub fn of_plan(project: &Project, plan: &Plan) -> Self {
        let known = |(address, (issued, value)): (String, (IssuedValue, HandedValue))| {
            let every = value.every.map(show_micros);
            let on_loss = value.on_loss.map(|on_loss| on_loss.to_string());
            (address, KnownValue { issued, map: Some(value.map), every, on_loss })
        };
        Self {
            images: image_settings(project, plan),
            devices: device_settings(project, plan),
            values: issued_values(project, plan).into_iter().map(known).collect(),
        }
    }
}
