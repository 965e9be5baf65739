//! Which type, order, scale and offset give values that are known.

use super::{TYPES, bytes_of, orders, places, raw};
use crate::form::{Decimal, Form, Type, Value};
use crate::grain::Grain;

/// How far a value may be from what is expected, as a share of it: instruments and their displays differ a little.
pub const TOLERANCE: f64 = 0.01;

/// So many of the last samples are looked at for forms, where none gives all.
const TRIED: usize = 8;

/// More words than any type has: a range in which the value is looked for.
const MANY: usize = 4;

/// Powers of ten that people scale by, the likeliest first.
const SCALES: [i8; 9] = [0, -1, -2, -3, 1, 2, -4, 3, -5];

/// Words with the value that they stand for.
#[derive(Debug, Clone, PartialEq)]
pub struct Sample {
    /// The raw words.
    pub words: Vec<u16>,
    /// What it should be.
    pub value: f64,
}

/// A form that gives every expected value.
#[derive(Debug, Clone, PartialEq)]
pub struct Fit {
    /// The first word of it, from 0.
    pub at: usize,
    /// How many words.
    pub words: usize,
    /// Type, order, scale and plus.
    pub form: Form,
    /// What it gives for each sample.
    pub values: Vec<f64>,
    /// The farthest from what was expected, as a share of it.
    pub error: f64,
    /// How many of the samples it gives.
    pub agrees: usize,
    /// Less is likelier.
    odd: u32,
}

impl Fit {
    /// Whether it is all that it takes: nothing has to be assumed but type and order.
    #[must_use]
    pub fn is_plain(&self) -> bool {
        !self.form.is_scaled()
    }

    /// How unlikely it is: a long way off within the tolerance is odd too.
    fn far(&self, tolerance: f64) -> u32 {
        self.odd
            + match self.error / tolerance.max(1e-9) {
                0.5.. => 3,
                0.1.. => 2,
                _ => 0,
            }
    }
}

/// Every form that gives all expected values within `tolerance`, a share of each; the likeliest first. A value near
/// nought is held against `tolerance` itself.
#[must_use]
pub fn fits(samples: &[Sample], tolerance: f64) -> Vec<Fit> {
    let Some(least) = samples.iter().map(|sample| sample.words.len()).min() else { return vec![] };
    let mut found: Vec<Fit> = vec![];
    for ty in TYPES {
        let Ok(width) = ty.width(Grain::Bytes(2)) else { continue };
        let width = width as usize;
        // Words that are left over are one more thing to be explained.
        let unused = u32::try_from(least.saturating_sub(width)).unwrap_or(9).min(3) * 4;
        // Of many words, any may be the first one of the value.
        let begins: Vec<usize> = match least > MANY {
            true => (0..(least + 1).saturating_sub(width)).collect(),
            false => places(least, width).collect(),
        };
        for at in begins {
            for order in orders(ty) {
                let plain = Form { order: Some(order), ..Form::plain(ty) };
                let raws: Option<Vec<f64>> =
                    samples.iter().map(|sample| number(&plain, sample.words.get(at..at + width)?)).collect();
                let Some(raws) = raws else { continue };
                // The bytes say the same in a likelier order, or as an unsigned number.
                let doubled = found.iter().any(|fit| {
                    fit.at == at && fit.form.ty == ty && same(samples, at, width, &fit.form, &plain)
                });
                let below = raws.iter().any(|raw| *raw < 0.0);
                if doubled || ty.is_signed() && ty.limits().is_some() && !below {
                    continue;
                }
                let mut best = None;
                for (step, power) in SCALES.iter().enumerate() {
                    let scale = Decimal { mantissa: 1, exponent: *power };
                    let fit = tried(samples, &raws, plain, at, width, (scale, Decimal::ZERO), tolerance);
                    let Some(mut fit) = fit else { continue };
                    fit.odd = oddness(ty, &plain) + unused + u32::try_from(step).unwrap_or(9) * 4;
                    best = Some(fit);
                    break;
                }
                found.extend(best.or_else(|| {
                    let (scale, plus) = straight_line(samples, &raws)?;
                    let mut fit = tried(samples, &raws, plain, at, width, (scale, plus), tolerance / 10.0)?;
                    fit.odd = oddness(ty, &plain) + unused + 60;
                    Some(fit)
                }));
            }
        }
    }
    // Of equally odd ones the nearest; a long way off within the tolerance is odd too.
    found.sort_by(|a, b| {
        a.far(tolerance).cmp(&b.far(tolerance)).then(a.error.total_cmp(&b.error)).then(a.at.cmp(&b.at))
    });
    found
}

/// The forms that give all expected values; where there are none, those that give most of them: one may have been read
/// off while the value moved.
#[must_use]
pub fn agreeing(samples: &[Sample], tolerance: f64) -> Vec<Fit> {
    let found = fits(samples, tolerance);
    if !found.is_empty() || samples.len() < 2 {
        return found;
    }
    let mut some: Vec<Fit> = vec![];
    for sample in samples.iter().rev().take(TRIED) {
        for mut fit in fits(std::slice::from_ref(sample), tolerance) {
            if some.iter().any(|known| (known.at, known.form) == (fit.at, fit.form)) {
                continue;
            }
            let plain = Form { scale: Decimal::ONE, plus: Decimal::ZERO, ..fit.form };
            let (scale, plus) = (fit.form.scale.as_f64(), fit.form.plus.as_f64());
            let value = |sample: &Sample| {
                let words = sample.words.get(fit.at..fit.at + fit.words)?;
                Some(number(&plain, words)? * scale + plus)
            };
            let values = samples.iter().map(|sample| value(sample).unwrap_or(f64::NAN));
            fit.values = values.collect();
            let near = samples.iter().zip(&fit.values).map(|(sample, value)| off(sample, *value));
            let near: Vec<f64> = near.filter(|off| *off <= tolerance).collect();
            (fit.agrees, fit.error) = (near.len(), near.into_iter().fold(0.0, f64::max));
            // What only one agrees with is chance.
            if fit.agrees > 1 {
                some.push(fit);
            }
        }
    }
    some.sort_by_key(|fit| (std::cmp::Reverse(fit.agrees), fit.far(tolerance)));
    some
}

/// How far a value is from what is expected, as a share of it.
fn off(sample: &Sample, value: f64) -> f64 {
    let off = (value - sample.value).abs();
    // What is expected near nought has no share.
    if sample.value.abs() < 1e-9 { off } else { off / sample.value.abs() }
}

fn number(form: &Form, words: &[u16]) -> Option<f64> {
    match raw(form, &bytes_of(words))? {
        Value::Whole(number) => Some(number as f64),
        Value::Float(number) => number.is_finite().then_some(number),
        Value::Bit(_) | Value::Text(_) => None,
    }
}

/// Whether two forms read the same number out of every sample.
fn same(samples: &[Sample], at: usize, width: usize, one: &Form, other: &Form) -> bool {
    let one = Form { scale: Decimal::ONE, plus: Decimal::ZERO, linear: None, ..*one };
    samples.iter().all(|sample| {
        let words = sample.words.get(at..at + width).unwrap_or_default();
        number(&one, words) == number(other, words)
    })
}

fn tried(
    samples: &[Sample],
    raws: &[f64],
    plain: Form,
    at: usize,
    words: usize,
    (scale, plus): (Decimal, Decimal),
    tolerance: f64,
) -> Option<Fit> {
    let values: Vec<f64> = raws.iter().map(|raw| raw * scale.as_f64() + plus.as_f64()).collect();
    let error = samples.iter().zip(&values).map(|(sample, value)| off(sample, *value));
    let error = error.fold(0.0, f64::max);
    (error <= tolerance).then_some(Fit {
        at,
        words,
        form: Form { scale, plus, ..plain },
        values,
        error,
        agrees: samples.len(),
        odd: 0,
    })
}

/// The scale and offset through the two samples whose raw values lie farthest apart, as round numbers: a line goes through
/// any two, and only round ones tell something.
fn straight_line(samples: &[Sample], raws: &[f64]) -> Option<(Decimal, Decimal)> {
    let pairs = raws.iter().zip(samples.iter().map(|sample| sample.value));
    let low = pairs.clone().min_by(|a, b| a.0.total_cmp(b.0))?;
    let high = pairs.max_by(|a, b| a.0.total_cmp(b.0))?;
    let apart = high.0 - low.0;
    if apart.abs() < 1e-9 {
        return None;
    }
    let scale = round((high.1 - low.1) / apart, 1)?;
    let plus = round(low.1 - low.0 * scale.as_f64(), 2)?;
    (scale.mantissa != 0).then_some((scale, plus))
}

/// The nearest number with so many digits behind its first.
fn round(number: f64, digits: usize) -> Option<Decimal> {
    if number.abs() < 1e-6 {
        return Some(Decimal::ZERO);
    }
    format!("{number:.digits$e}").parse().ok()
}

/// How seldom a type and an order are met; less is likelier.
fn oddness(ty: Type, form: &Form) -> u32 {
    let ty = match ty {
        Type::F32 => 0,
        Type::U16 | Type::I16 => 1,
        Type::U32 | Type::I32 => 2,
        Type::F64 => 3,
        Type::U64 | Type::I64 => 6,
        _ => 8,
    };
    let order = form.order();
    ty + match (order.low_word_first, order.low_byte_first) {
        (false, false) => 0,
        (true, false) => 1,
        (true, true) => 3,
        (false, true) => 4,
    }
}
