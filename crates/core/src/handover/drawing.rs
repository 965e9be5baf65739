//! Who asks whom, as an SVG image: the clients on the left, the converter with its ports and images, the lines with
//! their devices on the right. An arrow points from the side that asks to the side that answers.

use super::papers::{PaperForward, PaperImage, PaperLine, short_place};
use crate::one_line::spaced;
use crate::project::Project;
use std::fmt::Write;

/// What stands in the middle.
pub(super) struct Drawn<'d> {
    pub(super) site: &'d str,
    pub(super) address: &'d str,
}

/// Devices of a line that are drawn; of more, the tables below tell.
const DEVICES_DRAWN: usize = 12;
/// Letters of a name that are drawn.
const LETTERS: usize = 26;

/// All lengths are in units of the image, which is 1000 wide.
const WIDTH: i32 = 1000;
const CLIENT_X: i32 = 10;
const CLIENT_WIDTH: i32 = 215;
const CLIENT_HEIGHT: i32 = 52;
const BOX_X: i32 = 330;
const BOX_WIDTH: i32 = 340;
const PORT_WIDTH: i32 = 158;
const PORT_HEIGHT: i32 = 34;
const IMAGE_HEIGHT: i32 = 18;
const TRUNK_X: i32 = 742;
const DEVICE_X: i32 = 765;
const DEVICE_HEIGHT: i32 = 24;
const STEP: i32 = 10;
const HEAD: i32 = 62;

/// The part of a name that has room, with nothing in it that ends an element.
fn fitting(text: &str, letters: usize) -> String {
    let mut short: String = spaced(text).chars().take(letters).collect();
    if text.chars().count() > letters {
        short.pop();
        short.push('…');
    }
    short.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// Elements, one a line.
#[derive(Default)]
struct Canvas {
    out: String,
}

impl Canvas {
    fn rect(&mut self, class: &str, (x, y): (i32, i32), (width, height): (i32, i32)) {
        let _ = writeln!(
            self.out,
            "<rect class=\"{class}\" x=\"{x}\" y=\"{y}\" width=\"{width}\" height=\"{height}\" rx=\"3\"/>"
        );
    }

    fn text(&mut self, class: &str, (x, y): (i32, i32), text: &str, letters: usize) {
        let text = fitting(text, letters);
        let _ = writeln!(self.out, "<text class=\"{class}\" x=\"{x}\" y=\"{y}\">{text}</text>");
    }

    fn line(&mut self, class: &str, points: &[(i32, i32)]) {
        let points: Vec<String> = points.iter().map(|(x, y)| format!("{x},{y}")).collect();
        let _ = writeln!(self.out, "<polyline class=\"{class}\" points=\"{}\"/>", points.join(" "));
    }

    /// A point of an arrow, whose tip is here and looks to the right.
    fn tip(&mut self, (x, y): (i32, i32)) {
        let _ = writeln!(self.out, "<path class=\"tip\" d=\"M{x} {y} l-9 -4.5 v9 z\"/>");
    }
}

/// A port, where it is drawn: the middle of its outer edge.
struct Anchor {
    port: String,
    at: (i32, i32),
}

pub(super) fn drawing(
    drawn: &Drawn<'_>,
    project: &Project,
    lines: &[PaperLine],
    images: &[PaperImage],
    forwards: &[PaperForward],
) -> String {
    let mut canvas = Canvas::default();
    let (asked, left) = asked_side(&mut canvas, project, images, forwards);
    let (asking, right) = asking_side(&mut canvas, project, lines, forwards);
    let height = left.max(right) + STEP;
    for (number, forward) in forwards.iter().enumerate() {
        let find = |all: &[Anchor], port: &str| all.iter().find(|own| own.port == port).map(|own| own.at);
        let (Some(from), Some(to)) = (find(&asked, &forward.from), find(&asking, &forward.to)) else {
            continue;
        };
        let (inner_from, inner_to) = (BOX_X + PORT_WIDTH, BOX_X + BOX_WIDTH - PORT_WIDTH);
        let middle = (inner_from + inner_to) / 2 + i32::try_from(number % 3).unwrap_or(0) * 4 - 4;
        canvas.line(
            "passed",
            &[(inner_from, from.1 + 8), (middle, from.1 + 8), (middle, to.1 + 8), (inner_to, to.1 + 8)],
        );
    }
    let mut head = Canvas::default();
    head.rect("box", (BOX_X, STEP), (BOX_WIDTH, height - 2 * STEP));
    head.text(
        "name",
        (BOX_X + 12, STEP + 22),
        if drawn.site.is_empty() { "converter" } else { drawn.site },
        38,
    );
    head.text("small", (BOX_X + 12, STEP + 39), &["converter", drawn.address].join(" "), 40);
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} {height}\" role=\"img\" aria-label=\"who asks whom\">\n<style>{STYLE}</style>\n{}{}</svg>\n",
        head.out, canvas.out
    )
}

/// Of the image itself, so that it looks alike wherever it is shown.
const STYLE: &str = "\
text{font-family:'DejaVu Sans',sans-serif;font-size:12px;fill:#1d2733}\
.name{font-size:13px;font-weight:600}.small{font-size:11px;fill:#55616d}\
.box{fill:#f4f6f8;stroke:#1d2733;stroke-width:1.4}.port{fill:#fff;stroke:#0a6a80;stroke-width:1.2}\
.end{fill:#fff;stroke:#55616d}.open{fill:none;stroke:#55616d;stroke-dasharray:4 3}\
polyline{fill:none;stroke:#55616d;stroke-width:1.3}.trunk{stroke:#1d2733;stroke-width:2.2}\
.passed{stroke:#0a6a80;stroke-dasharray:5 3}.tip{fill:#55616d}";

/// The clients, and the ports on which they ask.
fn asked_side(
    canvas: &mut Canvas,
    project: &Project,
    images: &[PaperImage],
    forwards: &[PaperForward],
) -> (Vec<Anchor>, i32) {
    let mut anchors = vec![];
    let mut y = STEP + HEAD;
    for (at, port) in project.ports.iter().enumerate() {
        let name = &port.name.value;
        let own: Vec<&PaperImage> = images
            .iter()
            .zip(&project.images)
            .filter(|(_, image)| image.port.is_some_and(|port| port.value == at))
            .map(|(image, _)| image)
            .collect();
        let is_forwarded = forwards.iter().any(|forward| forward.from == *name);
        if own.is_empty() && !is_forwarded {
            continue;
        }
        // Clients, each with what it asks there.
        let mut clients: Vec<(String, String, String)> = vec![];
        for image in &own {
            clients.extend(image.clients.iter().map(|client| {
                let (reads, writes) = client.asks;
                let writes = if writes > 0 { format!(", writes {writes}") } else { String::new() };
                (
                    client.name.clone(),
                    client.address.clone(),
                    format!("reads {reads} of {}{writes}", image.name),
                )
            }));
        }
        for client in project.clients.iter().filter(|own| own.port.is_some_and(|port| port.value == at)) {
            let units = client.units.as_ref().map_or(0, |units| units.value.len());
            let address = client.address.map(|own| own.value.to_string()).unwrap_or_default();
            clients.push((client.name.value.clone(), address, format!("asks {units} units")));
        }
        let ports_height = PORT_HEIGHT + IMAGE_HEIGHT * i32::try_from(own.len()).unwrap_or(0);
        let count = i32::try_from(clients.len().max(1)).unwrap_or(1);
        let height = (count * (CLIENT_HEIGHT + STEP)).max(ports_height + STEP);
        let middle = y + (height - STEP) / 2;
        let port_y = middle - ports_height / 2;
        let anchor = (BOX_X, middle);
        canvas.rect("port", (BOX_X, port_y), (PORT_WIDTH, ports_height));
        canvas.text("name", (BOX_X + 8, port_y + 14), name, 19);
        canvas.text("small", (BOX_X + 8, port_y + 28), &short_place(project, name), LETTERS);
        for (number, image) in own.iter().enumerate() {
            let at = port_y + PORT_HEIGHT + IMAGE_HEIGHT * i32::try_from(number).unwrap_or(0) + 10;
            canvas.text(
                "",
                (BOX_X + 8, at),
                &format!("{}: {} values", image.name, image.values.len()),
                LETTERS,
            );
        }
        let first = middle - (count * (CLIENT_HEIGHT + STEP) - STEP) / 2;
        for number in 0..count {
            let top = first + number * (CLIENT_HEIGHT + STEP);
            let middle = top + CLIENT_HEIGHT / 2;
            let (class, name, address, asks) = match clients.get(usize::try_from(number).unwrap_or(0)) {
                Some((name, address, asks)) => ("end", name.as_str(), address.as_str(), asks.as_str()),
                None => ("open", "not described", "", "any client that may connect"),
            };
            canvas.rect(class, (CLIENT_X, top), (CLIENT_WIDTH, CLIENT_HEIGHT));
            canvas.text("name", (CLIENT_X + 10, top + 16), name, LETTERS);
            canvas.text("small", (CLIENT_X + 10, top + 31), address, LETTERS);
            canvas.text("small", (CLIENT_X + 10, top + 45), asks, 34);
            let turn = BOX_X - 50;
            canvas.line(
                "",
                &[(CLIENT_X + CLIENT_WIDTH, middle), (turn, middle), (turn, anchor.1), (BOX_X - 2, anchor.1)],
            );
        }
        canvas.tip((BOX_X - 1, anchor.1));
        anchors.push(Anchor { port: name.clone(), at: anchor });
        y += height + STEP;
    }
    (anchors, y)
}

/// The ports on which the converter asks, and the devices behind them.
fn asking_side(
    canvas: &mut Canvas,
    project: &Project,
    lines: &[PaperLine],
    forwards: &[PaperForward],
) -> (Vec<Anchor>, i32) {
    let mut anchors = vec![];
    let mut y = STEP + HEAD;
    let bare = project.ports.iter().map(|port| &port.name.value).filter(|name| {
        forwards.iter().any(|forward| forward.to == **name) && lines.iter().all(|line| line.port != **name)
    });
    let all = lines
        .iter()
        .map(|line| (&line.port, line.devices.as_slice()))
        .chain(bare.map(|name| (name, &[][..])));
    for (name, devices) in all {
        let drawn = devices.len().min(DEVICES_DRAWN);
        let more = devices.len() - drawn;
        let rows = i32::try_from(drawn + usize::from(more > 0)).unwrap_or(1).max(1);
        let step = DEVICE_HEIGHT + 4;
        let height = (rows * step - 4).max(PORT_HEIGHT) + STEP;
        let middle = y + (height - STEP) / 2;
        let port_x = BOX_X + BOX_WIDTH - PORT_WIDTH;
        canvas.rect("port", (port_x, middle - PORT_HEIGHT / 2), (PORT_WIDTH, PORT_HEIGHT));
        canvas.text("name", (port_x + 8, middle - 3), name, 19);
        canvas.text("small", (port_x + 8, middle + 11), &short_place(project, name), LETTERS);
        let edge = BOX_X + BOX_WIDTH;
        canvas.line("", &[(edge, middle), (TRUNK_X - 1, middle)]);
        canvas.tip((TRUNK_X, middle));
        let row_y = |row: i32| middle - (rows * step - 4) / 2 + row * step + DEVICE_HEIGHT / 2;
        canvas.line("trunk", &[(TRUNK_X, row_y(0).min(middle)), (TRUNK_X, row_y(rows - 1).max(middle))]);
        for (row, device) in devices.iter().take(drawn).enumerate() {
            let at = row_y(i32::try_from(row).unwrap_or(0));
            canvas.line("", &[(TRUNK_X, at), (DEVICE_X, at)]);
            canvas.rect("end", (DEVICE_X, at - DEVICE_HEIGHT / 2), (WIDTH - DEVICE_X - STEP, DEVICE_HEIGHT));
            canvas.text("name", (DEVICE_X + 8, at + 4), &device.name, 16);
            // A setting that has no room is in the table.
            let station = device.settings.first().map(|(key, value)| format!("{key} {value}"));
            let station = station.filter(|station| station.chars().count() <= 13).unwrap_or_default();
            canvas.text("small", (DEVICE_X + 135, at + 4), &station, 13);
        }
        if more > 0 {
            canvas.text(
                "small",
                (DEVICE_X + 8, row_y(rows - 1) + 4),
                &format!("and {more} more, in the table"),
                34,
            );
        }
        anchors.push(Anchor { port: name.clone(), at: (edge, middle) });
        y += height + STEP;
    }
    (anchors, y)
}
