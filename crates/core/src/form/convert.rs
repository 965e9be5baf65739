//! From one form to another: whole numbers exactly, rounding half away from zero, nothing that does not fit.

use super::{Decimal, Form, Linear, Type, Value};

/// What becomes of a value that does not fit its target.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Overflow {
    /// It counts as lost.
    #[default]
    Refuse,
    /// The nearest value that fits.
    Clamp,
}

/// One value's way from the form at its source to the form at its target.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Conversion {
    /// At the source.
    pub from: Form,
    /// At the target.
    pub to: Form,
    /// What becomes of a value that does not fit.
    pub overflow: Overflow,
}

impl Conversion {
    /// The way back, for writes: a value that does not fit is refused, never bent.
    #[must_use]
    pub const fn back(&self) -> Self {
        Self { from: self.to, to: self.from, overflow: Overflow::Refuse }
    }

    /// Whether the bytes stay as they are.
    #[must_use]
    pub fn is_copy(&self) -> bool {
        self.keeps_value() && self.from.order() == self.to.order()
    }

    /// Whether at most the order of the bytes changes, so that every bit pattern comes through, NaN included.
    #[must_use]
    pub fn keeps_value(&self) -> bool {
        (self.from.ty, self.from.scaling()) == (self.to.ty, self.to.scaling())
            && !matches!(self.from.ty, Type::Bool | Type::Bcd16 | Type::Bcd32)
    }

    /// Converts one value, both sides in cells as their spaces hold them.
    ///
    /// # Errors
    /// `()` where the value does not fit; `out` is then unchanged.
    #[allow(clippy::result_unit_err)]
    pub fn convert(&self, cells: &[u8], out: &mut [u8]) -> Result<(), ()> {
        if (self.from.ty, self.to.ty) == (Type::Raw, Type::Raw) && cells.len() != out.len() {
            return spread(cells, out);
        }
        if self.keeps_value() && cells.len() == out.len() {
            out.copy_from_slice(cells);
            if self.from.order() != self.to.order() {
                self.from.order().apply(out);
                self.to.order().apply(out);
            }
            return Ok(());
        }
        // The widest form is text of 250 characters.
        let mut buffer = [0; 256];
        let Some(bytes) = buffer.get_mut(..cells.len()) else { return Err(()) };
        bytes.copy_from_slice(cells);
        self.from.order().apply(bytes);
        let raw = Value::read(self.from.ty, bytes).ok_or(())?;
        let value = self.rescale(raw).ok_or(())?;
        let mut target = [0; 256];
        let Some(room) = target.get_mut(..out.len()) else { return Err(()) };
        if !value.write(self.to.ty, room) {
            return Err(());
        }
        self.to.order().apply(room);
        out.copy_from_slice(room);
        Ok(())
    }

    /// The raw value at the target: `(raw × scale + plus - plus') / scale'`, rounded and clamped where asked.
    fn rescale(&self, raw: Value) -> Option<Value> {
        let to_float = matches!(self.to.ty, Type::F32 | Type::F64);
        let same = self.from.scaling() == self.to.scaling();
        let float = match raw {
            Value::Text(_) => return Some(raw),
            Value::Bit(_) if same => return self.fit(raw),
            Value::Whole(_) if same => return self.fit(raw),
            Value::Bit(bit) => self.float_of(i128::from(bit)),
            Value::Whole(number) => match (to_float, self.exact(number)) {
                (false, Some((upper, lower))) => return self.fit(Value::Whole(divide_rounded(upper, lower))),
                (true, Some((upper, lower))) => upper as f64 / lower as f64,
                (_, None) => self.float_of(number),
            },
            Value::Float(number) if same => number,
            Value::Float(number) => self.near(number),
        };
        self.fit(Value::Float(float))
    }

    /// The same as a fraction of whole numbers; `None` where they would not fit 128 bits.
    fn exact(&self, raw: i128) -> Option<(i128, i128)> {
        if self.from.linear.is_some() || self.to.linear.is_some() {
            let (from, to) = (StraightLine::of(&self.from)?, StraightLine::of(&self.to)?);
            // ((raw × mul + add) / div × div' − add') / mul'
            let value = raw.checked_mul(from.mul)?.checked_add(from.add)?;
            let upper = value.checked_mul(to.div)?.checked_sub(to.add.checked_mul(from.div)?)?;
            return Some((upper, from.div.checked_mul(to.mul)?));
        }
        let parts = [self.from.scale, self.from.plus, self.to.plus];
        let least = parts.iter().map(|part| part.exponent).min()?;
        let up = |part: Decimal, by: i128| {
            by.checked_mul(part.mantissa.into())?.checked_mul(power(part.exponent - least)?)
        };
        let sum = up(self.from.scale, raw)?
            .checked_add(up(self.from.plus, 1)?)?
            .checked_sub(up(self.to.plus, 1)?)?;
        let (mut upper, mut lower) = (sum, i128::from(self.to.scale.mantissa));
        let shift = least.checked_sub(self.to.scale.exponent)?;
        if shift >= 0 {
            upper = upper.checked_mul(power(shift)?)?;
        } else {
            lower = lower.checked_mul(power(-shift)?)?;
        }
        Some((upper, lower))
    }

    fn float_of(&self, raw: i128) -> f64 {
        self.near(raw as f64)
    }

    /// The same in binary fractions.
    fn near(&self, raw: f64) -> f64 {
        let value = match &self.from.linear {
            Some(linear) => linear.value_of(raw),
            None => times(raw, self.from.scale) + self.from.plus.as_f64(),
        };
        match &self.to.linear {
            Some(linear) => linear.raw_of(value),
            None => over(value - self.to.plus.as_f64(), self.to.scale),
        }
    }

    /// Makes the raw value one of the target's type: rounds, and clamps where that is asked.
    #[allow(
        clippy::cast_possible_truncation,
        reason = "to single precision is what is asked; to whole numbers it saturates"
    )]
    fn fit(&self, value: Value) -> Option<Value> {
        let clamp = self.overflow == Overflow::Clamp;
        match (value, self.to.ty) {
            (Value::Float(number), Type::F32) if number.is_finite() && (number as f32).is_infinite() => {
                clamp.then(|| Value::Float(f64::from(f32::MAX).copysign(number)))
            }
            (Value::Float(number), Type::Bool) => (!number.is_nan()).then_some(Value::Bit(number != 0.0)),
            (Value::Float(number), ty) if ty.limits().is_some() => {
                let (low, high) = ty.limits()?;
                let rounded = number.round();
                // `as` saturates at the ends of 128 bits, far beyond every type's own limits.
                let whole = rounded as i128;
                match (number.is_nan(), (low..=high).contains(&whole)) {
                    (true, _) => None,
                    (false, true) => Some(Value::Whole(whole)),
                    (false, false) => clamp.then(|| Value::Whole(whole.clamp(low, high))),
                }
            }
            (Value::Whole(number), Type::Bool) => Some(Value::Bit(number != 0)),
            (Value::Whole(number), ty) if clamp => Some(
                ty.limits().map_or(Value::Whole(number), |(low, high)| Value::Whole(number.clamp(low, high))),
            ),
            (other, _) => Some(other),
        }
    }

    /// What a value of the source would read as at the target, for `trace`: engineering value with scale applied.
    #[allow(clippy::cast_possible_truncation, reason = "a single-precision value is shown as one")]
    #[must_use]
    pub fn shown(form: &Form, cells: &[u8]) -> Option<String> {
        let mut bytes = cells.to_vec();
        form.order().apply(&mut bytes);
        let raw = Value::read(form.ty, &bytes)?;
        if !form.is_scaled() {
            return Some(match (&raw, form.ty) {
                (Value::Float(number), Type::F32) => float(*number as f32),
                (Value::Float(number), _) => float(*number),
                _ => raw.to_string(),
            });
        }
        let plain = Self { from: *form, to: Form::plain(Type::F64), overflow: Overflow::Refuse };
        match plain.rescale(raw)? {
            // A share of a range seldom ends; more digits than a float has would say nothing.
            Value::Float(number) if form.ty == Type::F32 || form.linear.is_some() => {
                Some(float(number as f32))
            }
            Value::Float(number) => Some(float(number)),
            other => Some(other.to_string()),
        }
    }
}

/// A number with as few digits as tell it from its neighbours; by powers of ten where it would be a row of zeros.
fn float<T: Copy + Into<f64> + std::fmt::Display + std::fmt::LowerExp>(number: T) -> String {
    let size = number.into().abs();
    if size == 0.0 || !size.is_finite() || (1e-6..1e16).contains(&size) {
        number.to_string()
    } else {
        format!("{number:e}")
    }
}

/// A register onto sixteen bits, one byte 0 or 1 each, bit 0 first; or the reverse.
fn spread(cells: &[u8], out: &mut [u8]) -> Result<(), ()> {
    match (cells, out) {
        ([high, low], bits) if bits.len() == 16 => {
            let word = u16::from_be_bytes([*high, *low]);
            bits.iter_mut().enumerate().for_each(|(bit, room)| *room = u8::from(word >> bit & 1 == 1));
            Ok(())
        }
        (bits, [high, low]) if bits.len() == 16 => {
            let word = bits.iter().rev().fold(0u16, |word, bit| word << 1 | u16::from(*bit != 0));
            [*high, *low] = word.to_be_bytes();
            Ok(())
        }
        _ => Err(()),
    }
}

/// A form's straight line in whole numbers: value = (raw × mul + add) / div.
struct StraightLine {
    mul: i128,
    add: i128,
    div: i128,
}

impl StraightLine {
    /// `None` where they would not fit 128 bits.
    fn of(form: &Form) -> Option<Self> {
        let whole = |part: Decimal, least: i8| {
            i128::from(part.mantissa).checked_mul(power(part.exponent.checked_sub(least)?)?)
        };
        let Some(Linear { raw, value }) = form.linear else {
            let least = form.scale.exponent.min(form.plus.exponent).min(0);
            let (mul, add) = (whole(form.scale, least)?, whole(form.plus, least)?);
            return Some(Self { mul, add, div: power(least.checked_neg()?)? });
        };
        let parts = [raw.0, raw.1, value.0, value.1];
        let least = parts.iter().map(|part| part.exponent).min()?.min(0);
        let [low, high, from, to] =
            [whole(raw.0, least)?, whole(raw.1, least)?, whole(value.0, least)?, whole(value.1, least)?];
        let (unit, wide, tall) =
            (power(least.checked_neg()?)?, high.checked_sub(low)?, to.checked_sub(from)?);
        Some(Self {
            mul: unit.checked_mul(tall)?,
            add: from.checked_mul(wide)?.checked_sub(low.checked_mul(tall)?)?,
            div: unit.checked_mul(wide)?,
        })
    }
}

fn power(exponent: i8) -> Option<i128> {
    10i128.checked_pow(u32::try_from(exponent).ok()?)
}

/// `number × scale`, dividing by a whole power of ten where the scale is a fraction: 1746 × 0.01 is 17.46.
fn times(number: f64, scale: Decimal) -> f64 {
    let power = 10f64.powi(i32::from(scale.exponent).abs());
    let product = number * scale.mantissa as f64;
    if scale.exponent < 0 { product / power } else { product * power }
}

fn over(number: f64, scale: Decimal) -> f64 {
    let power = 10f64.powi(i32::from(scale.exponent).abs());
    let quotient = if scale.exponent < 0 { number * power } else { number / power };
    quotient / scale.mantissa as f64
}

/// The quotient rounded half away from zero.
fn divide_rounded(upper: i128, lower: i128) -> i128 {
    let (quotient, rest) = (upper / lower, upper % lower);
    let twice = rest.unsigned_abs().saturating_mul(2);
    if twice < lower.unsigned_abs() {
        return quotient;
    }
    if (upper < 0) == (lower < 0) { quotient.saturating_add(1) } else { quotient.saturating_sub(1) }
}
