//! What an issue of the address table holds: every value of every image, as it is handed over now.

use super::{HandedValue, values_of};
use crate::ledger::IssuedValue;
use crate::plan::Plan;
use crate::project::Project;
use crate::protocol::Setup;
use crate::source::Span;
use std::collections::BTreeMap;

/// Every value of the project's images, by image and address, as an issue holds it and as it is handed over.
#[must_use]
pub fn issued_values(project: &Project, plan: &Plan) -> BTreeMap<String, (IssuedValue, HandedValue)> {
    let mut all = BTreeMap::new();
    for (at, image) in project.images.iter().enumerate() {
        let Some(dialect) = project.image_dialect(at) else { continue };
        for value in values_of(project, plan, at) {
            let shown =
                dialect.notation().show(&value.space, value.first, value.width, value.bit, &Setup::default());
            all.insert(format!("{}:{}", image.name.value, shown.canonical), (issued(&value), value));
        }
    }
    all
}

fn issued(value: &HandedValue) -> IssuedValue {
    let source = if value.source.is_empty() { "written by clients" } else { &value.source };
    IssuedValue {
        source: source.to_string(),
        form: value.form.to_string(),
        eu: value.eu.clone(),
        access: value.access_word().to_string(),
        span: Span::default(),
    }
}
