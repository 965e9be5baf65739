//! The table of keys as a JSON Schema (draft 7), for editors that complete and check TOML by one.

use serde_json::{Map, Value, json};
use woodrush_core::project::keys_of;
use woodrush_core::protocol::{Content, DIALECTS, Key, KeyKind};

/// What a duration looks like.
const DURATION: &str = r"^[0-9]+(\.[0-9]+)? ?(us|µs|ms|s|m|min|h)$";
/// What names of the user's own look like.
const NAME: &str = "^[a-z][a-z0-9-]*$";

/// The schema of a file whose outermost keys are those of `table`.
pub(crate) fn schema(table: &str, title: &str) -> Value {
    let mut schema = of_table(table);
    if let Some(schema) = schema.as_object_mut() {
        schema.insert("$schema".into(), json!("http://json-schema.org/draft-07/schema#"));
        schema.insert("title".into(), json!(title));
    }
    schema
}

fn of_table(table: &str) -> Value {
    // Where a table stands for several, its numbers may be expressions of n.
    let repeats = keys_of(table).any(|key| key.name == "repeat" && key.kind == KeyKind::Text);
    let properties: Map<String, Value> =
        keys_of(table).map(|key| (key.name.to_string(), of_key(key, repeats))).collect();
    json!({ "type": "object", "properties": properties, "additionalProperties": false })
}

fn of_key(key: &Key, repeats: bool) -> Value {
    let mut schema = match key.kind {
        KeyKind::Text if key.name == "protocol" => {
            json!({ "enum": DIALECTS.iter().map(|dialect| dialect.name()).collect::<Vec<_>>() })
        }
        KeyKind::Text => json!({ "type": "string" }),
        KeyKind::Whole(low, high) => number(low, (high < i64::MAX).then_some(high), repeats, None),
        KeyKind::Station { high, any } => number(0, Some(high), repeats, any.then_some("any")),
        KeyKind::Duration => json!({ "type": "string", "pattern": DURATION }),
        KeyKind::DurationOr(word) => {
            json!({ "anyOf": [{ "type": "string", "pattern": DURATION }, { "const": word }] })
        }
        KeyKind::Switch => json!({ "type": "boolean" }),
        KeyKind::Choice(words) => json!({ "enum": words }),
        KeyKind::Texts => texts(),
        KeyKind::Row(table) => of_table(table),
        KeyKind::Rows(table) => json!({ "type": "array", "items": of_table(table), "minItems": 1 }),
        KeyKind::Own(content) => of_content(content),
    };
    if let Some(schema) = schema.as_object_mut() {
        schema.insert("description".into(), json!(key.doc));
    }
    schema
}

fn number(low: i64, high: Option<i64>, repeats: bool, word: Option<&str>) -> Value {
    let mut whole = json!({ "type": "integer", "minimum": low });
    if let (Some(high), Some(whole)) = (high, whole.as_object_mut()) {
        whole.insert("maximum".into(), json!(high));
    }
    match (repeats, word) {
        (true, _) => json!({ "anyOf": [whole, { "type": "string" }] }),
        (false, Some(word)) => json!({ "anyOf": [whole, { "const": word }] }),
        (false, None) => whole,
    }
}

fn texts() -> Value {
    json!({ "type": "array", "items": { "type": "string" } })
}

/// A table whose keys are the user's own names.
fn named(each: Value) -> Value {
    json!({ "type": "object", "patternProperties": { NAME: each }, "additionalProperties": false })
}

fn of_content(content: Content) -> Value {
    match content {
        Content::Table(table) => of_table(table),
        Content::Tables(table) => named(of_table(table)),
        Content::List(table) => json!({ "type": "array", "items": of_table(table) }),
        Content::Signals => named(json!({ "type": "object", "additionalProperties": { "type": "string" } })),
        Content::Numbers => {
            json!({ "type": "object", "additionalProperties": { "type": "integer", "minimum": 0 } })
        }
        Content::Expression => json!({ "type": ["integer", "string"] }),
        Content::OneOrMore => json!({ "anyOf": [{ "type": "string" }, texts()] }),
        Content::Units => named(json!({ "anyOf": [{ "type": "string" }, texts()] })),
        Content::TextOrNames => json!({ "anyOf": [
            { "type": "string" },
            { "type": "object", "additionalProperties": { "type": "string" } },
        ] }),
        Content::Values => named(json!({ "type": ["string", "number"] })),
        Content::Wholes => {
            json!({ "type": "array", "items": { "type": "integer", "minimum": 0 }, "minItems": 1 })
        }
        Content::Range => {
            json!({ "type": "array", "items": { "type": "number" }, "minItems": 2, "maxItems": 2 })
        }
    }
}
