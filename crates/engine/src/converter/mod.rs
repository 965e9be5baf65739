//! The converter: a plan turned into threads and tasks around the images.

mod answering;
mod running;
mod serve;

pub use crate::shared::{DeviceSettings, Event, ListenSettings, PortSettings, Shared};
pub use answering::{Answering, AnsweringAct};
pub use running::{Bindings, Running, StartFault, start};
pub use serve::{Aliases, Listening, Serving};
