//! All conversations that are listened to: each has an observer of its own.

use super::{Chunk, Conversation, DatagramPeer, Passed};
use crate::Moment;
use crate::speak::{ObserverSetup, Subscription, speaker};
use std::collections::HashMap;
use std::sync::Arc;
use woodrush_core::check::Checked;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Setup;

/// How long a client of ours is given for an answer of ours, in microseconds: it would have given up before.
const CLIENT_PATIENCE: u64 = 10_000_000;

/// What is spoken at a port.
#[derive(Debug, Clone)]
pub struct Spoken {
    /// The protocol's name.
    pub protocol: &'static str,
    /// Keys of the protocol at the port.
    pub setup: Setup,
    /// Who may be asked there.
    pub stations: Vec<Station>,
    /// What comes there by itself.
    pub published: Vec<Subscription>,
    /// A request counts as not answered after so long, in microseconds.
    pub patience: u64,
}

impl Spoken {
    /// At each port of a project, by its name.
    #[must_use]
    pub fn of(checked: &Checked) -> HashMap<String, Self> {
        let (project, plan) = (&checked.project, &checked.plan);
        let ports = project.ports.iter().enumerate().filter_map(|(at, port)| {
            let devices = (0..plan.devices.len()).filter(|device| plan.is_on(*device, at));
            let devices: Vec<&Station> = devices.filter_map(|device| plan.devices.get(device)).collect();
            let asks = !devices.is_empty() || plan.forwards.iter().any(|forward| forward.to == at);
            let images = plan.images.iter().filter(|image| image.port == at);
            // A link that tries again by itself is given the time for it.
            let waits = plan.unanswered.get(at).copied().unwrap_or(0);
            let timeout = port.timeout.value.max(waits);
            let spoken = Self {
                protocol: port.protocol?.value.name(),
                setup: port.setup.clone(),
                stations: devices.into_iter().chain(images).cloned().collect(),
                published: crate::speak::subscriptions(plan, at),
                patience: if asks { timeout + timeout / 2 } else { CLIENT_PATIENCE },
            };
            Some((port.name.value.clone(), spoken))
        });
        ports.collect()
    }
}

/// A port, and who talks with us there where several may.
pub type Where = (Arc<str>, Option<Arc<str>>);

/// Most conversations that are remembered, each with the bytes that it has open: some 10 MB. Beyond, the one that has been
/// silent longest is forgotten: a network can have any number of peers, and each datagram may be of a new one.
const REMEMBERED_MAX: usize = 4096;

/// Everybody who is listened to.
pub struct Conversations {
    spoken: HashMap<String, Spoken>,
    conversations: HashMap<Where, (Moment, Conversation)>,
    forgotten: u64,
}

impl Conversations {
    /// At ports where this is spoken.
    #[must_use]
    pub fn new(spoken: HashMap<String, Spoken>) -> Self {
        Self { spoken, conversations: HashMap::new(), forgotten: 0 }
    }

    /// Another protocol is used there from now on, or a port is a new one.
    pub fn learn(&mut self, port: &str, spoken: Spoken) {
        self.conversations.retain(|(own, _), _| **own != *port);
        self.spoken.insert(port.into(), spoken);
    }

    /// What is spoken at a port.
    #[must_use]
    pub fn spoken(&self, port: &str) -> Option<&Spoken> {
        self.spoken.get(port)
    }

    /// Takes a piece; gives what it ends, in order. Nothing of a port where no protocol is known.
    pub fn handle(&mut self, piece: &Chunk) -> Vec<Passed> {
        let place = (Arc::clone(&piece.port), piece.who.clone());
        if !self.conversations.contains_key(&place) {
            let Some(made) = self.begin(&piece.port, piece.who.as_deref()) else { return vec![] };
            self.make_room();
            self.conversations.insert(place.clone(), (piece.ended, made));
        }
        let Some((heard, conversation)) = self.conversations.get_mut(&place) else { return vec![] };
        *heard = piece.ended;
        conversation.handle(piece.began, piece.ended, piece.side, &piece.bytes);
        let found = std::iter::from_fn(|| conversation.poll(piece.ended)).collect();
        if piece.bytes.is_empty() && piece.who.is_some() {
            self.conversations.remove(&place);
        }
        found
    }

    /// Forgets the conversation that has been silent longest, where there are too many.
    fn make_room(&mut self) {
        if self.conversations.len() < REMEMBERED_MAX {
            return;
        }
        let silent =
            self.conversations.iter().min_by_key(|(_, (heard, _))| *heard).map(|(place, _)| place.clone());
        if let Some(place) = silent {
            self.conversations.remove(&place);
            self.forgotten += 1;
        }
    }

    /// How many conversations were forgotten since this was asked last, because there were too many.
    pub fn forgotten(&mut self) -> u64 {
        std::mem::take(&mut self.forgotten)
    }

    fn begin(&self, port: &str, who: Option<&str>) -> Option<Conversation> {
        let spoken = self.spoken.get(port)?;
        let setup =
            ObserverSetup { port: &spoken.setup, stations: &spoken.stations, published: &spoken.published };
        let speaker = speaker(spoken.protocol)?;
        let observer = match who.and_then(DatagramPeer::of) {
            Some(peer) => speaker.frames?(&setup, *peer.address.ip()),
            None => (speaker.observer)(&setup),
        };
        Some(Conversation::new(observer, spoken.patience))
    }

    /// What only time ends: requests that nobody answered, and bytes that were no message.
    pub fn look(&mut self, now: Moment) -> Vec<(Where, Passed)> {
        let mut found = vec![];
        for (place, (_, conversation)) in &mut self.conversations {
            found.extend(std::iter::from_fn(|| conversation.poll(now)).map(|passed| (place.clone(), passed)));
        }
        found.sort_by_key(|(_, passed)| passed.ended);
        found
    }

    /// Something was missed: nothing that is open can be judged.
    pub fn forget(&mut self) {
        self.conversations.values_mut().for_each(|(_, own)| own.forget());
    }
}
