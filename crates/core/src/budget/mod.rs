//! Time on the wire: what each request takes on its line, frame gaps included, and what to change.

mod network;
mod report;
mod share;

pub use crate::line_time::{LineTime, ROUND_TRIP};
pub use network::{BlockBudget, LinkBudget, NETWORK_BITS, NetworkBudget, PROMISED_US, networks};
pub use report::{DeadBudget, LineBudget, PublishedBudget, RequestBudget, report};
pub use share::{Dying, Share, attainable, dying, shares};
