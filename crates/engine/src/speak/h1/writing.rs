//! Which writes a simulated device of blocks takes, as its modes, locks and ranges say.

use super::blocks::{SimBlock, SimParameter};
use super::refusal;
use crate::speak::Memory;
use woodrush_core::Refusal;
use woodrush_core::project::DeviceFaults;
use woodrush_core::protocol::Extent;
use woodrush_core::protocol::h1::words::{ALARM, MAN, OOS, PROGRAM, TUNE};
use woodrush_core::protocol::h1::{BlockKind, ParameterAccess};
use woodrush_wire::h1::{error, kind};

fn no<T>(why: (u8, u8)) -> Result<T, Refusal> {
    Err(refusal(why.0, why.1))
}

/// The bit of `GRANT_DENY` that a write of a parameter comes under.
fn permission(parameter: &SimParameter) -> u8 {
    let name = parameter.name.as_str();
    let is_of_alarms = name.ends_with("_PRI")
        || ["ACK_OPTION", "ALARM_SUM", "ALARM_HYS", "DISC_LIM", "HI_HI_LIM", "HI_LIM", "LO_LIM", "LO_LO_LIM"]
            .contains(&name)
        || name.starts_with("DV_");
    match parameter.access {
        _ if is_of_alarms => ALARM,
        ParameterAccess::Read | ParameterAccess::Dynamic => PROGRAM,
        ParameterAccess::Static | ParameterAccess::OutOfService => TUNE,
    }
}

/// Whether a device takes a write.
///
/// # Errors
/// The error of the link that says why not.
pub(super) fn may_write(
    blocks: &[SimBlock],
    extent: Extent,
    cells: &[u8],
    faults: &DeviceFaults,
    memory: &dyn Memory,
) -> Result<(), Refusal> {
    let Some((block, parameter)) = blocks.iter().find_map(|own| Some((own, own.parameter_at(extent.space)?)))
    else {
        return Ok(());
    };
    let locks = blocks.iter().filter(|own| own.kind == BlockKind::Resource);
    let locked = locks.into_iter().any(|own| own.byte(memory, "WRITE_LOCK", 0) == Some(2));
    if faults.write_lock || locked && parameter.name != "WRITE_LOCK" {
        return no(error::DENIED);
    }
    let denied = block.byte(memory, "GRANT_DENY", 1).unwrap_or(0);
    if parameter.name != "GRANT_DENY" && denied & permission(parameter) != 0 {
        return no(error::DENIED);
    }
    let mode = block.byte(memory, "MODE_BLK", 1).unwrap_or(OOS);
    match parameter.access {
        ParameterAccess::Read => return no(error::DENIED),
        ParameterAccess::OutOfService if mode & OOS == 0 => return no(error::DENIED),
        _ => {}
    }
    match (parameter.name.as_str(), extent.first) {
        ("MODE_BLK", 0) => {
            let wanted = cells.first().copied().unwrap_or(0);
            let permitted = block.byte(memory, "MODE_BLK", 2).unwrap_or(0);
            if wanted.count_ones() != 1 || wanted & permitted == 0 {
                return no(error::MODE_NOT_PERMITTED);
            }
        }
        ("MODE_BLK", _) => return no(error::DENIED),
        // A block in automatic works out its own value.
        ("OUT" | "OUT_D", _) if mode & (MAN | OOS) == 0 => return no(error::DENIED),
        ("L_TYPE", _) if cells.first().is_some_and(|own| *own > 3) => return no(error::OUT_OF_RANGE),
        _ => {}
    }
    let floats: &[u32] = match parameter.code {
        kind::FLOAT => &[0],
        kind::DS_65 => &[1],
        kind::DS_68 => &[0, 4],
        kind::DS_82 => &[1, 6],
        _ => &[],
    };
    let is_number = |at: &u32| {
        let begin = at.checked_sub(extent.first).map(|at| at as usize);
        let own = begin.and_then(|begin| cells.get(begin..begin + 4));
        own.is_none_or(|own| own.try_into().is_ok_and(|own| f32::from_be_bytes(own).is_finite()))
    };
    if floats.iter().all(is_number) { Ok(()) } else { no(error::OUT_OF_RANGE) }
}
