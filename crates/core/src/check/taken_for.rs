//! What a client takes a value for, held against what it is.

use super::forwarded::ShownThere;
use crate::finding::Finding;
use crate::form::{Form, Order, Type};
use crate::source::Span;

/// What a client reads, held against what lies there: `order` gives what a form leaves open.
pub(super) fn forms_differ(
    client: &str,
    shown: &ShownThere<'_>,
    (theirs, scale_at, span): (&Form, Option<Span>, Span),
    ours: &Form,
    order: impl Fn(&Form) -> Option<Order>,
) -> Option<Finding> {
    if ours.ty == Type::Raw || theirs.ty == Type::Raw {
        return None;
    }
    let orders = (order(theirs), order(ours));
    let same_order = ours.ty.bytes().is_none_or(|bytes| bytes < 2)
        || matches!(orders, (None, _) | (_, None))
        || orders.0 == orders.1;
    let ShownThere { at, of } = shown;
    if ours.ty != theirs.ty || !same_order {
        let (theirs, ours) = (Form { order: orders.0, ..*theirs }, Form { order: orders.1, ..*ours });
        let what = format!("`{client}` reads {at} as `{theirs}`, and {of} `{ours}`");
        let fix = format!("read it as `{ours}`, or let it be `{theirs}` at both ends");
        return Some(Finding::new("M51", span, what).fix(fix));
    }
    if let Some(at_scale) = scale_at.filter(|_| theirs.scaling() != ours.scaling()) {
        let by = if theirs.is_scaled() { format!("by `{theirs}`") } else { "by 1".into() };
        let what = format!("`{client}` scales {at} {by}, and {of} `{ours}`");
        let finding = Finding::new("M62", at_scale, what);
        return Some(finding.fix("write the same scale and plus at both ends"));
    }
    None
}
