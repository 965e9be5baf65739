//! The core driven from texts: each check has a small project that raises it, and nothing but what follows from it.
#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods)]

mod assigning;
mod budgets;
mod carrying;
mod checks;
mod cycles;
mod following;
mod importing;
mod listed;
mod mistakes;
mod naming;
mod notations;
mod papers;
mod planning;
mod reading;
mod repeats;
mod tags;
mod witnesses;
