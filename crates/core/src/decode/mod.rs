//! Raw words as every type and order, which of those are plausible, and which of them give a value that is known.

mod rank;
mod words;

pub use rank::{Fit, Sample, TOLERANCE, agreeing, fits};
pub use words::{Base, WordsFault, parse_words};

use crate::form::{Conversion, Form, Order, Type, Value};
use crate::grain::Grain;

/// Cells of a register.
const REGISTER: Grain = Grain::Bytes(2);

/// Some of the words read in one way.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// The first word of it, from 0.
    pub at: usize,
    /// How many words.
    pub words: usize,
    /// Type and order.
    pub form: Form,
    /// The value; `None` where the bits mean none.
    pub value: Option<String>,
    /// Why it may well be what is meant; `None` where it hardly is.
    pub plausible: Option<&'static str>,
}

/// Types that words are tried as; text is as long as the words are.
const TYPES: [Type; 10] = [
    Type::U16,
    Type::I16,
    Type::Bcd16,
    Type::F32,
    Type::U32,
    Type::I32,
    Type::Bcd32,
    Type::F64,
    Type::U64,
    Type::I64,
];

/// Every way to read words, the first word first; of longer types only those that fit.
#[must_use]
pub fn readings(words: &[u16]) -> Vec<Reading> {
    let mut found = vec![];
    for ty in TYPES {
        let Ok(width) = ty.width(REGISTER) else { continue };
        for at in places(words.len(), width as usize) {
            let some = words.get(at..at + width as usize).unwrap_or_default();
            found.extend(
                orders(ty).map(|order| reading(at, some, Form { order: Some(order), ..Form::plain(ty) })),
            );
        }
    }
    if let Ok(characters) = u16::try_from(words.len() * 2)
        && (2..=250).contains(&characters)
    {
        let orders = Order::ALL.into_iter().filter(|order| !order.low_word_first);
        let text = |order| Form { order: Some(order), ..Form::plain(Type::Text(characters)) };
        found.extend(orders.map(|order| reading(0, words, text(order))));
    }
    found
}

/// Where values of so many words may begin: one after the other, and where words are left over, at each.
fn places(words: usize, width: usize) -> impl Iterator<Item = usize> {
    let step = if words.is_multiple_of(width) { width } else { 1 };
    (0..words).step_by(step).filter(move |at| at + width <= words)
}

/// The orders that make a difference for a type.
fn orders(ty: Type) -> impl Iterator<Item = Order> {
    let wide = ty.bytes().is_some_and(|bytes| bytes > 2);
    Order::ALL.into_iter().filter(move |order| wide || !order.low_word_first)
}

fn bytes_of(words: &[u16]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_be_bytes()).collect()
}

fn reading(at: usize, words: &[u16], form: Form) -> Reading {
    let cells = bytes_of(words);
    let raw = raw(&form, &cells);
    let value = raw.as_ref().and_then(|_| Conversion::shown(&form, &cells));
    let plausible = raw.as_ref().and_then(|raw| plausible(form.ty, raw));
    // The same bytes in another order are a worse guess than in the usual one.
    let low_byte = form.order().low_byte_first && !matches!(form.ty, Type::Text(_));
    let same = low_byte && words.iter().all(|word| word.swap_bytes() == *word);
    Reading { at, words: words.len(), form, value, plausible: plausible.filter(|_| !same) }
}

/// The raw value of cells in a form.
fn raw(form: &Form, cells: &[u8]) -> Option<Value> {
    let mut bytes = cells.to_vec();
    form.order().apply(&mut bytes);
    Value::read(form.ty, &bytes)
}

/// Why such a value may well be what is meant.
fn plausible(ty: Type, raw: &Value) -> Option<&'static str> {
    match (ty, raw) {
        (_, Value::Float(number)) if *number == 0.0 => None,
        (_, Value::Float(number)) => {
            (1e-4..1e7).contains(&number.abs()).then_some("a number of everyday size")
        }
        (Type::Bcd16 | Type::Bcd32, Value::Whole(number)) => (*number > 9).then_some("decimal digits only"),
        (Type::U16 | Type::I16, Value::Whole(number)) => {
            (number.abs() <= 9999).then_some("a small whole number")
        }
        (_, Value::Whole(number)) => {
            (*number != 0 && number.abs() < 10_000_000).then_some("a small number for this many bits")
        }
        (_, Value::Text(text)) => {
            let printable = text.iter().all(|byte| (0x20..0x7F).contains(byte));
            (!text.is_empty() && printable).then_some("printable characters")
        }
        (_, Value::Bit(_)) => None,
    }
}

#[cfg(test)]
mod tests;
