//! DF1: the link that carries commands of data tables, in full and half duplex.

mod client;
mod observer;
mod server;
mod slaves;
#[cfg(test)]
mod tests;

use super::Speaker;

/// `df1`.
pub(super) const FULL: Speaker = Speaker {
    name: "df1",
    client: Some(|setup| Box::new(client::TableClient::new(setup, false))),
    server: Some(|setup| Box::new(server::TableServer::new(setup, false))),
    observer: |setup| Box::new(observer::TableObserver::new(false, setup)),
    behaviour: None,
    node: None,
    finder: None,
    roll_call: None,
    discovery: None,
    frames: None,
};

/// `df1-half`.
pub(super) const HALF: Speaker = Speaker {
    name: "df1-half",
    client: Some(|setup| Box::new(client::TableClient::new(setup, true))),
    server: Some(|setup| Box::new(slaves::Slaves::new(setup))),
    observer: |setup| Box::new(observer::TableObserver::new(true, setup)),
    behaviour: None,
    node: None,
    finder: None,
    roll_call: None,
    discovery: None,
    frames: None,
};
