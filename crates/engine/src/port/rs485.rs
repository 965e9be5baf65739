//! Driving the direction of a two-wire line, where the driver of the adapter can.

use rustix::fd::BorrowedFd;
use rustix::ioctl::{Setter, ioctl};

/// `struct serial_rs485` of the kernel's serial interface.
#[repr(C)]
struct Rs485 {
    flags: u32,
    delay_before_send: u32,
    delay_after_send: u32,
    padding: [u32; 5],
}

/// `SER_RS485_ENABLED` and `SER_RS485_RTS_ON_SEND`.
const ENABLED_RTS_ON_SEND: u32 = 1 | 1 << 1;
/// `TIOCSRS485`; the number is older than the scheme of opcodes.
const SET: rustix::ioctl::Opcode = 0x542F as rustix::ioctl::Opcode;

/// Asks the driver to switch the direction itself. `false` where it cannot (a pty, many adapters do it in hardware).
#[allow(unsafe_code, reason = "the one ioctl that no crate here wraps")]
pub(super) fn drive_direction(tty: BorrowedFd<'_>) -> bool {
    let settings =
        Rs485 { flags: ENABLED_RTS_ON_SEND, delay_before_send: 0, delay_after_send: 0, padding: [0; 5] };
    // SAFETY: TIOCSRS485 reads one `struct serial_rs485` and writes the settings that it took back into it; the
    // setter owns that memory for the whole call.
    unsafe { ioctl(tty, Setter::<SET, Rs485>::new(settings)) }.is_ok()
}
