//! Values that no request brings: taken out of the frames of the running converter, as they pass on the wire.

use super::{Connections, Failed, Project};
use std::time::{Duration, Instant};
use woodrush_core::check::Checked;
use woodrush_core::project::Owner;
use woodrush_core::wanted::Wanted;
use woodrush_engine::direct::{Cause, Diagnosis};
use woodrush_engine::speak::{Asked, Touch};
use woodrush_engine::tap::{Conversations, Follow, Meaning, Spoken};

/// How long a frame is waited for: the longest period of a slot's frames is half a second, and two may be lost.
const WAITS: Duration = Duration::from_millis(1500);
/// How long one look at the traffic waits.
const LOOK: Duration = Duration::from_millis(100);

impl Connections {
    /// The cells of it in the next frame, and how long that was waited for, in microseconds.
    pub(crate) fn next_frame(&self, wanted: &Wanted) -> Result<(Vec<u8>, u64), Failed> {
        let none = || Failed::of("nothing runs here that sends frames", "start `woodrush run`");
        let Project { checked, running, .. } = self.project.as_ref().ok_or_else(none)?;
        let (remote, _) = running.as_ref().ok_or_else(none)?;
        let port = checked.project.ports.get(wanted.station.port).ok_or_else(none)?.name.value.clone();
        #[allow(clippy::disallowed_methods, reason = "a command that keeps time for a person")]
        let began = Instant::now();
        let mut follow = Follow::begin(remote, std::slice::from_ref(&port)).map_err(|error| {
            Failed::of(format!("the converter does not show port {port}: {error}"), "woodrush status")
        })?;
        let mut conversations = Conversations::new(Spoken::of(checked));
        while began.elapsed() < self.timeout().map_or(WAITS, Duration::from_micros) {
            let taken = follow.fetch(LOOK).map_err(|error| {
                Failed::of(format!("the converter is gone: {error}"), "start `woodrush run`")
            })?;
            let pieces = taken.into_iter().flat_map(|(_, taken)| taken.pieces);
            let mut passed = pieces.flat_map(|piece| conversations.handle(&piece));
            let found = passed.find_map(|passed| {
                let Meaning::Cycle { what, .. } = passed.what else { return None };
                let touch = what.touches.iter().find(|touch| carries(touch, wanted))?.clone();
                Some((what, touch))
            });
            if let Some((what, touch)) = found {
                let took = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
                return cells(&touch, wanted).map(|cells| (cells, took)).ok_or_else(|| bad(&what));
            }
        }
        Err(no_frame(checked, wanted))
    }
}

/// Whether all of what is wanted lies there.
fn carries(touch: &Touch, wanted: &Wanted) -> bool {
    let own = wanted.place.extent();
    let space = wanted.station.space_at(own.space);
    space.is_some_and(|space| space.key == touch.space.key)
        && touch.first <= own.first
        && own.end() <= touch.first + touch.count
}

fn cells(touch: &Touch, wanted: &Wanted) -> Option<Vec<u8>> {
    let own = wanted.place.extent();
    let begin = (own.first - touch.first) as usize * wanted.each();
    let end = begin + own.count as usize * wanted.each();
    touch.cells.as_ref()?.get(begin..end).map(<[u8]>::to_vec)
}

/// The frame came, and calls the value bad: that is an answer.
fn bad(what: &Asked) -> Failed {
    let causes = vec![Cause {
        what: "what feeds it is lost and `on-loss = \"refuse\"` turns its status bad, or who sends it stands still".into(),
        test: "woodrush status names the devices that are lost, and the state of the link".into(),
    }];
    let seen = format!("the frame calls it bad: {}", what.words);
    Failed { diagnosis: Diagnosis { seen, causes }, answered: true }
}

fn no_frame(checked: &Checked, wanted: &Wanted) -> Failed {
    let name = &wanted.station.name;
    let is_its = |image: usize| wanted.owner == Some(Owner::Image(image));
    let mut clients = checked.project.clients.iter();
    let client = clients.find(|client| client.image.as_ref().is_some_and(|image| is_its(image.value)));
    let who = client.map(|client| format!("`{}`", client.name.value));
    let who = who.unwrap_or_else(|| "its controller".into());
    Failed::of(
        format!("no frame with it passes: {who} has no connection with `{name}`, or does not send it"),
        "woodrush status shows the connection, woodrush tap what passes",
    )
}
