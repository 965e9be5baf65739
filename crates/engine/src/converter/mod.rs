//! The converter: a plan turned into threads and tasks around the images.

mod bindings;
mod keeper;
mod preparing;
mod ready;
mod running;
mod serve;

pub use crate::admission::Aliases;
pub use crate::shared::{AnswerSettings, DeviceSettings, Event, PortSettings, Shared, Site};
pub use bindings::Bindings;
pub use running::{Running, StartFault, start};
pub use serve::Serving;
