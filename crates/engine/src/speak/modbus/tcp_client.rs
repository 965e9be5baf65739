//! A client on an MBAP stream: one question at a time, matched by transaction.

use super::Question;
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, Delivered, News, Ticket};
use woodrush_core::plan::Station;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::modbus::tcp;

pub(super) struct TcpClient {
    stations: Vec<Station>,
    timeout: u64,
    retries: u32,
    transaction: u16,
    came: Vec<u8>,
    asked: Option<TcpQuestion>,
    done: Option<(Ticket, Result<Vec<u8>, Refusal>)>,
    /// The stream is lost, for this reason.
    lost: Option<String>,
}

struct TcpQuestion {
    ticket: Ticket,
    question: Question,
    tries_left: u32,
    give_up: Option<Moment>,
}

impl TcpClient {
    pub(super) fn new(setup: &ClientSetup<'_>) -> Self {
        let (stations, timeout, retries) = (setup.stations.to_vec(), setup.line.timeout, setup.retries);
        Self { stations, timeout, retries, transaction: 0, came: vec![], asked: None, done: None, lost: None }
    }

    fn end(&mut self, result: Result<Vec<u8>, Refusal>) {
        if let Some(asked) = self.asked.take() {
            self.done = Some((asked.ticket, result));
        }
    }

    fn look(&mut self) {
        loop {
            match tcp::parse(&self.came) {
                Ok(None) => return,
                Err(error) => {
                    self.came.clear();
                    self.lost = Some(error.to_string());
                    return self.end(Err(Refusal::new(Kind::Damaged, Blame::Device)));
                }
                Ok(Some((frame, used))) => {
                    let ours = self.asked.as_ref().filter(|asked| {
                        frame.transaction == self.transaction
                            && frame.protocol == 0
                            && frame.body.unit == asked.question.unit
                    });
                    let answer = ours.map(|asked| asked.question.answer(frame.body.pdu));
                    self.came.drain(..used);
                    match answer {
                        // A late answer to a question that was given up.
                        None => {}
                        Some(Some(result)) => self.end(result),
                        Some(None) => self.end(Err(Refusal::new(Kind::Mismatch, Blame::Device))),
                    }
                }
            }
        }
    }
}

impl Client for TcpClient {
    fn is_free(&self) -> bool {
        self.asked.is_none() && self.done.is_none()
    }

    fn ask(&mut self, ticket: Ticket, ask: Ask) {
        let question = Question::of(&self.stations, &ask);
        self.asked = Some(TcpQuestion { ticket, question, tries_left: self.retries, give_up: None });
    }

    fn ask_once(&mut self, ticket: Ticket, ask: Ask) {
        self.ask(ticket, ask);
        if let Some(asked) = &mut self.asked {
            asked.tries_left = 0;
        }
    }

    fn set_up(&mut self, setup: &ClientSetup<'_>) {
        (self.stations, self.timeout, self.retries) =
            (setup.stations.to_vec(), setup.line.timeout, setup.retries);
    }

    fn handle(&mut self, _now: Moment, news: News<'_>) {
        match news {
            News::Up => {}
            News::Down => {
                self.came.clear();
                self.end(Err(Refusal::new(Kind::NoPath, Blame::Line)));
            }
            News::Bytes(bytes) => {
                self.came.extend_from_slice(bytes);
                self.look();
            }
        }
    }

    fn poll(&mut self, now: Moment) -> Act {
        if let Some((ticket, result)) = self.done.take() {
            return Act::Done(ticket, result.map(Delivered::from));
        }
        if let Some(why) = self.lost.take() {
            return Act::HangUp(why);
        }
        match &mut self.asked {
            None => Act::Rest,
            Some(asked) => match asked.give_up {
                None => {
                    // Each try has a number of its own: a late answer to an earlier one is told from it.
                    self.transaction = self.transaction.wrapping_add(1);
                    asked.give_up = Some(now + self.timeout);
                    let mut frame = vec![];
                    tcp::emit(self.transaction, asked.question.unit, &asked.question.pdu, &mut frame);
                    Act::Send(frame)
                }
                Some(give_up) if now < give_up => Act::WaitUntil(give_up),
                Some(_) if asked.tries_left > 0 => {
                    asked.tries_left -= 1;
                    asked.give_up = None;
                    self.poll(now)
                }
                Some(_) => {
                    self.end(Err(Refusal::new(Kind::NoAnswer, Blame::Device)));
                    self.poll(now)
                }
            },
        }
    }
}
