//! The converter: a plan turned into threads and tasks around the images.

mod answering;
mod running;
mod serve;

pub use crate::shared::{AnswerSettings, DeviceSettings, Event, PortSettings, Shared, Site};
pub use answering::{Answering, AnsweringAct, Asker, Handed};
pub use running::{Bindings, Running, StartFault, start};
pub use serve::{Aliases, Listening, Serving};
