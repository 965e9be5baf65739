//! Lines for a stream that may be slow, full or gone. They go through a bounded queue to a thread of their own, so that
//! the converter never waits for their reader: what has no room is counted, and told when there is room again.

use std::io::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::mpsc::{Receiver, SyncSender, channel, sync_channel};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// Lines that wait for the stream: some 100 KB, minutes of a site where everything comes and goes.
const WAITING: usize = 1024;
/// How long the end of the program waits for the last lines.
const PATIENCE: Duration = Duration::from_secs(1);

/// One stream of lines.
pub(crate) struct Output {
    queue: Option<SyncSender<String>>,
    lost: Arc<AtomicU64>,
    ended: Mutex<Receiver<()>>,
}

impl Output {
    /// Writes to `stream` from now on.
    pub(crate) fn to(stream: impl Write + Send + 'static) -> Self {
        let (queue, lines) = sync_channel(WAITING);
        let (done, ended) = channel();
        let lost = Arc::new(AtomicU64::new(0));
        let counted = Arc::clone(&lost);
        // Without the thread all lines are lost, which changes nothing for the converter.
        let _ = std::thread::Builder::new().name("output".into()).spawn(move || {
            write_all(stream, &lines, &counted);
            let _ = done.send(());
        });
        Self { queue: Some(queue), lost, ended: Mutex::new(ended) }
    }

    /// Writes a line, or counts it as lost.
    pub(crate) fn line(&self, text: String) {
        if self.queue.as_ref().is_none_or(|queue| queue.try_send(text).is_err()) {
            self.lost.fetch_add(1, Relaxed);
        }
    }
}

impl Drop for Output {
    fn drop(&mut self) {
        self.queue = None;
        // A stream that nobody reads keeps its thread, which ends with the program.
        let _ = self.ended.lock().unwrap_or_else(PoisonError::into_inner).recv_timeout(PATIENCE);
    }
}

fn write_all(mut stream: impl Write, lines: &Receiver<String>, lost: &AtomicU64) {
    for line in lines {
        let missing = lost.swap(0, Relaxed);
        let text = match missing {
            0 => format!("{line}\n"),
            1 => format!("1 line is missing here: it could not be written\n{line}\n"),
            _ => format!("{missing} lines are missing here: they could not be written\n{line}\n"),
        };
        // A full disk, a closed pipe or a closed terminal: it may be there again for a later line.
        if stream.write_all(text.as_bytes()).and_then(|()| stream.flush()).is_err() {
            lost.fetch_add(missing + 1, Relaxed);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Error, ErrorKind, Result};
    use std::sync::mpsc::Sender;

    #[derive(Clone, Default)]
    struct Page(Arc<Mutex<Vec<u8>>>, Arc<AtomicU64>);

    impl Write for Page {
        fn write(&mut self, bytes: &[u8]) -> Result<usize> {
            if self.1.load(Relaxed) > 0 {
                self.1.fetch_sub(1, Relaxed);
                return Err(Error::from(ErrorKind::StorageFull));
            }
            self.0.lock().unwrap().extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> Result<()> {
            Ok(())
        }
    }

    #[test]
    fn a_full_disk_loses_lines_and_says_so_when_there_is_room_again() {
        let page = Page::default();
        page.1.store(3, Relaxed);
        let output = Output::to(page.clone());
        (0..5).for_each(|n| output.line(format!("line {n}")));
        drop(output);
        let text = String::from_utf8(page.0.lock().unwrap().clone()).unwrap();
        assert_eq!(text, "3 lines are missing here: they could not be written\nline 3\nline 4\n");
    }

    /// A reader that never reads.
    struct Stuck(Sender<()>, Receiver<()>);

    impl Write for Stuck {
        fn write(&mut self, _: &[u8]) -> Result<usize> {
            let _ = self.0.send(());
            let _ = self.1.recv();
            Err(Error::from(ErrorKind::BrokenPipe))
        }

        fn flush(&mut self) -> Result<()> {
            Ok(())
        }
    }

    #[test]
    fn a_reader_that_does_not_read_holds_up_nobody_and_what_waits_is_bounded() {
        let (writes, written) = channel();
        let (go_on, waits) = channel();
        let output = Output::to(Stuck(writes, waits));
        output.line("first".into());
        written.recv().unwrap();
        (0..2 * WAITING).for_each(|n| output.line(format!("line {n}")));
        assert_eq!(output.lost.load(Relaxed), WAITING as u64);
        drop(output);
        drop(go_on);
    }
}
