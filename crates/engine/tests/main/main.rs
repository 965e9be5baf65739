//! The converter as a whole: in memory on a virtual clock, and on real ptys and sockets.
#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, missing_docs)]

mod admitting;
mod arriving;
mod blocks;
mod carrying;
mod changing;
mod controllers;
mod forwarding;
mod hostile;
mod late;
mod lines;
mod live;
mod misbehaving;
mod nodes;
mod plain_openers;
mod ports;
mod proven;
mod real_lines;
mod reloading;
mod repeating;
mod right_ways;
mod scanning;
mod segment;
mod serving;
mod site;
mod slots;
mod smaller;
mod spoilt_ways;
mod tables;
mod tags;
mod turns;
mod two_lanes;
mod virtual_time;
