//! Which messages are shown: what is asked for by unit, function, place and outcome.

use super::said::{MessageKind, MessageTeller, ShownMessage};
use crate::Failure;
use crate::args::TapArgs;
use std::collections::{HashMap, HashSet};
use woodrush_core::check::Checked;
use woodrush_core::protocol::StationId;
use woodrush_core::wanted::Wanted;
use woodrush_engine::speak::Side;
use woodrush_engine::tap::Passed;

/// A message as it is shown, and as it passed.
pub(super) type Message = (ShownMessage, Passed);

/// Requests that wait for their outcome at most.
const HELD_MAX: usize = 10_000;

/// What shall be shown.
pub(super) struct Filter {
    stations: Option<Vec<u32>>,
    codes: Option<Vec<u32>>,
    /// Names of devices and images, or of values.
    at: Vec<String>,
    writes: bool,
    failures: bool,
    signs: bool,
    /// Frames that are like the one before, too.
    all: bool,
    /// By port, who and side: the values of the last frame that was shown.
    last: HashMap<(String, Option<String>, String), HashMap<String, String>>,
    /// Requests that wait for their outcome, by port, who and exchange.
    held: HashMap<Key, Message>,
    /// Those of them that are shown already, above an answer that is damaged.
    told: HashSet<Key>,
}

/// Port, who, and exchange.
type Key = (String, Option<String>, u64);

fn usage(text: String) -> Failure {
    Failure::Usage(text)
}

impl Filter {
    /// Out of what was typed.
    pub(super) fn of(
        args: &TapArgs,
        checked: Option<&Checked>,
        teller: &MessageTeller,
        verbose: bool,
    ) -> Result<Self, Failure> {
        let numbers = |name: &str, text: &Option<String>| match text {
            None => Ok(None),
            Some(text) => numbers(text).map(Some).ok_or_else(|| {
                usage(format!("`--{name} {text}`: write numbers and ranges, such as 3,16 or 1-10"))
            }),
        };
        let mut at = vec![];
        for text in &args.at {
            at.push(named(text, checked, teller)?);
        }
        Ok(Self {
            stations: numbers("unit", &args.unit)?,
            codes: numbers("function", &args.function)?,
            at,
            writes: args.only_writes,
            failures: args.failures,
            signs: verbose,
            all: args.all,
            last: HashMap::new(),
            held: HashMap::new(),
            told: HashSet::new(),
        })
    }

    fn takes(&self, said: &ShownMessage) -> bool {
        let among = |list: &Option<Vec<u32>>, own: Option<u32>| {
            list.as_ref().is_none_or(|list| own.is_some_and(|own| list.contains(&own)))
        };
        let there = |text: &String| {
            // A node of a box has its values among those of the others.
            let of = |name: &String| {
                let rest = name.strip_prefix(text.as_str()).filter(|_| said.is_box);
                name == text || rest.is_some_and(|rest| rest.starts_with(['.', ':']))
            };
            let names = said.values.iter().map(|value| &value.name).chain(&said.about);
            said.owner.as_ref() == Some(text) || names.into_iter().any(of)
        };
        among(&self.stations, said.station.as_ref().and_then(StationId::number))
            && among(&self.codes, said.code)
            && (self.at.is_empty() || self.at.iter().any(there))
            && (!self.writes || said.writes)
    }

    /// Whether only some of what passes is wanted, failed or not.
    pub(super) fn is_narrow(&self) -> bool {
        self.stations.is_some() || self.codes.is_some() || !self.at.is_empty() || self.writes
    }

    /// Whether only what failed is wanted.
    pub(super) fn is_for_failures(&self) -> bool {
        self.failures
    }

    /// A frame with those of its values that differ from the one before.
    fn folded(&mut self, mut message: Message) -> Message {
        let said = &mut message.0;
        if self.all {
            return message;
        }
        if self.last.len() > HELD_MAX {
            self.last.clear();
        }
        // One peer may have two blocks.
        let key = (said.port.clone(), said.who.clone(), said.words.chars().take(7).collect());
        let now = said.values.iter().map(|value| (value.name.clone(), value.raw.clone())).collect();
        let before: HashMap<String, String> = self.last.insert(key, now).unwrap_or_default();
        let had = !said.values.is_empty();
        said.values.retain(|value| before.get(&value.name) != Some(&value.raw));
        if had && said.values.is_empty() {
            // Only the run bit, or bytes of no value.
            said.places.clear();
        }
        message
    }

    /// What is shown now: nothing, this, or its request first.
    pub(super) fn pass(&mut self, message: Message) -> Vec<Message> {
        let said = &message.0;
        let key = said.exchange.map(|exchange| (said.port.clone(), said.who.clone(), exchange));
        // The names of a request stand in its answer, and the other way about for writes: an exchange is judged whole.
        let waits = self.failures || !self.at.is_empty();
        let taken = self.takes(said);
        let shown = match (said.kind, key) {
            (MessageKind::Request, Some(key)) if waits => {
                // Nobody answers what is for all, and who never hears how it ended is not remembered for ever.
                if self.held.len() >= HELD_MAX {
                    self.held.clear();
                    self.told.clear();
                }
                self.held.insert(key, message);
                return vec![];
            }
            (MessageKind::Request, _) => taken,
            (MessageKind::Answer | MessageKind::NoAnswer, key) => {
                let request = key.as_ref().and_then(|key| self.held.remove(key));
                let asked = request.as_ref().is_some_and(|(request, _)| self.takes(request));
                if !(taken || asked) || self.failures && !said.failed {
                    return vec![];
                }
                let told = key.is_some_and(|key| self.told.remove(&key));
                return request.filter(|_| !told).into_iter().chain([message]).collect();
            }
            // What is damaged is most likely the answer to what was asked last there.
            (MessageKind::Damaged, _) if waits && said.side != Side::Asks => {
                let here = |(key, _): &(&Key, &Message)| key.0 == said.port && key.1 == said.who;
                let last = self.held.iter().filter(here).max_by_key(|(key, _)| key.2);
                let Some((key, request)) = last.map(|(key, request)| (key.clone(), request.clone())) else {
                    return if self.is_narrow() { vec![] } else { vec![message] };
                };
                if self.is_narrow() && !self.takes(&request.0) {
                    return vec![];
                }
                let shown = !self.told.insert(key);
                return (!shown).then_some(request).into_iter().chain([message]).collect();
            }
            (MessageKind::Cycle, _) => {
                let hidden = !self.all && said.changed == Some(false);
                return if hidden || !taken || self.failures { vec![] } else { vec![self.folded(message)] };
            }
            // What belongs to no exchange has no unit, function or place.
            (MessageKind::Sign, _) if !said.failed && !self.signs => false,
            _ => !self.is_narrow() && (!self.failures || said.failed),
        };
        if shown { vec![message] } else { vec![] }
    }
}

/// `3,16`, `1-10`, `0xA2`.
fn numbers(text: &str) -> Option<Vec<u32>> {
    let one = |text: &str| match text.trim().strip_prefix("0x") {
        Some(hex) => u32::from_str_radix(hex, 16).ok(),
        None => text.trim().parse().ok(),
    };
    let mut found = vec![];
    for part in text.split(',') {
        match part.split_once('-') {
            Some((low, high)) => {
                let (low, high) = (one(low)?, one(high)?);
                if low > high || high - low > 65_535 {
                    return None;
                }
                found.extend(low..=high);
            }
            None => found.push(one(part)?),
        }
    }
    Some(found)
}

/// A device, an image, a point, or an address of one of them, as values are named.
fn named(text: &str, checked: Option<&Checked>, teller: &MessageTeller) -> Result<String, Failure> {
    let Some(checked) = checked else {
        return Err(usage("`--at` names something of a project, and there is none here".into()));
    };
    let project = &checked.project;
    if project.device(text).is_some() || project.images.iter().any(|image| image.name.value == text) {
        return Ok(text.to_string());
    }
    let wanted = Wanted::of_project(checked, text).map_err(|finding| crate::connections::fault(&finding))?;
    Ok(teller.name_of(&wanted))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands::small_site;
    use clap::Parser;
    use woodrush_engine::Moment;
    use woodrush_engine::speak::{ObserverSetup, speaker};
    use woodrush_engine::tap::Conversation;

    #[test]
    fn numbers_are_lists_ranges_and_hex() {
        assert_eq!(numbers("3,16"), Some(vec![3, 16]));
        assert_eq!(numbers("1-3, 0xA2"), Some(vec![1, 2, 3, 0xA2]));
        for wrong in ["", "three", "5-1", "1-", "0x", "1-99999"] {
            assert_eq!(numbers(wrong), None, "{wrong}");
        }
    }

    #[derive(Parser)]
    struct Args {
        #[command(flatten)]
        tap: TapArgs,
    }

    #[test]
    fn a_damaged_answer_stands_below_its_request_and_the_request_stands_once() {
        let checked = small_site::with("");
        let teller = MessageTeller::new(Some(&checked), 100);
        let args = Args::parse_from(["tap", "--failures"]).tap;
        let mut filter = Filter::of(&args, Some(&checked), &teller, false).unwrap();
        let port = &checked.project.ports[0].setup;
        let observer = (speaker("modbus-rtu").unwrap().observer)(&ObserverSetup {
            port,
            stations: &checked.plan.devices,
            published: &[],
        });
        let mut conversation = Conversation::new(observer, 500_000);
        let asked = [0x07, 0x03, 0x00, 0x00, 0x00, 0x03, 0x05, 0xAD];
        conversation.handle(Moment(1000), Moment(1000), Side::Asks, &asked);
        let mut passed: Vec<Passed> = std::iter::from_fn(|| conversation.poll(Moment(1000))).collect();
        conversation.handle(Moment(9000), Moment(9000), Side::Answers, &[0xFF, 0x00, 0x13]);
        passed.extend(std::iter::from_fn(|| conversation.poll(Moment(100_000))));
        passed.extend(std::iter::from_fn(|| conversation.poll(Moment(60_000_000))));
        let shown = passed.into_iter().flat_map(|one| filter.pass((teller.tell("line", None, &one, 0), one)));
        let kinds: Vec<MessageKind> = shown.map(|(said, _)| said.kind).collect();
        assert_eq!(kinds, [MessageKind::Request, MessageKind::Damaged, MessageKind::NoAnswer]);
    }
}
