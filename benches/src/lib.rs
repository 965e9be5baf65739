//! What the benchmarks share: sites, medians, verdicts.
//!
//! Everything is measured in short interleaved rounds of one run, and compared as the median of ratios or of
//! exchanges: these machines are shared, so totals and means measure the neighbours. A control of the same against
//! the same stands beside each ratio.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::disallowed_methods)]

pub mod counting;
pub mod cycling;
pub mod endurance;
pub mod names;
pub mod programs;
pub mod shapes;

use std::sync::Arc;
use woodrush_core::check::{Checked, check};
use woodrush_core::project::read;

/// Checks a project without profiles; a bench's own project has no errors.
pub fn checked(text: String) -> Arc<Checked> {
    checked_with(text, &|path| Err(path.to_string()))
}

/// The same with files beside it.
pub fn checked_with(text: String, file: &dyn Fn(&str) -> Result<String, String>) -> Arc<Checked> {
    let checked = check(read("bench.toml", text, &mut |path| file(path)));
    let errors: Vec<_> =
        checked.findings.iter().map(|finding| format!("{} {}", finding.rule.code, finding.what)).collect();
    assert!(!checked.has_errors(), "{errors:#?}");
    Arc::new(checked)
}

/// One serial line with one device, 16 registers of it in an image.
#[must_use]
pub fn small_site(baud: u32, poll: &str) -> String {
    format!(
        r#"
[ports.bus]
serial = "/dev/ttyS0"
line = "{baud} 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
max-clients = 600
[devices.meter]
port = "bus"
unit = 1
poll = "{poll}"
[images.scada]
port = "office"
[[map]]
from = "meter:400001"
to = "scada:400001"
count = 16
"#
    )
}

/// A project of so many `[[map]]` of one point, a thousand a device, fifty devices a line.
#[must_use]
pub fn large_site(rules: usize) -> String {
    site(rules, |device, image| format!("from = \"{device}\"\nto = \"{image}\""))
}

/// The same with rules the other way: clients write, and devices are sent it.
#[must_use]
pub fn large_site_of_writes(rules: usize) -> String {
    site(rules, |device, image| format!("from = \"{image}\"\nto = \"{device}\""))
}

/// The same with tags of controllers, a thousand each.
#[must_use]
pub fn tags_site(rules: usize) -> String {
    let mut text = String::from(
        "[project]\nname = \"Large\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n",
    );
    for image in 0..(2 * rules).div_ceil(60_000) {
        text += &format!("[images.scada-{image}]\nport = \"office\"\nunit = {}\n", image + 1);
    }
    for device in 0..rules.div_ceil(1000) {
        text += &format!(
            "[devices.d-{device}]\nconnect = \"192.0.2.{}:{}\"\nprotocol = \"ethernet-ip\"\npoll = \"60s\"\n",
            device % 250 + 1,
            44_818 + device / 250
        );
    }
    for rule in 0..rules {
        let (device, image, target) = (rule / 1000, 2 * rule / 60_000, 400_001 + 2 * rule % 60_000);
        text += &format!(
            "[[map]]\nfrom = \"d-{device}:Motor.Value{:04} as f32\"\nto = \"scada-{image}:{target}\"\n",
            rule % 1000
        );
    }
    text
}

fn site(rules: usize, ends: impl Fn(&str, &str) -> String) -> String {
    let mut text = String::from(
        "[project]\nname = \"Large\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n",
    );
    for line in 0..rules.div_ceil(50_000) {
        text += &format!(
            "[ports.bus-{line}]\nserial = \"/dev/ttyS{line}\"\nline = \"115200 8E1\"\nprotocol = \"modbus-rtu\"\n"
        );
    }
    for image in 0..rules.div_ceil(60_000) {
        text += &format!("[images.scada-{image}]\nport = \"office\"\nunit = {}\n", image + 1);
    }
    for device in 0..rules.div_ceil(1000) {
        text += &format!(
            "[devices.d-{device}]\nport = \"bus-{}\"\nunit = {}\npoll = \"60s\"\n",
            device / 50,
            device % 50 + 1
        );
    }
    for rule in 0..rules {
        let (device, source) = (rule / 1000, 400_001 + rule % 1000);
        let (image, target) = (rule / 60_000, 400_001 + rule % 60_000);
        let ends = ends(&format!("d-{device}:{source}"), &format!("scada-{image}:{target}"));
        text += &format!("[[map]]\n{ends}\n");
    }
    text
}

/// The middle one.
pub fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(f64::NAN)
}

/// Prints a number beside its limit; remembers whether it was kept.
pub struct Limits(bool);

impl Default for Limits {
    fn default() -> Self {
        Self(true)
    }
}

impl Limits {
    /// At least so much.
    pub fn at_least(&mut self, what: &str, value: f64, limit: f64, unit: &str) {
        self.line(what, value, limit, unit, value >= limit, "at least");
    }

    /// At most so much.
    pub fn at_most(&mut self, what: &str, value: f64, limit: f64, unit: &str) {
        self.line(what, value, limit, unit, value <= limit, "at most");
    }

    fn line(&mut self, what: &str, value: f64, limit: f64, unit: &str, kept: bool, side: &str) {
        self.0 &= kept;
        println!("{:<6} {what}: {value:.2} {unit} ({side} {limit:.2})", if kept { "kept" } else { "MISSED" });
    }

    /// Ends the run; status 1 where a limit was missed.
    pub fn end(self) {
        if !self.0 {
            std::process::exit(1);
        }
    }
}
