//! A term of the trade with its paragraph: what protocols and the product have to explain.

/// A term with its names and one paragraph.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Term {
    /// What kind of thing it is, such as `term` or `function code`.
    pub kind: &'static str,
    /// What people call it, the usual name first; case does not matter.
    pub names: &'static [&'static str],
    /// What there is to know.
    pub text: &'static str,
}
