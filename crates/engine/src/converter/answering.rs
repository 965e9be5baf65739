//! One connection's questions against the images: reads at once, writes one device after the other.

use crate::Moment;
use crate::image::DeviceWrite;
use crate::shared::{ListenSettings, Reply, Shared};
use crate::speak::{News, Serve, Server, Want, speaker};
use std::collections::VecDeque;
use std::sync::Arc;
use woodrush_core::Refusal;

/// What the driver of a connection must do next.
#[must_use = "an action that is not carried out stalls the connection"]
pub enum AnsweringAct {
    /// Write these bytes, then poll again.
    Send(Vec<u8>),
    /// Hand this write to its port; tell [`Answering::wrote`] how it ended, then poll again.
    Write(DeviceWrite),
    /// Close, for this reason.
    HangUp(String),
    /// Nothing to do before this moment or bytes.
    WaitUntil(Moment),
    /// Nothing to do before bytes come.
    Rest,
}

/// The machine behind one connection.
pub struct Answering {
    shared: Arc<Shared>,
    settings: ListenSettings,
    server: Box<dyn Server>,
    /// Writes of the request at hand that are still to be done; the first is under way.
    writes: VecDeque<DeviceWrite>,
    under_way: bool,
    cells: Vec<u8>,
}

impl Answering {
    /// Of a connection to a listening port; `None` where its protocol cannot be spoken.
    #[must_use]
    pub fn new(shared: Arc<Shared>, settings: ListenSettings) -> Option<Self> {
        let server = (speaker(settings.protocol)?.server)(None);
        Some(Self { shared, settings, server, writes: VecDeque::new(), under_way: false, cells: vec![] })
    }

    /// Takes bytes of the connection.
    pub fn handle(&mut self, now: Moment, bytes: &[u8]) {
        self.server.handle(now, News::Bytes(bytes));
    }

    /// Whether a write is under way: nothing more is read from the connection meanwhile.
    #[must_use]
    pub fn is_writing(&self) -> bool {
        self.under_way
    }

    /// How the write that was handed out has ended.
    pub fn wrote(&mut self, result: Result<(), Refusal>) {
        self.under_way = false;
        self.writes.pop_front();
        if let Err(refusal) = result {
            self.writes.clear();
            self.server.give(Err(refusal));
        } else if self.writes.is_empty() {
            self.server.give(Ok(&[]));
        }
    }

    /// What to do now.
    pub fn poll(&mut self, now: Moment) -> AnsweringAct {
        loop {
            if !self.under_way
                && let Some(write) = self.writes.front()
            {
                self.under_way = true;
                return AnsweringAct::Write(write.clone());
            }
            match self.server.poll(now) {
                Serve::Send(bytes) => return AnsweringAct::Send(bytes),
                Serve::HangUp(why) => return AnsweringAct::HangUp(why),
                Serve::WaitUntil(moment) => return AnsweringAct::WaitUntil(moment),
                Serve::Rest => return AnsweringAct::Rest,
                Serve::Want { unit, want } => {
                    let image = self.settings.image(unit);
                    match want {
                        Want::Read(extent) => {
                            self.cells.clear();
                            let result = self.shared.read(image, now, extent, &mut self.cells);
                            self.server.give(result.map(|()| self.cells.as_slice()));
                        }
                        Want::Write { extent, cells } => match self.shared.route(image, extent, &cells) {
                            Ok(writes) => self.writes = writes.into(),
                            Err(refusal) => self.server.give(Err(refusal)),
                        },
                    }
                }
            }
        }
    }

    /// Hands a write to its port.
    pub fn submit(&self, write: DeviceWrite, reply: Reply) {
        self.shared.submit(write, reply);
    }
}
