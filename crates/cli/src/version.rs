//! Which build this is.

/// The release, the commit that it was built from, and that commit's date; the release alone where it was built outside of
/// a repository.
pub(crate) const LONG: &str = if env!("WOODRUSH_COMMIT").is_empty() {
    env!("CARGO_PKG_VERSION")
} else {
    concat!(env!("CARGO_PKG_VERSION"), " (", env!("WOODRUSH_COMMIT"), ", ", env!("WOODRUSH_DATE"), ")")
};
