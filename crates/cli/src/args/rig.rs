//! What is typed to the rig.

use clap::Subcommand;

/// Commands to the rig; all but `up` act on the one that runs in another terminal.
#[derive(Subcommand, Debug)]
pub(crate) enum Rig {
    /// Bring up the simulated lines and devices, and say how to attach
    Up {
        /// Join the far end of an `ethernet` port by this interface, cabled to the port's own, instead of a simulated
        /// switch; may be repeated
        #[arg(long, value_name = "PORT=INTERFACE")]
        wire: Vec<String>,
    },
    /// Set a value in a device or controller: DEVICE.POINT=VALUE or DEVICE:ADDRESS=VALUE
    Set {
        /// DEVICE.POINT=VALUE or "DEVICE:ADDRESS as FORM=VALUE"; for a controller CLIENT:ADDRESS=VALUE
        target: String,
    },
    /// Show values in devices
    Get {
        /// DEVICE, DEVICE.POINT, DEVICE:ADDRESS or CLIENT:ADDRESS
        #[arg(required = true)]
        targets: Vec<String>,
    },
    /// Cut a line: bytes stop both ways, nothing closes
    Cut {
        /// Name of the port on whose line it happens
        port: String,
    },
    /// Undo faults of lines and devices; of all of them if none is named
    Mend {
        /// PORT, DEVICE or CLIENT
        names: Vec<String>,
    },
    /// Unplug a line's adapter, or drop the connection of a port
    Unplug {
        /// Name of the port on whose line it happens
        port: String,
    },
    /// Make a device stop answering
    Mute {
        /// Name of the simulated device
        device: String,
    },
    /// Make a device answer later
    Slow {
        /// Name of the simulated device
        device: String,
        /// How much later, such as 200ms
        by: String,
    },
    /// Make a device answer after the timeout
    Late {
        /// Name of the simulated device
        device: String,
    },
    /// Make a device send each answer twice
    Twice {
        /// Name of the simulated device
        device: String,
    },
    /// Make a device end its answers too early
    Short {
        /// Name of the simulated device
        device: String,
    },
    /// Make a device answer as another unit
    AsUnit {
        /// Name of the simulated device
        device: String,
        /// The unit, such as 9
        unit: String,
    },
    /// Lose the first acknowledgement of each message of a device
    DropAck {
        /// Name of the simulated device
        device: String,
    },
    /// Refuse connections to a port, until mended
    Close {
        /// Name of the port on whose line it happens
        port: String,
    },
    /// Make a device take no writes
    ReadOnly {
        /// Name of the simulated device
        device: String,
    },
    /// Give a tag of a controller another name, as its programmer might
    Rename {
        /// Name of the simulated device
        device: String,
        /// The tag, such as Hall.Temps
        tag: String,
    },
    /// Give a tag of a controller another type of the same width
    Retype {
        /// Name of the simulated device
        device: String,
        /// The tag, such as Hall.Temps
        tag: String,
    },
    /// Make a device answer every request with an exception
    Refuse {
        /// Name of the simulated device
        device: String,
        /// The exception's code, or the status of a controller, such as 4 or 0x50
        exception: String,
    },
    /// Damage a share of a line's bytes
    Noise {
        /// Name of the port on whose line it happens
        port: String,
        /// Share of the bytes, such as 0.01 or 1%
        #[arg(allow_negative_numbers = true)]
        share: String,
    },
    /// Give what a device measures a status byte that is not good
    BadStatus {
        /// Name of the simulated device
        device: String,
        /// The status byte, such as 0x10 for a sensor failure
        status: String,
    },
    /// Put the resource block of a device out of service
    OutOfService {
        /// Name of the simulated device
        device: String,
    },
    /// Replace a device by another one with its tag
    Swap {
        /// Name of the simulated device
        device: String,
    },
    /// Move a device of a segment to another node
    Move {
        /// Name of the simulated device
        device: String,
        /// The node, such as 0x18; 0xF8 takes its address away
        node: String,
    },
    /// Make the publications of a device come later
    LatePublications {
        /// Name of the simulated device
        device: String,
        /// How much later, such as 400ms
        by: String,
    },
    /// Lose a share of a device's publications
    DropPublications {
        /// Name of the simulated device
        device: String,
        /// Share of them, such as 0.3 or 30%
        share: String,
    },
    /// Lock a device against writes, as its switch does
    WriteLock {
        /// Name of the simulated device
        device: String,
    },
    /// Take a device's blocks out of the schedule, so that none of them runs
    Unscheduled {
        /// Name of the simulated device
        device: String,
    },
    /// Make a device as it left its maker: its blocks are not set up
    AsShipped {
        /// Name of the simulated device
        device: String,
    },
    /// Take the link active scheduler away from a segment
    NoMaster {
        /// Name of the port on whose line it happens
        port: String,
    },
    /// Let the frames of a device or controller go on with the same bytes
    Freeze {
        /// Name of the simulated device, or of the client that is a controller
        #[arg(value_name = "DEVICE-OR-CLIENT")]
        end: String,
    },
    /// Let a controller say in its frames that it is idle
    Idle {
        /// Name of the client that is a controller
        client: String,
    },
    /// Lose a share of the frames of a device or controller
    DropCycles {
        /// Name of the simulated device, or of the client that is a controller
        #[arg(value_name = "DEVICE-OR-CLIENT")]
        end: String,
        /// Share of them, such as 0.1 or 10%
        share: String,
    },
    /// Make the frames of a device or controller come later
    LateCycles {
        /// Name of the simulated device, or of the client that is a controller
        #[arg(value_name = "DEVICE-OR-CLIENT")]
        end: String,
        /// How much later, such as 30ms
        by: String,
    },
    /// Let a controller ask for another size when it opens anew, or a device send one
    WrongSize {
        /// Name of the simulated device, or of the client that is a controller
        #[arg(value_name = "DEVICE-OR-CLIENT")]
        end: String,
    },
    /// Let another controller want the same outputs
    SecondOwner {
        /// Name of the client that is a controller
        client: String,
    },
    /// Let a controller expect another module in its last slot
    WrongSlot {
        /// Name of the client that is a controller
        client: String,
    },
    /// Let another station have the name that a controller looks for
    NameTaken {
        /// Name of the client that is a controller
        client: String,
    },
    /// Show lines, devices and clients
    Status,
}
