//! The codecs of controllers: at least a million frames a second each way, five million where a frame is one of a cycle of
//! real-time class 1, and no allocation a frame once the buffers have grown.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::hint::black_box;
use std::time::Instant;
use woodrush_benches::counting::{Counting, allocations};
use woodrush_benches::{Limits, median};
use woodrush_wire::df1::{Check, Heard, Message, Scanner, emit_message};
use woodrush_wire::enip::cip::{self, Reply, Request as TagRequest, service};
use woodrush_wire::enip::cpf::Connected;
use woodrush_wire::enip::encap::{self, Header, command};
use woodrush_wire::enip::epath::Segment;
use woodrush_wire::enip::tags::{TagType, Values, parse_read, type_code};
use woodrush_wire::isotcp::fetch::{Answer, Range, Request};
use woodrush_wire::isotcp::{cotp, tpkt};
use woodrush_wire::profinet::rt::{AROUND, DataStatus, RtFrame};
use woodrush_wire::tables::{Command, Logical};

#[global_allocator]
static ALLOCATOR: Counting = Counting;

const FRAMES: u64 = 200_000;
const ROUNDS: usize = 15;
/// Registers of one frame: what a poll of a few points has.
const WORDS: u8 = 10;

/// Millions of frames a second, the median of the rounds, and allocations a frame.
fn measure(limits: &mut Limits, what: &str, once: impl FnMut()) {
    measure_against(limits, what, 1.0, once);
}

/// The same with the millions that it must be at least.
fn measure_against(limits: &mut Limits, what: &str, least: f64, mut once: impl FnMut()) {
    // What grows has grown.
    (0..100).for_each(|_| once());
    let before = allocations();
    let mut rates = vec![];
    for _ in 0..ROUNDS {
        let begun = Instant::now();
        (0..FRAMES).for_each(|_| once());
        rates.push(FRAMES as f64 / begun.elapsed().as_secs_f64() / 1e6);
    }
    // The list of the rates itself is no frame's.
    let per_frame = allocations().saturating_sub(before + 8) as f64 / (FRAMES as f64 * ROUNDS as f64);
    limits.at_least(what, median(&mut rates), least, "million frames/s");
    limits.at_most(&format!("{what}, allocations a frame"), per_frame, 0.0, "");
}

fn main() {
    let mut limits = Limits::default();
    let data: Vec<u8> = (0..2 * WORDS).map(|byte| byte.wrapping_mul(29)).collect();
    let at = Logical { file: 7, kind: 0x89, element: 0, sub: Some(0) };
    for check in [Check::Bcc, Check::Crc] {
        let (mut body, mut bytes, mut frame) = (vec![], vec![], vec![]);
        let emit = |body: &mut Vec<u8>, bytes: &mut Vec<u8>, frame: &mut Vec<u8>| {
            [&mut *body, &mut *bytes, &mut *frame].into_iter().for_each(Vec::clear);
            Command::Write { at, data: &data }.emit(body);
            Message { dst: 1, src: 0, cmd: 0x0F, sts: 0, tns: 0x1236, body }.emit(bytes);
            emit_message(bytes, check, frame);
        };
        measure(&mut limits, &format!("DF1 write of {WORDS} words, {check:?}, written"), || {
            emit(&mut body, &mut bytes, &mut frame);
            black_box(&frame);
        });
        let mut scanner = Scanner::new(check, false);
        measure(&mut limits, &format!("DF1 write of {WORDS} words, {check:?}, read"), || {
            for byte in &frame {
                if let Heard::Message { data, .. } = scanner.push(*byte) {
                    let message = Message::parse(data).unwrap();
                    black_box(Command::parse(message.cmd, message.body).unwrap());
                }
            }
        });
    }
    let range = Range { org: 1, block: 10, start: 0, length: WORDS.into() };
    let (mut message, mut packet) = (vec![], vec![]);
    measure(&mut limits, &format!("WRITE of {WORDS} words, written"), || {
        message.clear();
        packet.clear();
        Request::Write(range, &data).emit(&mut message);
        cotp::emit_message(&message, cotp::SIZE, &mut packet);
        black_box(&packet);
    });
    measure(&mut limits, &format!("WRITE of {WORDS} words, read"), || {
        let (tpdu, _) = tpkt::parse(&packet).unwrap().unwrap();
        if let cotp::Tpdu::Data { data, .. } = cotp::parse(tpdu).unwrap() {
            black_box(Request::parse(data).unwrap());
        }
    });
    message.clear();
    packet.clear();
    Answer::Fetched(0, &data).emit(&mut message);
    cotp::emit_message(&message, cotp::SIZE, &mut packet);
    measure(&mut limits, &format!("FETCH answer of {WORDS} words, read"), || {
        let (tpdu, _) = tpkt::parse(&packet).unwrap().unwrap();
        if let cotp::Tpdu::Data { data, .. } = cotp::parse(tpdu).unwrap() {
            black_box(Answer::parse(data).unwrap().to(&Request::Fetch(range)).unwrap().unwrap());
        }
    });
    tags(&mut limits);
    real_time(&mut limits);
    limits.end();
}

/// One read of a tag over a connection, as it is asked and answered.
fn tags(limits: &mut Limits) {
    let header = Header { command: command::SEND_UNIT_DATA, session: 7, ..Header::default() };
    let (mut asks, mut gives) = (vec![], vec![]);
    measure(limits, "read of a tag, written", || {
        asks.clear();
        header.emit_with(&mut asks, |out| {
            Connected::emit_with(out, 9, 1, |out| {
                cip::emit_with(out, service::READ_TAG, |out| {
                    Segment::Symbol(b"Line").emit(out);
                    Segment::Symbol(b"MeanWeight").emit(out);
                });
                out.extend_from_slice(&[1, 0]);
            });
        });
        black_box(&asks);
    });
    measure(limits, "read of a tag, read", || {
        let (message, _) = encap::parse(&asks, 8192).unwrap().unwrap();
        let data = Connected::parse(message.data).unwrap();
        let request = TagRequest::parse(data.message).unwrap();
        black_box(request.path.segments().count());
        black_box(parse_read(request.data).unwrap());
    });
    let value = 23.5f32.to_le_bytes();
    measure(limits, "answer to a read of a tag, written", || {
        gives.clear();
        header.emit_with(&mut gives, |out| {
            Connected::emit_with(out, 9, 1, |out| {
                cip::emit_reply_head(out, service::READ_TAG, 0, &[]);
                Values { tag_type: TagType::elementary(type_code::REAL), data: &value }.emit(out);
            });
        });
        black_box(&gives);
    });
    measure(limits, "answer to a read of a tag, read", || {
        let (message, _) = encap::parse(&gives, 8192).unwrap().unwrap();
        let data = Connected::parse(message.data).unwrap();
        black_box(Values::parse(Reply::parse(data.message).unwrap().data).unwrap());
    });
}

/// One cyclic frame of real-time class 1, as short as Ethernet allows it: 60 bytes with its 14 of Ethernet.
fn real_time(limits: &mut Limits) {
    const MILLIONS: f64 = 5.0;
    let data = [0x80; 60 - 14 - AROUND];
    let length = u16::try_from(data.len()).unwrap();
    let (mut frame, mut counter) = (vec![], 0u16);
    measure_against(limits, "cyclic frame of 60 bytes, written", MILLIONS, || {
        frame.clear();
        counter = counter.wrapping_add(1024);
        RtFrame { frame_id: 0xC001, data: &data, counter, status: DataStatus::RUN }.emit(&mut frame);
        black_box(&frame);
    });
    measure_against(limits, "cyclic frame of 60 bytes, read", MILLIONS, || {
        let own = RtFrame::parse(black_box(&frame), length).unwrap();
        black_box((own.data, own.status.is_valid()));
    });
}
