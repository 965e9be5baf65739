//! The link and its devices from every side.

mod blocks;
mod ends;
mod finder;
mod link;
mod listening;
