//! `run` goes on whatever becomes of its output, its files, its adapters and its descriptors.

use crate::tool::{Running, Tool, until};
use std::io::Write;
use std::net::TcpStream;
use std::process::Stdio;

/// A starter project on a free port, with the line at a path in the test's folder.
fn site(line: &str) -> (Tool, u16) {
    let tool = Tool::with_starter();
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    tool.edit("0.0.0.0:502", &format!("127.0.0.1:{port}"));
    tool.edit("192.0.2.10:502", &format!("192.0.2.10:{port}"));
    tool.edit("/dev/ttyUSB0", &tool.file(line).display().to_string());
    (tool, port)
}

fn runs(tool: &Tool) -> bool {
    tool.run(&["--format", "json", "status"]).status == 0
}

#[test]
fn a_full_disk_a_closed_pipe_and_a_reader_that_does_not_read_end_nothing() {
    for kind in 0..3 {
        let (tool, _) = site("no-such-line");
        let full = || Stdio::from(std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap());
        let mut command = tool.command(&["run"]);
        let (out, err) = match kind {
            0 => (full(), full()),
            _ => (Stdio::piped(), Stdio::piped()),
        };
        let mut child = command.stdout(out).stderr(err).spawn().unwrap();
        let streams = (child.stdout.take(), child.stderr.take());
        // Closed at once, or kept and never read.
        let kept = (kind == 2).then_some(streams);
        let signal = |name: &str| {
            let number = child.id().to_string();
            assert!(std::process::Command::new("kill").args([name, &number]).status().unwrap().success());
        };
        until("a converter", || runs(&tool));
        // Far more words than a pipe takes.
        tool.edit("unit    = 11", "unit    = 999");
        for _ in 0..300 {
            signal("-HUP");
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
        until("an answer", || tool.run(&["-p", "woodrush.toml", "--format", "json", "status"]).status != 3);
        signal("-INT");
        let mut ended = None;
        until("its end", || {
            ended = child.try_wait().unwrap();
            ended.is_some()
        });
        assert_eq!(ended.unwrap().code(), Some(0), "kind {kind}");
        drop(kept);
    }
}

#[test]
fn without_its_adapter_it_starts_says_so_and_opens_it_when_it_is_there() {
    let (tool, _) = site("line");
    tool.edit("poll    = \"500ms\"", "poll    = \"100ms\"");
    let mut run = tool.begin(&["run"]);
    run.wait_for(&["bus", "down: ", "line does not exist", "it is retried until it opens"]);
    run.wait_for(&["the converter runs"]);
    let status = tool.run(&["status"]).out;
    assert!(status.lines().any(|line| line.starts_with("bus") && line.contains("down")), "{status}");
    // The adapter is plugged in: a line of the rig of another project stands for it.
    let other = Tool::with_starter();
    let mut rig = other.begin(&["rig", "up"]);
    let pty = rig.wait_for(&["bus", "/dev/pts/"]).split_whitespace().nth(1).unwrap().to_string();
    std::os::unix::fs::symlink(pty, tool.file("line")).unwrap();
    run.wait_for(&["bus", "up at"]);
    run.wait_for(&["probe-1", "online"]);
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
    // An address that this machine does not have.
    let (tool, port) = site("line");
    tool.edit(&format!("127.0.0.1:{port}"), &format!("192.0.2.10:{port}"));
    let mut run = tool.begin(&["run"]);
    run.wait_for(&["plant", "down: 192.0.2.10 is not an address of this machine yet"]);
    run.wait_for(&["the converter runs"]);
    assert_eq!(run.interrupt(), 0);
    let strict = tool.run(&["run", "--strict"]);
    assert!(strict.status == 3 && strict.err.contains("is not an address of this machine"), "{}", strict.err);
}

#[test]
fn a_changed_project_of_which_something_cannot_be_had_is_refused_whole() {
    let (tool, port) = site("no-such-line");
    let sound = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    let mut run = tool.begin(&["run"]);
    run.wait_for(&["the converter runs"]);
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let used = taken.local_addr().unwrap().port();
    let pipe = tool.file("pipe.toml");
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let more = |text: &str| format!("{sound}\n{text}");
    for (changed, told) in [
        (
            sound.replacen("[converter]", "[converter]\nwrite-log = \"nowhere/writes.csv\"", 1),
            "nowhere/writes.csv cannot be written",
        ),
        (
            more(&format!(
                "[ports.second]\nlisten = \"127.0.0.1:{used}\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[images.second]\nport = \"second\"\n"
            )),
            "is in use by another program",
        ),
        (sound.replace("profiles/temperature-probe.toml", "pipe.toml"), "is a FIFO, not a plain file"),
        (String::new(), "is empty, which is not a project"),
    ] {
        tool.write("woodrush.toml", &changed);
        run.hang_up();
        run.wait_for(&[told]);
    }
    tool.write("woodrush.toml", &sound);
    let status = tool.run(&["--format", "json", "status"]).out;
    let status: serde_json::Value = serde_json::from_str(&status).unwrap();
    assert_eq!(status["runs_this_project"], true, "{status}");
    assert!(status["ports"].as_array().unwrap().len() == 2 && status["ports"][1]["up"] == true, "{status}");
    assert!(TcpStream::connect(("127.0.0.1", port)).is_ok());
    assert!(!run.seen.iter().any(|line| line.contains("reloaded")), "{:#?}", run.seen);
    assert_eq!(run.interrupt(), 0);
}

#[test]
fn without_a_free_descriptor_accepting_pauses_and_goes_on() {
    let (tool, port) = site("no-such-line");
    tool.edit("[\"192.0.2.0/24\"]", "[\"127.0.0.1\", \"192.0.2.0/24\"]");
    tool.edit(
        &format!("listen   = \"127.0.0.1:{port}\""),
        &format!("listen   = \"127.0.0.1:{port}\"\nmax-clients = 200"),
    );
    let warned = {
        let mut shell = std::process::Command::new("sh");
        let command = tool.command(&["check"]);
        shell.current_dir(tool.path()).args(["-c", "ulimit -Sn 64; ulimit -Hn 64; exec \"$@\"", "sh"]);
        shell.arg(command.get_program()).arg("check").output().unwrap()
    };
    let warned = String::from_utf8_lossy(&warned.stdout).into_owned();
    assert!(warned.contains("M31") && warned.contains("which takes 240 descriptors"), "{warned}");
    let mut shell = std::process::Command::new("sh");
    let program = tool.command(&[]).get_program().to_owned();
    shell.current_dir(tool.path()).args(["-c", "ulimit -Sn 64; ulimit -Hn 64; exec \"$@\"", "sh"]);
    shell.arg(program).arg("run").stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut run = Running::of(&mut shell);
    run.wait_for(&["the converter runs"]);
    let mut clients: Vec<TcpStream> =
        (0..80).map(|_| TcpStream::connect(("127.0.0.1", port)).unwrap()).collect();
    run.wait_for(&["plant", "takes no new clients for now"]);
    let used = || {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", run.process())).unwrap();
        let fields: Vec<&str> = stat.rsplit(')').next().unwrap().split_whitespace().collect();
        fields[11].parse::<u64>().unwrap() + fields[12].parse::<u64>().unwrap()
    };
    let before = used();
    std::thread::sleep(std::time::Duration::from_secs(1));
    assert!(used() - before < 30, "of a hundred ticks it used {}", used() - before);
    clients.truncate(5);
    run.wait_for(&["plant", "takes new clients again"]);
    let told = run.seen.iter().filter(|line| line.contains("takes no new clients")).count();
    assert!(told <= 3, "{told} times");
    drop(clients);
    assert_eq!(run.interrupt(), 0);
}

#[test]
fn the_log_has_times_and_is_json_where_that_is_asked() {
    let (tool, _) = site("no-such-line");
    let mut run = tool.begin(&["run", "--log-format", "json"]);
    let line = run.wait_for(&["port_down"]);
    let entry: serde_json::Value = serde_json::from_str(&line).unwrap();
    assert_eq!(
        (&entry["event"], &entry["name"], &entry["format"]),
        (&"port_down".into(), &"bus".into(), &1.into())
    );
    assert!(entry["at"].as_str().unwrap().ends_with('Z'), "{entry}");
    assert_eq!(run.interrupt(), 0);
    let mut run = tool.begin(&["run"]);
    let line = run.wait_for(&["down:"]);
    let (date, time) = (&line[..10], &line[11..23]);
    assert!(
        date.starts_with("20") && date.matches('-').count() == 2 && time.matches(':').count() == 2,
        "{line}"
    );
    assert_eq!(run.interrupt(), 0);
}

#[test]
fn what_is_not_a_plain_file_or_no_project_at_all_is_told_at_once() {
    let tool = Tool::with_starter();
    let sound = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    assert!(std::process::Command::new("mkfifo").arg(tool.file("pipe")).status().unwrap().success());
    for (path, told) in [
        ("pipe", "is a FIFO, not a plain file"),
        ("/dev/zero", "is a device, not a plain file"),
        ("profiles", "is a folder, not a plain file"),
    ] {
        tool.write("woodrush.toml", &sound.replace("profiles/temperature-probe.toml", path));
        let done = tool.run(&["check"]);
        assert!(done.status == 2 && done.out.contains(told), "{path}: {}{}", done.out, done.err);
        if path == "profiles" {
            continue;
        }
        let named = tool.run(&["-p", path, "check"]);
        assert!(named.status == 2 && named.err.contains(told), "{path}: {}", named.err);
    }
    tool.write("woodrush.toml", "\n  \n");
    let empty = tool.run(&["check"]);
    assert!(empty.status == 2 && empty.err.contains("is empty, which is not a project"), "{}", empty.err);
    // What is no profile is not shown: it may be anything that its reader may read.
    std::fs::File::create(tool.file("secret"))
        .unwrap()
        .write_all(b"root:$6$abcdef:1::::\nother:x:2\n")
        .unwrap();
    tool.write("woodrush.toml", &sound.replace("profiles/temperature-probe.toml", "secret"));
    let done = tool.run(&["check"]);
    assert!(done.out.contains("is not a profile"), "{}", done.out);
    assert!(!format!("{}{}", done.out, done.err).contains("abcdef"), "{}", done.out);
}
