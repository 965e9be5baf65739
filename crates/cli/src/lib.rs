//! Placeholder while the floors below are laid.
