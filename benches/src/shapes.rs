//! Projects of one kind of entry over and over, good and bad: what `check` must bear whatever a file holds.

const HEAD: &str = r#"
[ports.a]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
[ports.o]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
[devices.d]
port = "a"
unit = 1
[images.i]
port = "o"
"#;

/// The text of the nth entry.
type Entry = fn(usize) -> String;

fn register(n: usize) -> usize {
    400_001 + n % 60_000
}

/// Every kind, by what it is.
pub const SHAPES: &[(&str, Entry)] = &[
    ("rules on one cell", |_| "[[map]]\nfrom=\"d:400001\"\nto=\"i:400001\"\n".into()),
    ("unknown names", |n| format!("[[map]]\nfrom=\"d{n}:400001\"\nto=\"j{n}:400001\"\n")),
    ("unknown keys", |_| "[[map]]\nfrm=\"d:400001\"\ntoo=\"i:400001\"\n".into()),
    ("ports", |n| {
        format!("[ports.p{n}]\nserial=\"/dev/tty{n}\"\nline=\"9600 8N1\"\nprotocol=\"modbus-rtu\"\n")
    }),
    ("ports on one socket", |n| format!("[ports.p{n}]\nlisten=\"0.0.0.0:502\"\nprotocol=\"modbus-tcp\"\n")),
    ("ports on one path", |n| format!("[ports.q{n}]\nserial=\"\\u0007\"\n")),
    ("devices", |n| format!("[devices.e{n}]\nport=\"a\"\nunit={}\n", n % 300)),
    ("images", |n| format!("[images.m{n}]\nport=\"o\"\nunit={}\n", n % 300)),
    ("clients", |n| {
        format!("[clients.c{n}]\nimage=\"i\"\nreads=[\"400001 x100\"]\nwrites=[\"{}\"]\n", register(n % 900))
    }),
    ("clients beside disabled rules", |n| {
        if n % 2 == 0 {
            return format!("[clients.z{n}]\nimage=\"i\"\nreads=[\"{}\"]\n", register(n));
        }
        format!("[[map]]\nfrom=\"d:{0}\"\nto=\"i:{0}\"\nenabled=false\n", register(n))
    }),
    ("rings", |n| format!("[[map]]\nfrom=\"d:{}\"\nto=\"d:{}\"\n", register(n), register(n + 1))),
    ("rules that clients write through", |n| format!("[[map]]\nfrom=\"i:{0}\"\nto=\"d:{0}\"\n", register(n))),
    ("image to image", |n| {
        format!("[[map]]\nfrom=\"i:{}\"\nto=\"i:{}\"\n", 400_001 + n % 30_000, 430_001 + n % 30_000)
    }),
    ("groups", |n| {
        format!("[[map]]\nfrom=\"d:{0}\"\nto=\"i:{0}\"\ntogether=\"g{1}\"\n", register(2 * n), n / 2)
    }),
    ("one name for all", |n| format!("[[map]]\nname=\"x\"\nfrom=\"d:{0}\"\nto=\"i:{0}\"\n", register(n))),
    ("health", |n| format!("[[map]]\nfrom=\"d.health.age\"\nto=\"i:{}\"\n", register(n))),
    ("repeated rules", |_| "[[map]]\nrepeat=\"1-4096\"\nfrom=\"d:{400000+n}\"\nto=\"i:{400000+n}\"\n".into()),
    ("repeated devices", |n| format!("[devices.r{n}]\nrepeat=\"1-4096\"\nport=\"a\"\nunit=\"n\"\n")),
    ("large counts", |_| "[[map]]\nfrom=\"d:400001\"\nto=\"i:400001\"\ncount=65536\n".into()),
    ("forwards", |_| "[[forward]]\nfrom=\"o\"\nunits=\"1-255\"\nto=\"a\"\n".into()),
    ("no TOML", |_| "[[[ = \"\n".into()),
    ("one key over and over", |_| "a=1\n".into()),
    ("deep lists", |n| format!("x{n} = [[[[[[[[[[1]]]]]]]]]]\n")),
];

/// A project of so many bytes of one kind of entry.
#[must_use]
pub fn shaped(entry: Entry, bytes: usize) -> String {
    let mut text = HEAD.to_string();
    for n in 0.. {
        let next = entry(n);
        if text.len() + next.len() > bytes {
            break;
        }
        text += &next;
    }
    text
}
