//! The counters as OpenMetrics text, which Prometheus reads.

use super::Status;
use super::status::LinkStatus;
use crate::health::{Counts, LinkState};
use prometheus_client::collector::Collector;
use prometheus_client::encoding::text::encode;
use prometheus_client::encoding::{DescriptorEncoder, EncodeMetric, MetricEncoder};
use prometheus_client::metrics::MetricType;
use prometheus_client::metrics::counter::ConstCounter;
use prometheus_client::metrics::gauge::ConstGauge;
use prometheus_client::registry::Registry;
use std::fmt::Error;

/// A status as text.
pub(super) fn text(status: Status) -> String {
    let mut registry = Registry::default();
    registry.register_collector(Box::new(Metrics(status)));
    let mut out = String::new();
    // Writing into a text cannot fail.
    let _ = encode(&mut out, &registry);
    out
}

#[derive(Debug)]
struct Metrics(Status);

/// One family: name, help, and for each thing its labels and value.
type Samples = Vec<(Vec<(&'static str, String)>, f64)>;

impl Collector for Metrics {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), Error> {
        let status = &self.0;
        let mut counted =
            |name: &str, help: &str, values: Samples| family(&mut encoder, name, help, true, values);
        for (kind, things) in [
            ("port", status.ports.iter().map(|port| (&port.name, &port.counts)).collect::<Vec<_>>()),
            ("device", status.devices.iter().map(|device| (&device.name, &device.counts)).collect()),
            ("rule", status.rules.iter().map(|rule| (&rule.name, &rule.counts)).collect()),
        ] {
            let label = label_of(kind);
            let each = |count: fn(&Counts) -> u64| -> Samples {
                things
                    .iter()
                    .map(|(name, counts)| (vec![(label, (*name).clone())], count(counts) as f64))
                    .collect()
            };
            counted(&format!("woodrush_{kind}_requests"), "Requests that ended", each(|c| c.requests))?;
            counted(&format!("woodrush_{kind}_answers"), "Good answers", each(|c| c.answers))?;
            counted(
                &format!("woodrush_{kind}_timeouts"),
                "Requests without an answer",
                each(|c| c.no_answer),
            )?;
            counted(&format!("woodrush_{kind}_damaged"), "Damaged answers", each(|c| c.damaged))?;
            counted(&format!("woodrush_{kind}_mismatched"), "Mismatched answers", each(|c| c.mismatched))?;
            counted(&format!("woodrush_{kind}_sent_bytes"), "Bytes sent", each(|c| c.sent))?;
            counted(&format!("woodrush_{kind}_came_bytes"), "Bytes received", each(|c| c.received))?;
            let by_code = things.iter().flat_map(|(name, counts)| {
                let row = move |(code, count): &(u16, u64)| {
                    (vec![(label, (*name).clone()), ("code", code.to_string())], *count as f64)
                };
                counts.exceptions.iter().map(row)
            });
            counted(&format!("woodrush_{kind}_exceptions"), "Refusals by code", by_code.collect())?;
        }
        let port = |value: fn(&super::PortStatus) -> f64| -> Samples {
            status.ports.iter().map(|port| (vec![("port", port.name.clone())], value(port))).collect()
        };
        counted(
            "woodrush_port_turned_away",
            "Connections turned away",
            port(|port| port.turned_away as f64),
        )?;
        counted(
            "woodrush_port_late_answers",
            "Answers too late for who asked on a line, and not sent",
            port(|port| port.late_answers as f64),
        )?;
        let asked = |value: fn(&Counts) -> u64| -> Samples {
            let row = |client: &super::ClientStatus| {
                let labels = vec![("port", client.port.clone()), ("client", client.who.clone())];
                (labels, value(&client.counts) as f64)
            };
            status.clients.iter().map(row).collect()
        };
        counted("woodrush_client_requests", "Requests of clients", asked(|c| c.requests))?;
        counted("woodrush_client_answers", "Good answers to them", asked(|c| c.answers))?;
        counted("woodrush_client_sent_bytes", "Bytes sent to them", asked(|c| c.sent))?;
        counted("woodrush_client_came_bytes", "Bytes received from them", asked(|c| c.received))?;
        let frames = |value: fn(&LinkStatus) -> u64| -> Samples {
            let row = |link: &LinkStatus| (vec![("link", link.with.clone())], value(link) as f64);
            status.links.iter().map(row).collect()
        };
        counted("woodrush_link_sent_frames", "Frames sent in cycles", frames(|link| link.counts.sent))?;
        counted("woodrush_link_came_frames", "Frames that came in cycles", frames(|link| link.counts.came))?;
        counted(
            "woodrush_link_skipped_frames",
            "Frames left out because their time had passed",
            frames(|link| link.counts.skipped),
        )?;
        counted("woodrush_link_opened", "Times opened", frames(|link| link.counts.opened))?;
        let mut now =
            |name: &str, help: &str, values: Samples| family(&mut encoder, name, help, false, values);
        now("woodrush_port_up", "1 open", port(|port| f64::from(u8::from(port.up))))?;
        now("woodrush_port_load_percent", "Share of time in use", port(|port| port.load_percent as f64))?;
        now("woodrush_port_clients", "Connections now", port(|port| port.clients as f64))?;
        let online = status
            .devices
            .iter()
            .map(|device| (vec![("device", device.name.clone())], f64::from(u8::from(device.online))));
        now("woodrush_device_online", "1 online, 0 lost", online.collect())?;
        let ages = status.devices.iter().filter_map(|d| Some((vec![("device", d.name.clone())], d.age_s?)));
        let link = |value: fn(&LinkStatus) -> Option<f64>| -> Samples {
            let row = |link: &LinkStatus| Some((vec![("link", link.with.clone())], value(link)?));
            status.links.iter().filter_map(row).collect()
        };
        let runs = |link: &LinkStatus| Some(f64::from(u8::from(link.counts.state == LinkState::Run)));
        now("woodrush_link_run", "1 open and in run", link(runs))?;
        now("woodrush_link_age_seconds", "Age of the last frame", link(|link| link.age_s))?;
        let late = |micros: u64| micros as f64 / 1e6;
        now(
            "woodrush_link_late_p99_seconds",
            "99 of 100 frames left no later than this after they were due",
            link(|link| Some(link.counts.late_p99_us? as f64 / 1e6)),
        )?;
        now(
            "woodrush_link_late_max_seconds",
            "The latest frame",
            status
                .links
                .iter()
                .map(|own| (vec![("link", own.with.clone())], late(own.counts.late_max_us)))
                .collect(),
        )?;
        now("woodrush_device_age_seconds", "Age of the oldest value", ages.collect())?;
        let ages = status.rules.iter().filter_map(|r| Some((vec![("rule", r.name.clone())], r.age_s?)));
        now("woodrush_rule_age_seconds", "Age of the oldest value", ages.collect())?;
        now("woodrush_uptime_seconds", "Since the start", vec![(vec![], status.uptime_s as f64)])
    }
}

fn label_of(kind: &str) -> &'static str {
    match kind {
        "port" => "port",
        "device" => "device",
        _ => "rule",
    }
}

fn family(
    encoder: &mut DescriptorEncoder<'_>,
    name: &str,
    help: &str,
    counts: bool,
    values: Samples,
) -> Result<(), Error> {
    if values.is_empty() {
        return Ok(());
    }
    let kind = if counts { MetricType::Counter } else { MetricType::Gauge };
    let mut metric = encoder.encode_descriptor(name, help, None, kind)?;
    for (labels, value) in values {
        let one = |encoder: MetricEncoder<'_>| match counts {
            true => ConstCounter::new(value).encode(encoder),
            false => ConstGauge::new(value).encode(encoder),
        };
        if labels.is_empty() {
            return one(metric);
        }
        one(metric.encode_family(&labels)?)?;
    }
    Ok(())
}
