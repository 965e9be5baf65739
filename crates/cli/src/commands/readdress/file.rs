//! The change of the project file: one value, in place, with comments and layout as they were.

use super::MoveOrder;
use crate::Failure;
use std::path::{Path, PathBuf};
use toml_edit::{DocumentMut, Item, Value};
use woodrush_core::check::check;
use woodrush_core::project::read;
use woodrush_engine::{ReadyFile, read_plain};

/// A change that was tried on paper, and lies ready beside the file: whether it can be written is known before the device
/// is touched. Dropped unused, it leaves nothing.
pub(super) struct Change {
    /// The file itself: a link to it stays a link.
    path: PathBuf,
    ready: Option<ReadyFile>,
    shown: String,
}

impl Change {
    /// What the file would be; `None` where it says so already.
    ///
    /// # Errors
    /// The value is not one that can be changed in place, or the changed project would be wrong.
    pub(super) fn plan(path: &Path, order: &MoveOrder<'_>) -> Result<Option<Self>, Failure> {
        let (name, key) = (order.name, order.key);
        let own = order.checked.plan.devices.get(order.device).and_then(|station| station.setup.number(key));
        let known = order.checked.project.line_of(order.device).map(|line| line.value);
        let (moves, is_set) = (own != Some(order.to), order.to_line.filter(|line| known != Some(*line)));
        // Where the project says it already, a device of a `repeat` is as good as any.
        if !moves && is_set.is_none() {
            return Ok(None);
        }
        let unreadable =
            |error: std::io::Error| Failure::Usage(format!("{} cannot be read: {error}", path.display()));
        let whole = read_plain(path).map_err(Failure::Usage)?;
        let (mark, old) = match whole.strip_prefix('\u{FEFF}') {
            Some(rest) => ("\u{FEFF}", rest),
            None => ("", whole.as_str()),
        };
        let mut document: DocumentMut =
            old.parse().map_err(|error| Failure::Usage(format!("{}: {error}", path.display())))?;
        let device = document.get_mut("devices").and_then(|devices| devices.get_mut(name));
        let Some(device) = device.and_then(Item::as_table_like_mut) else {
            return Err(Failure::Usage(format!(
                "`{name}` comes from a `repeat`, whose {key} is an expression: change that by hand, and move the device with `--from` to the {key} that the project then gives it"
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
        if moves {
            put(key, Value::from(i64::from(order.to)));
        }
        if let Some(line) = is_set {
            put("line", Value::from(line.to_string()));
        }
        if said.is_empty() {
            return Ok(None);
        }
        let text = mark.to_string() + &with_line_ends_of(old, &document.to_string());
        Self::sound(path, &text, order)?;
        let shown = format!("{}: [devices.{name}] {}", path.display(), said.join(", "));
        let path = std::fs::canonicalize(path).map_err(unreadable)?;
        let ready = ReadyFile::beside(&path, text.as_bytes()).map_err(|error| {
            Failure::Outside(format!(
                "{} cannot be written: {error}; the device was not touched",
                path.display()
            ))
        })?;
        Ok(Some(Self { path, ready: Some(ready), shown }))
    }

    /// The changed project may have no fault that the present one has not.
    fn sound(path: &Path, text: &str, order: &MoveOrder<'_>) -> Result<(), Failure> {
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
                finding.rule.code, finding.what, finding.fix
            ))),
            None => Ok(()),
        }
    }

    /// Puts the new file in the place of the old one.
    pub(super) fn write(&mut self) -> Result<(), Failure> {
        self.ready.take().map_or(Ok(()), ReadyFile::place).map_err(|error| {
            Failure::Outside(format!(
                "the device has moved, and {} cannot be written: {error}; change it by hand: {}",
                self.path.display(),
                self.shown
            ))
        })
    }

    pub(super) fn shown(&self) -> String {
        self.shown.clone()
    }
}

/// A text with the line ends that another one has.
fn with_line_ends_of(old: &str, new: &str) -> String {
    let plain = new.replace("\r\n", "\n");
    if old.contains("\r\n") { plain.replace('\n', "\r\n") } else { plain }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn line_ends_are_those_that_were_there() {
        assert_eq!(with_line_ends_of("a\r\nb\r\n", "a\nc\n"), "a\r\nc\r\n");
        assert_eq!(with_line_ends_of("a\nb\n", "a\r\nc\n"), "a\nc\n");
    }
}
