//! Both sides of a running converter recorded byte by byte and decoded by a packet analyser: not one malformed frame.

use crate::tool::{PATIENCE, Tool};
use rustix::fs::{Mode, OFlags};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// Which way bytes went, and the bytes; what goes on in one way is one frame.
type Frames = Vec<(bool, Vec<u8>)>;

/// A relay between the converter and the simulated line that writes down what passes.
struct Relay {
    path: String,
    frames: Arc<Mutex<Frames>>,
    stop: Arc<AtomicBool>,
}

impl Relay {
    fn to(line: &str) -> Self {
        let own = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
        grantpt(&own).unwrap();
        unlockpt(&own).unwrap();
        let path = ptsname(&own, Vec::new()).unwrap().to_string_lossy().into_owned();
        let raw = |fd: &OwnedFd, baud: u32| {
            let mut termios = tcgetattr(fd).unwrap();
            termios.make_raw();
            termios.set_speed(baud).unwrap();
            tcsetattr(fd, OptionalActions::Now, &termios).unwrap();
        };
        raw(&own, 19_200);
        let line =
            rustix::fs::open(line, OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC, Mode::empty()).unwrap();
        raw(&line, 19_200);
        let (frames, stop) = (Arc::new(Mutex::new(Frames::new())), Arc::new(AtomicBool::new(false)));
        let (written, asked) = (Arc::clone(&frames), Arc::clone(&stop));
        std::thread::spawn(move || {
            use rustix::event::{PollFd, PollFlags, Timespec, poll};
            let mut chunk = [0; 512];
            while !asked.load(Relaxed) {
                let mut fds = [PollFd::new(&own, PollFlags::IN), PollFd::new(&line, PollFlags::IN)];
                let patience = Timespec { tv_sec: 0, tv_nsec: 20_000_000 };
                poll(&mut fds, Some(&patience)).unwrap();
                let ready = [0, 1].map(|at: usize| fds[at].revents().contains(PollFlags::IN));
                for (from, to, out, ready) in [(&own, &line, true, ready[0]), (&line, &own, false, ready[1])]
                {
                    // Nobody has the other end open yet, or any more.
                    let Some(count) = ready.then(|| rustix::io::read(from, &mut chunk).ok()).flatten() else {
                        continue;
                    };
                    rustix::io::write(to, &chunk[..count]).unwrap();
                    let mut frames = written.lock().unwrap();
                    match frames.last_mut() {
                        Some((way, frame)) if *way == out => frame.extend_from_slice(&chunk[..count]),
                        _ => frames.push((out, chunk[..count].to_vec())),
                    }
                }
                std::thread::sleep(Duration::from_micros(200));
            }
        });
        Self { path, frames, stop }
    }
}

fn block(kind: u32, body: &[u8]) -> Vec<u8> {
    let padded = body.len().next_multiple_of(4);
    let length = u32::try_from(padded + 12).unwrap().to_le_bytes();
    let mut block = [&kind.to_le_bytes(), length.as_slice(), body].concat();
    block.resize(8 + padded, 0);
    block.extend_from_slice(&length);
    block
}

/// A pcapng file of one interface.
fn capture(path: &Path, link: u16, packets: &[Vec<u8>]) {
    let head = [0x1A2B_3C4D_u32.to_le_bytes().as_slice(), &[1, 0, 0, 0], &[0xFF; 8]].concat();
    let interface = [link.to_le_bytes().as_slice(), &[0, 0], &[0, 0, 4, 0]].concat();
    let mut file = [block(0x0A0D_0D0A, &head), block(1, &interface)].concat();
    for (at, packet) in packets.iter().enumerate() {
        let length = u32::try_from(packet.len()).unwrap().to_le_bytes();
        let time = u32::try_from(at * 1000).unwrap().to_le_bytes();
        file.extend(block(6, &[[0; 4].as_slice(), &[0; 4], &time, &length, &length, packet].concat()));
    }
    std::fs::write(path, file).unwrap();
}

/// An RTU frame as the analyser takes it: exported PDU of `mbrtu`, with ports that tell requests from answers.
fn rtu_packet(request: bool, frame: &[u8]) -> Vec<u8> {
    let ports: [u32; 2] = if request { [40_000, 5020] } else { [5020, 40_000] };
    let mut packet = [&[0, 12, 0, 8], b"mbrtu\0\0\0".as_slice()].concat();
    for (tag, value) in [(24u16, 2u32), (25, ports[0]), (26, ports[1])] {
        packet.extend([tag.to_be_bytes().as_slice(), &[0, 4], &value.to_be_bytes()].concat());
    }
    packet.extend([0; 4]);
    packet.extend_from_slice(frame);
    packet
}

/// TCP bytes with made-up headers on the real port.
fn tcp_packet(request: bool, seen: [u32; 2], bytes: &[u8]) -> Vec<u8> {
    let (source, target) = if request { (40_000u16, 502u16) } else { (502, 40_000) };
    let (sequence, acknowledged) = if request { (seen[0], seen[1]) } else { (seen[1], seen[0]) };
    let length = u16::try_from(40 + bytes.len()).unwrap().to_be_bytes();
    let own = [192, 0, 2, if request { 20 } else { 10 }];
    let other = [192, 0, 2, if request { 10 } else { 20 }];
    let ip = [[0x45, 0].as_slice(), &length, &[0, 0, 0x40, 0, 64, 6, 0, 0], &own, &other].concat();
    let ports = [source.to_be_bytes(), target.to_be_bytes()].concat();
    let numbers = [(sequence + 1).to_be_bytes(), (acknowledged + 1).to_be_bytes()].concat();
    [ip.as_slice(), &ports, &numbers, &[0x50, 0x18, 0xFF, 0xFF, 0, 0, 0, 0], bytes].concat()
}

fn analyser(file: &Path, filter: &str) -> Vec<String> {
    let mut command = Command::new("tshark");
    command.args(["-o", "mbrtu.crc_verification:TRUE", "-r"]).arg(file).args(["-Y", filter]);
    let output = command.output().expect("tshark is installed (apt-get install tshark)");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).lines().map(str::to_string).collect()
}

#[test]
#[ignore = "needs a packet analyser: apt-get install tshark; .ci/run installs it"]
fn both_sides_are_decoded_without_a_malformed_frame() {
    let tool = Tool::with_starter();
    tool.edit("poll    = \"500ms\"", "poll    = \"50ms\"");
    let mut bench = tool.begin(&["rig", "up"]);
    let line = bench.wait_for(&["bus", "/dev/pts/"]).split_whitespace().nth(1).unwrap().to_string();
    bench.wait_for(&["Ctrl-C ends it"]);
    let relay = Relay::to(&line);
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    tool.edit("/dev/ttyUSB0", &relay.path);
    tool.edit("0.0.0.0:502", &format!("127.0.0.1:{port}"));
    tool.edit("192.0.2.10:502", &format!("192.0.2.10:{port}"));
    tool.edit("[\"192.0.2.0/24\"]", "[\"192.0.2.0/24\", \"127.0.0.1\"]");
    let mut converter = tool.begin(&["run"]);
    converter.wait_for(&["probe-1", "online"]);

    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    let (mut packets, mut seen) = (vec![], [0u32; 2]);
    // Reads, writes that reach the device, refusals of every kind, an unknown function.
    let requests: [&[u8]; 9] = [
        &[3, 0, 0, 0, 1],
        &[3, 0, 10, 0, 2],
        &[2, 0, 0, 0, 1],
        &[16, 0, 10, 0, 2, 4, 0x41, 0x8B, 0xAE, 0x14],
        &[3, 0, 50, 0, 1],
        &[6, 0, 0, 0, 1],
        &[4, 0, 0, 0, 1],
        &[3, 0, 0, 0, 126],
        &[5, 0, 0, 0xFF, 0],
    ];
    for round in 0..30u16 {
        for request in requests {
            let length = u16::try_from(request.len() + 1).unwrap().to_be_bytes();
            let message = [round.to_be_bytes().as_slice(), &[0, 0], &length, &[1], request].concat();
            stream.write_all(&message).unwrap();
            packets.push(tcp_packet(true, seen, &message));
            seen[0] += u32::try_from(message.len()).unwrap();
            let mut head = [0; 6];
            stream.read_exact(&mut head).unwrap();
            let mut body = vec![0; usize::from(u16::from_be_bytes([head[4], head[5]]))];
            stream.read_exact(&mut body).unwrap();
            let answer = [head.as_slice(), &body].concat();
            packets.push(tcp_packet(false, seen, &answer));
            seen[1] += u32::try_from(answer.len()).unwrap();
        }
    }
    drop(converter);
    relay.stop.store(true, Relaxed);
    drop(bench);

    let tcp = tool.file("tcp.pcapng");
    capture(&tcp, 101, &packets);
    assert_eq!(analyser(&tcp, "modbus").len(), packets.len());
    assert_eq!(
        analyser(&tcp, "_ws.malformed || _ws.expert.severity >= 6291456 && !tcp.analysis.flags"),
        [""; 0]
    );
    assert!(analyser(&tcp, "modbus.exception_code == 2").len() >= 60);

    let mut frames = relay.frames.lock().unwrap().clone();
    // The last exchange may have been cut off by the end.
    frames.truncate(frames.len() / 2 * 2 - 2);
    assert!(frames.len() > 60, "{} frames", frames.len());
    let rtu = tool.file("rtu.pcapng");
    capture(
        &rtu,
        252,
        &frames.iter().map(|(request, frame)| rtu_packet(*request, frame)).collect::<Vec<_>>(),
    );
    assert_eq!(analyser(&rtu, "mbrtu && modbus").len(), frames.len());
    assert_eq!(analyser(&rtu, "_ws.malformed || mbrtu.crc16.status == \"Bad\""), [""; 0]);
    assert!(analyser(&rtu, "modbus.func_code == 16").len() >= 50, "writes reached the line");
}
