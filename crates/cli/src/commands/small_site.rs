//! The site of the commands' own tests: one device on a line, one image.

use woodrush_core::check::{Checked, check};
use woodrush_core::project::read;

const HEAD: &str = r#"
[project]
name = "Small"
[ports.line]
serial = "/dev/ttyS7"
line = "19200 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "line"
unit = 7
[images.scada]
port = "office"
"#;

/// That site with these rules.
pub(super) fn with(rules: &str) -> Checked {
    let checked = check(read("test", [HEAD, rules].concat(), &mut |_| Err("no files".into())));
    assert!(!checked.has_errors(), "{:?}", checked.findings);
    checked
}
