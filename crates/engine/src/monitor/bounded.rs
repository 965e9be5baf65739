//! Connections to the monitor: no more than a few at once, and each for no longer than a question takes. One that is
//! opened and says nothing keeps its place only for a moment.

use std::future::Future;
use std::io::{Error, ErrorKind};
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::{Instant, Sleep, sleep};

/// Connections at once: some dashboards, each with a few.
const CONNECTIONS: usize = 32;
/// A connection on which nothing passes for so long is closed.
const IDLE: Duration = Duration::from_secs(10);
/// A connection lives no longer than that, however much passes.
const LIFE: Duration = Duration::from_secs(120);

/// A listener that holds these bounds.
pub(super) struct Bounded {
    listener: TcpListener,
    places: Arc<Semaphore>,
}

impl Bounded {
    pub(super) fn new(listener: TcpListener) -> Self {
        Self { listener, places: Arc::new(Semaphore::new(CONNECTIONS)) }
    }
}

impl axum::serve::Listener for Bounded {
    type Io = Timed;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Timed, SocketAddr) {
        loop {
            // The semaphore is never closed.
            let Ok(place) = Arc::clone(&self.places).acquire_owned().await else { continue };
            match self.listener.accept().await {
                Ok((stream, who)) => return (Timed::new(stream, place), who),
                // Without a free descriptor to try at once would use a core.
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
    }

    fn local_addr(&self) -> std::io::Result<SocketAddr> {
        self.listener.local_addr()
    }
}

/// One connection with its ends in time.
pub(super) struct Timed {
    stream: TcpStream,
    idle: Pin<Box<Sleep>>,
    ends: Instant,
    _place: OwnedSemaphorePermit,
}

impl Timed {
    fn new(stream: TcpStream, place: OwnedSemaphorePermit) -> Self {
        let idle = Box::pin(sleep(IDLE));
        let ends = idle.deadline() - IDLE + LIFE;
        Self { stream, idle, ends, _place: place }
    }

    /// Something passed, or did not: the connection may go on, waits, or has had its time.
    fn passed<T>(
        &mut self,
        context: &mut Context<'_>,
        result: Poll<std::io::Result<T>>,
    ) -> Poll<std::io::Result<T>> {
        match result {
            Poll::Pending if self.idle.as_mut().poll(context).is_ready() => {
                Poll::Ready(Err(Error::from(ErrorKind::TimedOut)))
            }
            Poll::Pending => Poll::Pending,
            ready => {
                let now = self.idle.deadline() - IDLE;
                let next = (Instant::now().max(now) + IDLE).min(self.ends);
                self.idle.as_mut().reset(next);
                ready
            }
        }
    }
}

impl AsyncRead for Timed {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        room: &mut ReadBuf<'_>,
    ) -> Poll<std::io::Result<()>> {
        let result = Pin::new(&mut self.stream).poll_read(context, room);
        self.passed(context, result)
    }
}

impl AsyncWrite for Timed {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<std::io::Result<usize>> {
        let result = Pin::new(&mut self.stream).poll_write(context, bytes);
        self.passed(context, result)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}
