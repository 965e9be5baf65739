//! The change of the project file: one value, in place, with comments and layout as they were.

use super::Order;
use crate::Failure;
use std::path::{Path, PathBuf};
use toml_edit::{DocumentMut, Item, Value};
use woodrush_core::check::check;
use woodrush_core::project::read;

/// A change that was tried on paper.
pub(super) struct Change {
    path: PathBuf,
    text: String,
    shown: String,
}

impl Change {
    /// What the file would be; `None` where it says so already.
    ///
    /// # Errors
    /// The value is not one that can be changed in place, or the changed project would be wrong.
    pub(super) fn plan(path: &Path, order: &Order<'_>) -> Result<Option<Self>, Failure> {
        let (name, key) = (order.name, order.key);
        let unreadable =
            |error: std::io::Error| Failure::Usage(format!("{} cannot be read: {error}", path.display()));
        let old = std::fs::read_to_string(path).map_err(unreadable)?;
        let mut document: DocumentMut =
            old.parse().map_err(|error| Failure::Usage(format!("{}: {error}", path.display())))?;
        let device = document.get_mut("devices").and_then(|devices| devices.get_mut(name));
        let Some(device) = device.and_then(Item::as_table_like_mut) else {
            return Err(Failure::Usage(format!(
                "`{name}` comes from a `repeat`, whose {key} is an expression: change that by hand, and move the device with `--from` and `--to` of a device of its own"
            )));
        };
        let mut said = vec![];
        let mut put = |key: &str, value: Value| {
            let before = device.get(key).and_then(Item::as_value);
            let was = before.map(|value| value.clone().decorated("", "").to_string());
            let now = value.to_string();
            if was.as_deref() == Some(now.trim()) {
                return;
            }
            said.push(match was {
                Some(was) => format!("{key} = {was} -> {}", now.trim()),
                None => format!("{key} = {}", now.trim()),
            });
            match device.get_mut(key).and_then(Item::as_value_mut) {
                // The key stays as it is written, and a comment behind the value belongs to the value.
                Some(place) => {
                    let decor = place.decor().clone();
                    *place = value;
                    *place.decor_mut() = decor;
                }
                None => drop(device.insert(key, Item::Value(value))),
            }
        };
        let own = order.checked.plan.devices.get(order.device).and_then(|station| station.setup.number(key));
        if own != Some(order.to) {
            put(key, Value::from(i64::from(order.to)));
        }
        if let Some(line) = order.to_line {
            let known = order.checked.project.line_of(order.device).map(|line| line.value);
            if known != Some(line) {
                put("line", Value::from(line.to_string()));
            }
        }
        if said.is_empty() {
            return Ok(None);
        }
        let text = document.to_string();
        Self::sound(path, &text, order)?;
        let shown = format!("{}: [devices.{name}] {}", path.display(), said.join(", "));
        Ok(Some(Self { path: path.to_path_buf(), text, shown }))
    }

    /// The changed project may have no fault that the present one has not.
    fn sound(path: &Path, text: &str, order: &Order<'_>) -> Result<(), Failure> {
        let load = crate::project::reader(path);
        let next = check(read(&path.display().to_string(), text.to_string(), &mut |file| load(file)));
        let known: Vec<&str> = order.checked.findings.iter().map(|finding| finding.what.as_str()).collect();
        let new = next.findings.iter().find(|finding| {
            finding.severity == woodrush_core::finding::Severity::Error
                && !known.contains(&finding.what.as_str())
        });
        match new {
            Some(finding) => Err(Failure::Usage(format!(
                "the project would be wrong then: {} {} ({})",
                finding.rule.code, finding.what, finding.mend
            ))),
            None => Ok(()),
        }
    }

    /// Writes the file; it is whole at every moment.
    pub(super) fn write(&self) -> Result<(), Failure> {
        let beside = self.path.with_extension("toml.new");
        let fault = |error: std::io::Error| {
            Failure::Outside(format!(
                "the device has moved, and {} cannot be written: {error}; change it by hand: {}",
                self.path.display(),
                self.shown
            ))
        };
        std::fs::write(&beside, &self.text).and_then(|()| std::fs::rename(&beside, &self.path)).map_err(fault)
    }

    pub(super) fn shown(&self) -> String {
        self.shown.clone()
    }
}
