//! Options of a connection that is typed on the command line.

use clap::Args as ClapArgs;
use std::path::PathBuf;

/// A connection that is typed on the command line, or the project's rig.
#[derive(ClapArgs, Debug, Clone, Default)]
#[command(next_help_heading = "Connection")]
pub(crate) struct ConnectionArgs {
    /// Use this serial line instead of a port of the project
    #[arg(long, value_name = "PATH")]
    pub(crate) serial: Option<PathBuf>,
    /// Settings of the serial line, such as "38400 8E1"
    #[arg(long, value_name = "SETTINGS")]
    pub(crate) line: Option<String>,
    /// Protocol [default: by the port number over TCP]
    #[arg(long, value_name = "NAME", value_parser = super::protocols())]
    pub(crate) protocol: Option<String>,
    /// Unit of the device
    #[arg(long)]
    pub(crate) unit: Option<u32>,
    /// Node of the device
    #[arg(long)]
    pub(crate) node: Option<u32>,
    /// Set another key of the port or device, such as remote-tsap=01.02 or max-read=32; may be repeated
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// The adapter returns what is sent
    #[arg(long)]
    pub(crate) echo: bool,
    /// Wait this long for an answer, such as 500ms
    #[arg(long, value_name = "TIME")]
    pub(crate) timeout: Option<String>,
    /// Use the project's running rig instead of the real ports
    #[arg(long)]
    pub(crate) rig: bool,
}

impl ConnectionArgs {
    /// An option of a connection that was given, if any.
    pub(crate) fn any(&self) -> Option<&'static str> {
        let own = [("serial", self.serial.is_some()), ("timeout", self.timeout.is_some()), ("rig", self.rig)];
        let own = own.into_iter().filter(|(_, given)| *given).map(|(name, _)| name);
        own.chain(self.written()).next()
    }

    /// The options that only a connection outside the project has, as far as they were given.
    pub(crate) fn written(&self) -> Vec<&'static str> {
        let given = [
            ("line", self.line.is_some()),
            ("protocol", self.protocol.is_some()),
            ("unit", self.unit.is_some()),
            ("node", self.node.is_some()),
            ("set", !self.set.is_empty()),
            ("echo", self.echo),
        ];
        given.into_iter().filter(|(_, given)| *given).map(|(name, _)| name).collect()
    }
}
