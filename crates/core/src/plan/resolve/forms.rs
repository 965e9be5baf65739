//! The forms of both ends of a rule: written, brought by the address, or taken from the other end.

use super::Ends;
use crate::finding::Finding;
use crate::form::{Form, Order, Type};
use crate::project::{Endpoint, Owner, at_form};
use crate::protocol::{Address, Dialect, Grain, ImpliedType};
use crate::source::Span;

impl Ends<'_> {
    /// The forms of both ends: what one leaves open, the other says.
    pub(super) fn forms(&self, source: &Address, target: &Address) -> Result<(Form, Form), Vec<Finding>> {
        let bits = |address: &Address| address.space.grain == Grain::Bit || address.bit.is_some();
        let mut from_written = self.from.form.map(|form| form.value);
        let mut to_written = self.to.form.map(|form| form.value);
        for (end, form, address) in [(self.from, from_written, source), (self.to, to_written, target)] {
            let only = address.space.only;
            if let (Some(form), Some(at)) = (form, end.form)
                && !only.is_empty()
                && !only.iter().any(|known| *known == form.ty || known.is_text() && form.ty.is_text())
            {
                let words: Vec<String> = only.iter().map(ToString::to_string).collect();
                let words = crate::project::list_or(&words);
                let what = format!("{} holds {words}, not `{}`", address.space.a(), form.ty);
                let fix = "leave the form out there, and give the wanted one at the other end";
                return Err(vec![Finding::new("M57", at.span, what).fix(fix)]);
            }
        }
        for (end, form, address) in [(self.from, from_written, source), (self.to, to_written, target)] {
            if let (Some(form), Some(at), ImpliedType::Width(wide)) = (form, end.form, address.brings)
                && let (Some(own), Some(letter)) = (form.ty.bytes(), wide.bytes())
                && own != letter
                && !form.ty.is_text()
            {
                let written = self.project.sources.text(end.span);
                let address = at_form(written).map_or(written, |(end, _)| end).trim();
                let what = format!(
                    "`{address}` names {letter} byte{}, and `{}` takes {own}",
                    if letter == 1 { "" } else { "s" },
                    form.ty
                );
                let fix =
                    "write the letter of that width (B, W, D, L), or a type as wide as the address says";
                return Err(vec![Finding::new("M35", at.span, what).fix(fix)]);
            }
        }
        // Words onto bits are copied bit by bit; everything else has the type that its address brings.
        if (from_written, to_written) != (None, None) || bits(source) == bits(target) {
            let brought = (
                from_written.or_else(|| brought(source, to_written, target)),
                to_written.or_else(|| brought(target, from_written, source)),
            );
            (from_written, to_written) = brought;
        }
        let single = self.rule.count.is_none_or(|count| count.value == 1);
        let default = match (from_written.or(to_written), bits(source), bits(target)) {
            (Some(form), ..) => Form { order: None, ..form },
            (None, true, true) => Form::plain(Type::Bool),
            (None, true, false) if single => Form::plain(Type::Bool),
            (None, false, true) if target.bit.is_some() => {
                let what = "a whole register does not go into one bit".to_string();
                let fix = "name the bit that is meant, such as `400010.3`";
                return Err(vec![Finding::new("M35", self.from.span, what).fix(fix)]);
            }
            (None, ..) => Form::plain(Type::Raw),
        };
        let mut from = from_written.unwrap_or(widened(default, source));
        let mut to = to_written.unwrap_or(widened(default, target));
        self.settle(&mut from, self.from, source)?;
        self.settle(&mut to, self.to, target)?;
        Ok((from, to))
    }

    /// The order of one end: an image has that of its protocol, a device must have one where the protocol has none.
    fn settle(&self, form: &mut Form, end: &Endpoint, address: &Address) -> Result<(), Vec<Finding>> {
        if form.order.is_some() {
            return Ok(());
        }
        let own = self.dialect(end.owner).and_then(|dialect| dialect.notation().order(&address.space));
        // A value of one or two bytes lies the same way in all of them.
        let grain = u32::try_from(address.space.grain.cell_bytes()).unwrap_or(2);
        // Unless the less significant byte comes first everywhere.
        let least = if own.is_some_and(|own| own.low_byte_first) { grain } else { grain.max(2) };
        let ordered = form.ty.bytes().is_some_and(|bytes| bytes > least);
        form.order = own.filter(|_| ordered);
        if matches!(form.ty, Type::Text(_)) {
            // Characters come in the order in which they are read, wherever the low word of a number is.
            let swapped = grain > 1;
            form.order = form.order.map(|order| Order {
                low_word_first: false,
                low_byte_first: order.low_byte_first && swapped,
            });
        }
        let bytes = form.ty.bytes().unwrap_or(0);
        let several = bytes as usize > address.space.grain.cell_bytes() && !matches!(form.ty, Type::Text(_));
        let device = matches!(end.owner, Owner::Device(_));
        if device && own.is_none() && several && address.space.grain != Grain::Bit {
            return Err(vec![self.no_order(form, bytes, end)]);
        }
        Ok(())
    }

    fn no_order(&self, form: &Form, bytes: u32, end: &Endpoint) -> Finding {
        let letters: Vec<&str> = crate::form::Order::ALL.iter().map(|order| order.letters(bytes)).collect();
        let at = end.form.map_or(end.span, |form| form.span);
        let written = self.project.sources.text(at).trim();
        let what =
            format!("`{}` lies in {} registers, and nothing says in which order", form.ty, bytes.div_ceil(2));
        let example = if end.form.is_some() {
            format!("write `{written} {}`", letters.get(1).unwrap_or(&"CDAB"))
        } else {
            format!("write `{written} as {} {}`", form.ty, letters.get(1).unwrap_or(&"CDAB"))
        };
        Finding::new("M35", at, what).fix(format!(
            "{example}, or another of {}; the device's manual or a known value decides",
            letters.join(", ")
        ))
    }

    fn dialect(&self, owner: Owner) -> Option<&'static dyn Dialect> {
        match owner {
            Owner::Device(at) => self.project.device_dialect(at),
            Owner::Image(at) => self.project.image_dialect(at),
            Owner::Converter => None,
        }
    }

    pub(super) fn width(&self, ty: Type, address: &Address, span: Span) -> Result<u32, Vec<Finding>> {
        if address.bit.is_some() && !matches!(ty, Type::Bool) {
            let what = format!("`{ty}` does not fit one bit of a register");
            return Err(vec![Finding::new("M35", span, what).fix("write `as bool`, or leave the bit out")]);
        }
        ty.width(address.space.grain).map_err(|why| {
            vec![
                Finding::new("M35", span, format!("`{ty}` {why}"))
                    .fix(format!("choose a type that {} holds", address.space.a())),
            ]
        })
    }
}

/// A byte's form where addresses are whole words: the same number in a word.
fn widened(form: Form, address: &Address) -> Form {
    let ty = match (form.ty, address.space.grain) {
        (Type::U8, Grain::Bytes(2..)) => Type::U16,
        (Type::I8, Grain::Bytes(2..)) => Type::I16,
        (ty, _) => ty,
    };
    Form { ty, ..form }
}

/// The form that an address brings where none was written there. What the other end says of scale holds here too; where
/// the address only says how wide, a type as wide that the other end has.
fn brought(own: &Address, other_written: Option<Form>, other: &Address) -> Option<Form> {
    let as_wide = |ty: Type, wide: Type| ty.bytes() == wide.bytes() && ty.bytes().is_some();
    let ty = match (own.brings, other_written, other.brings) {
        (ImpliedType::Nothing, ..) => return None,
        (ImpliedType::Type(ty), ..) => ty,
        (ImpliedType::Width(wide), Some(form), _) if as_wide(form.ty, wide) => form.ty,
        (ImpliedType::Width(wide), None, ImpliedType::Type(ty)) if as_wide(ty, wide) => ty,
        (ImpliedType::Width(wide), ..) => wide,
    };
    let number = !matches!(ty, Type::Text(_) | Type::Bool | Type::Raw);
    let scaled = other_written.filter(|form| number && form.is_scaled());
    Some(scaled.map_or(Form::plain(ty), |form| Form { ty, order: None, ..form }))
}
