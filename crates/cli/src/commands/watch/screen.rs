//! The full screen: a strip of ports, a row a rule, one row opened into its trace, a line to type in.

use super::ends::ShownEnd;
use super::model::{Live, Model, Rule};
use super::state::{Prompt, WatchView};
use crate::commands::trace;
use crate::console::{Tone, cut};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Clear, Paragraph};
use woodrush_core::project::show_micros;
use woodrush_core::wanted;
use woodrush_core::{Span as Place, Spanned};
use woodrush_engine::health::LinkState;
use woodrush_engine::monitor::{LinkStatus, PortStatus, ValueState};

/// ScreenColumns from which on raw words stand beside values.
const WITH_RAW: u16 = 96;
/// ScreenColumns from which on both ends are shown.
const BOTH_ENDS: u16 = 56;
/// Rows from which on there is room for the ports and the keys.
const ROOMY: u16 = 10;

/// How much colour there is.
#[derive(Debug, Clone, Copy)]
pub(super) struct Paint(pub(super) bool);

impl Paint {
    fn style(self, tone: Tone) -> Style {
        let plain = Style::new();
        if !self.0 {
            return match tone {
                Tone::Bad => plain.add_modifier(Modifier::BOLD),
                Tone::Faint => plain.add_modifier(Modifier::DIM),
                _ => plain,
            };
        }
        match tone {
            Tone::Accent => plain.fg(Color::Cyan),
            Tone::Good => plain.fg(Color::Green),
            Tone::Bad => plain.fg(Color::Red).add_modifier(Modifier::BOLD),
            Tone::Doubt => plain.fg(Color::Yellow),
            Tone::Faint => plain.add_modifier(Modifier::DIM),
        }
    }
}

/// Draws everything; keeps the chosen row in sight.
pub(super) fn draw(frame: &mut Frame<'_>, model: &Model, view: &mut WatchView, paint: Paint) {
    let area = frame.area();
    let roomy = area.height >= ROOMY;
    let strip = if roomy { strip(model, area.width, paint) } else { vec![] };
    let strip_height = u16::try_from(strip.len()).unwrap_or(1).min(area.height / 4);
    let opened = view.opened.filter(|_| roomy).and_then(|row| opened(model, row, area.width));
    let opened_height = opened
        .as_ref()
        .map_or(0, |lines| u16::try_from(lines.len() + 1).unwrap_or(u16::MAX).min(area.height / 2));
    let rows = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(strip_height),
        Constraint::Length(u16::from(roomy)),
        Constraint::Min(1),
        Constraint::Length(opened_height),
        Constraint::Length(u16::from(area.height >= 3)),
    ]);
    let [head, ports, titles, list, trace, keys] = rows.areas(area);
    frame.render_widget(Paragraph::new(heading(model, view, head.width, paint)), head);
    frame.render_widget(Paragraph::new(strip), ports);
    let columns = ScreenColumns::of(model, area.width);
    if roomy {
        let style = paint.style(Tone::Accent);
        frame.render_widget(Paragraph::new(Line::styled(columns.titles(), style)), titles);
    }
    draw_rows(frame, list, model, view, &columns, paint);
    if let Some(lines) = opened {
        let block = Block::new().borders(Borders::TOP).border_style(paint.style(Tone::Faint));
        let lines = lines.into_iter().map(|(tone, text)| styled(text, tone, paint));
        frame.render_widget(Paragraph::new(lines.collect::<Vec<_>>()).block(block), trace);
    }
    frame.render_widget(Paragraph::new(foot(view, paint)), keys);
    if view.help {
        help(frame, area, paint);
    }
}

fn styled(text: String, tone: Option<Tone>, paint: Paint) -> Line<'static> {
    match tone {
        Some(tone) => Line::styled(text, paint.style(tone)),
        None => Line::raw(text),
    }
}

fn heading(model: &Model, view: &WatchView, width: u16, paint: Paint) -> Line<'static> {
    let (all, ill) = model.counts();
    let shown = model.rows().len();
    let state = match ill {
        0 => Span::styled(format!("all {all} rules fresh"), paint.style(Tone::Good)),
        ill if width < BOTH_ENDS => Span::styled(format!("{ill} of {all} not fresh"), paint.style(Tone::Bad)),
        ill => Span::styled(format!("{ill} of {all} rules not fresh"), paint.style(Tone::Bad)),
    };
    let site = Span::styled(model.site.clone(), paint.style(Tone::Accent));
    // Where little fits the trouble comes first.
    let mut spans = if width < BOTH_ENDS { vec![state] } else { vec![site, Span::raw("  "), state] };
    if let Some(fault) = &view.fault {
        spans.push(Span::raw("  "));
        spans.push(Span::styled(fault.clone(), paint.style(Tone::Bad)));
        return Line::from(spans);
    }
    let mut more = vec![format!("{}, {} s", view.place, model.uptime)];
    if !model.filter.is_empty() {
        more.push(format!("only `{}`", model.filter));
    }
    if model.trouble {
        more.push("only trouble".into());
    }
    if shown != all {
        more.push(format!("{shown} shown"));
    }
    more.push(model.order.words().into());
    let used: usize = spans.iter().map(Span::width).sum();
    let room = usize::from(width).saturating_sub(used + 2);
    spans.push(Span::raw("  "));
    spans.push(Span::styled(cut(&more.join(", "), room), paint.style(Tone::Faint)));
    Line::from(spans)
}

/// One cell a port and a link, as many in a line as fit.
fn strip(model: &Model, width: u16, paint: Paint) -> Vec<Line<'static>> {
    let mut lines: Vec<Vec<Span<'static>>> = vec![];
    let mut used = 0;
    let ports = model.ports.iter().map(|port| (&port.name, port_cell(port)));
    let links = model.links.iter().map(|link| (&link.with, link_cell(link)));
    for (name, (text, tone)) in ports.chain(links) {
        let wide = name.chars().count() + text.chars().count() + 4;
        if lines.is_empty() || used + wide > usize::from(width) {
            lines.push(vec![]);
            used = 0;
        }
        used += wide;
        if let Some(line) = lines.last_mut() {
            line.push(Span::styled(name.clone(), paint.style(Tone::Accent)));
            line.push(Span::styled(format!(" {text}   "), paint.style(tone)));
        }
    }
    lines.into_iter().map(Line::from).collect()
}

fn port_cell(port: &PortStatus) -> (String, Tone) {
    let failed = port.counts.requests.saturating_sub(port.counts.answers);
    let mut text = if port.up { String::new() } else { "DOWN ".to_string() };
    if port.load_percent > 0 {
        text += &format!("{} % ", port.load_percent);
    }
    let mut told = vec![];
    // A port of cycles alone asks nothing.
    if port.cycles == 0 || port.counts.requests > 0 {
        told.push(format!("{} asked", port.counts.requests));
    }
    if port.cycles > 0 {
        told.push(format!("{} in cycles", port.cycles));
    }
    if port.counts.published > 0 {
        told.push(format!("{} published", port.counts.published));
    }
    if failed > 0 {
        told.push(format!("{failed} failed"));
    }
    if port.clients > 0 {
        let noun = if port.clients == 1 { "client" } else { "clients" };
        told.push(format!("{} {noun}", port.clients));
    }
    text += &told.join(", ");
    (text, if port.up { Tone::Faint } else { Tone::Bad })
}

/// The state of a link in its word, how often a frame goes, and what was left out.
fn link_cell(link: &LinkStatus) -> (String, Tone) {
    let counts = &link.counts;
    let mut text = counts.state.word().to_string();
    if counts.period_us > 0 && matches!(counts.state, LinkState::Run | LinkState::Idle | LinkState::BadSlot) {
        text += &format!(", every {}", show_micros(counts.period_us));
    }
    if counts.skipped > 0 {
        text += &format!(", {} skipped", counts.skipped);
    }
    let tone = match counts.state {
        LinkState::Run => Tone::Faint,
        LinkState::Idle | LinkState::Closed | LinkState::Waiting => Tone::Doubt,
        LinkState::Refused | LinkState::Watchdog | LinkState::Invalid | LinkState::BadSlot => Tone::Bad,
    };
    (text, tone)
}

/// How a row is looked at.
#[derive(Debug, Clone, Copy)]
struct RowStyle {
    chosen: bool,
    /// The converter says nothing any more: what it said last is not live.
    stale: bool,
    paint: Paint,
}

/// How wide the columns are.
#[derive(Debug, Clone, Copy)]
struct ScreenColumns {
    from: usize,
    source_raw: usize,
    source: usize,
    to: usize,
    target_raw: usize,
    target: usize,
    age: usize,
}

impl ScreenColumns {
    fn of(model: &Model, width: u16) -> Self {
        let longest = |name: fn(&Rule) -> &str| {
            let all = (0..model.counts().0).filter_map(|row| model.rule(row));
            all.map(|(rule, _)| name(rule).chars().count()).max().unwrap_or(8)
        };
        let wide = usize::from(width);
        let (from, to) = (longest(|rule| &rule.from), longest(|rule| &rule.to));
        let age = 10;
        if width >= WITH_RAW {
            let (from, to) = (from.clamp(8, 26), to.clamp(8, 18));
            // The mark, an arrow, and a blank before each column.
            let left = wide.saturating_sub(2 + from + 3 + 1 + to + 1 + age + 4);
            // Raw words of one value, or of two where there is room.
            let raw = (left / 5).clamp(9, 19);
            let values = left.saturating_sub(2 * raw);
            let (source, target) = ((values * 6 / 10).clamp(8, 32), (values * 4 / 10).clamp(8, 24));
            return Self { from, source_raw: raw, source, to, target_raw: raw, target, age };
        }
        if width >= BOTH_ENDS {
            let (from, to) = (from.clamp(8, wide * 3 / 10), to.clamp(8, wide * 2 / 10));
            let left = wide.saturating_sub(2 + from + to + 4 + age + 2);
            let (source, target) = ((left / 2).max(6), (left / 2).max(6));
            return Self { from, source_raw: 0, source, to, target_raw: 0, target, age };
        }
        // One end: where the value is read.
        let from = from.clamp(4, (wide / 2).max(4));
        let target = wide.saturating_sub(2 + from + 1).max(4);
        Self { from, source_raw: 0, source: 0, to: 0, target_raw: 0, target, age: 0 }
    }

    fn titles(&self) -> String {
        let mut text = format!("  {:<w$} ", "FROM", w = self.from);
        let mut column = |name: &str, width: usize| {
            if width > 0 {
                text += &format!("{:<width$} ", cut(name, width));
            }
        };
        column("RAW", self.source_raw);
        column("VALUE", self.source);
        if self.to > 0 {
            column("", 2);
        }
        column("TO", self.to);
        column("RAW", self.target_raw);
        column("VALUE", self.target);
        column("AGE", self.age);
        text
    }

    fn row(
        &self,
        model: &Model,
        row: usize,
        (rule, live): (&Rule, Option<&Live>),
        look: RowStyle,
    ) -> Line<'static> {
        let RowStyle { chosen, stale, paint } = look;
        let lit = !stale && model.is_lit(row);
        let ill = live.is_none_or(|live| live.state != ValueState::Fresh);
        let tone = match live.map(|live| live.state) {
            // Nobody knows what is so now.
            _ if stale => Some(Tone::Faint),
            Some(ValueState::Fresh) => None,
            Some(ValueState::Held) => Some(Tone::Doubt),
            _ => Some(Tone::Bad),
        };
        let base = if chosen { Style::new().add_modifier(Modifier::REVERSED) } else { Style::new() };
        let value = match (tone, lit) {
            (Some(tone), _) => base.patch(paint.style(tone)),
            (None, true) => base.patch(paint.style(Tone::Accent)).add_modifier(Modifier::BOLD),
            (None, false) => base,
        };
        // Colour is never the only sign.
        let mark = match (ill, lit) {
            _ if stale => "? ",
            (true, _) => "! ",
            (false, true) => "* ",
            (false, false) => "  ",
        };
        let mut spans = vec![Span::styled(mark, value), Span::styled(pad(&rule.from, self.from), base)];
        let mut column = |text: String, width: usize, style: Style| {
            if width > 0 {
                spans.push(Span::styled(" ".to_string() + &pad(&text, width), style));
            }
        };
        let (source, target) = (model.source(row), model.target(row));
        let faint = if chosen { base } else { paint.style(Tone::Faint) };
        column(raw(source.as_ref()), self.source_raw, faint);
        column(values(source.as_ref(), self.source), self.source, value);
        if self.to > 0 {
            column("->".into(), 2, faint);
        }
        column(rule.to.clone(), self.to, base);
        column(raw(target.as_ref()), self.target_raw, faint);
        let refused = target.is_none() && ill && live.is_some();
        let shown = if refused { "refused".into() } else { values(target.as_ref(), self.target) };
        column(shown, self.target, value);
        let age = if stale { "unknown".into() } else { live.map_or_else(String::new, Live::freshness) };
        column(age, self.age, value);
        Line::from(spans)
    }
}

fn raw(shown: Option<&ShownEnd>) -> String {
    let Some(shown) = shown else { return String::new() };
    match shown.raw.as_slice() {
        [one] => one.clone(),
        [first, ..] => format!("{first} …"),
        [] => String::new(),
    }
}

/// The first values, as many as fit, and how many more there are.
fn values(shown: Option<&ShownEnd>, room: usize) -> String {
    let Some(shown) = shown else { return String::new() };
    if let [one] = shown.values.as_slice() {
        // The unit stands at the other end too, and in the opened row.
        return match &shown.eu {
            Some(eu) if one.chars().count() + 1 + eu.chars().count() <= room => format!("{one} {eu}"),
            _ => one.clone(),
        };
    }
    let mut text = String::new();
    for (at, value) in shown.values.iter().enumerate() {
        let more = format!(" +{}", shown.values.len() - at);
        let reserve = if at + 1 < shown.values.len() { 4 } else { 0 };
        if !text.is_empty() && text.chars().count() + 1 + value.chars().count() + reserve > room {
            return text + &more;
        }
        if !text.is_empty() {
            text.push(' ');
        }
        text += value;
    }
    text
}

fn pad(text: &str, width: usize) -> String {
    format!("{:<width$}", cut(text, width))
}

fn draw_rows(
    frame: &mut Frame<'_>,
    area: Rect,
    model: &Model,
    view: &mut WatchView,
    columns: &ScreenColumns,
    paint: Paint,
) {
    let rows = model.rows();
    view.page = usize::from(area.height).max(1);
    let at = view.chosen.and_then(|chosen| rows.iter().position(|row| *row == chosen)).unwrap_or(0);
    view.chosen = rows.get(at).copied();
    view.top = view.top.min(rows.len().saturating_sub(view.page)).min(at);
    if at >= view.top + view.page {
        view.top = at + 1 - view.page;
    }
    if rows.is_empty() {
        let why = match (model.filter.is_empty(), model.trouble) {
            (false, _) => "no rule matches (/ changes the filter)",
            (true, true) => "no trouble: every rule is fresh (t shows all)",
            (true, false) => "no rules yet",
        };
        return frame.render_widget(Paragraph::new(why), area);
    }
    let shown = rows.iter().skip(view.top).take(view.page);
    let lines = shown.filter_map(|row| {
        let (rule, live) = model.rule(*row)?;
        let chosen = Some(*row) == view.chosen;
        Some(columns.row(model, *row, (rule, live), RowStyle { chosen, stale: view.fault.is_some(), paint }))
    });
    frame.render_widget(Paragraph::new(lines.collect::<Vec<_>>()), area);
}

/// The opened row: all of its values, the last failure, and the trace of its address.
fn opened(model: &Model, row: usize, width: u16) -> Option<Vec<(Option<Tone>, String)>> {
    let (rule, live) = model.rule(row)?;
    let width = usize::from(width);
    let mut lines = vec![];
    let head = format!("{}: {} -> {}", rule.name, rule.from, rule.to);
    lines.push((Some(Tone::Accent), cut(&head, width)));
    if let Some(failure) = live.and_then(Live::failure) {
        lines.push((Some(Tone::Bad), cut(&format!("  last failure: {failure}"), width)));
    }
    for (label, end) in [("source", model.source(row)), ("target", model.target(row))] {
        let Some(end) = end else { continue };
        let eu = end.eu.as_ref().map(|eu| format!(" {eu}")).unwrap_or_default();
        let one = |(raw, value): (&String, &String)| format!("{raw} = {value}{eu}");
        let all: Vec<String> = end.raw.iter().zip(&end.values).map(one).collect();
        lines.push((None, cut(&format!("  {label:<7} {}", all.join(", ")), width)));
    }
    let text = rule.traced.as_ref()?;
    let entry = Spanned { value: text.clone(), span: Place::default() };
    let endpoint = wanted::endpoint(&model.checked, &entry).ok()?;
    let traces = woodrush_core::trace::trace(&model.checked, &endpoint);
    lines.extend(traces.first().map(|one| trace::lines(one, width)).unwrap_or_default());
    Some(lines)
}

fn foot(view: &WatchView, paint: Paint) -> Line<'static> {
    let typed = |label: &str, text: &str| {
        Line::from(vec![
            Span::styled(label.to_string(), paint.style(Tone::Accent)),
            Span::raw(text.to_string()),
            Span::styled(" ", Style::new().add_modifier(Modifier::REVERSED)),
        ])
    };
    match (&view.prompt, &view.said) {
        (Prompt::Filter(text), _) => typed("only rows with: ", text),
        (Prompt::Value { at, text }, said) => {
            let mut line = typed(&format!("write {at} = "), text);
            line.spans.extend(
                said.iter().map(|(tone, said)| Span::styled(format!("  {said}"), paint.style(*tone))),
            );
            line
        }
        (Prompt::Sure { question, .. }, _) => typed(&format!("{question} [y/N]"), ""),
        (Prompt::None, Some((tone, said))) => styled(said.clone(), Some(*tone), paint),
        (Prompt::None, None) => {
            let keys = "q end  enter trace  / filter  t trouble  s order  w write  ? help";
            Line::styled(keys, paint.style(Tone::Faint))
        }
    }
}

fn help(frame: &mut Frame<'_>, area: Rect, paint: Paint) {
    let lines = [
        "up down page home end   choose a row",
        "enter                   open the row into its trace, and close it",
        "/                       show only rows with a text; empty shows all",
        "t                       show only rules that are not fresh, and all again",
        "s                       order: as in the file, trouble, change, age, name",
        "w                       write a value through the image, under its rules",
        "q or Ctrl-C             end",
        "",
        "* changed within the last second   ! not fresh: what a reader gets",
        "LOST  refused, its source is lost  held  the last value stands in for it",
        "never  refused, there has been no value yet",
    ];
    let width = 76.min(area.width);
    let height = u16::try_from(lines.len() + 2).unwrap_or(10).min(area.height);
    let (x, y) = ((area.width - width) / 2, (area.height - height) / 2);
    let place = Rect { x, y, width, height };
    frame.render_widget(Clear, place);
    let block =
        Block::new().borders(Borders::ALL).border_style(paint.style(Tone::Accent)).title(" keys and marks ");
    frame.render_widget(Paragraph::new(lines.map(Line::raw).to_vec()).block(block), place);
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A port with so many requests, answers and exchanges in cycles.
    fn port(up: bool, requests: u64, answers: u64, cycles: u64) -> PortStatus {
        let counts = serde_json::json!({
            "requests": requests, "answers": answers, "published": 0, "exceptions": [], "no_answer": 0, "damaged": 0,
            "mismatched": 0, "unreachable": 0, "last_error": 0, "sent": 0, "received": 0
        });
        let own = serde_json::json!({
            "name": "machine", "up": up, "counts": counts, "damaged_requests": 0, "load_percent": 0, "clients": 0,
            "turned_away": 0, "cycles": cycles
        });
        serde_json::from_value(own).unwrap()
    }

    #[test]
    fn a_port_says_what_it_does_and_nothing_of_what_it_does_not() {
        let cell = |port: &PortStatus| port_cell(port).0;
        assert_eq!(cell(&port(true, 0, 0, 0)), "0 asked");
        assert_eq!(cell(&port(true, 0, 0, 1)), "1 in cycles");
        assert_eq!(cell(&port(true, 7, 5, 2)), "7 asked, 2 in cycles, 2 failed");
        let down = port(false, 3, 3, 0);
        assert_eq!((cell(&down).as_str(), port_cell(&down).1), ("DOWN 3 asked", Tone::Bad));
        let many = PortStatus { clients: 2, load_percent: 40, ..port(true, 3, 3, 0) };
        assert_eq!(cell(&many), "40 % 3 asked, 2 clients");
    }
}
