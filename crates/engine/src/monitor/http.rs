//! The status over HTTP: JSON at `/status`, what rules carry at `/values`, OpenMetrics text at `/metrics`. Only reading.

use super::{Monitor, Status, Values, metrics};
use axum::Router;
use axum::http::{HeaderName, header};
use axum::routing::get;
use serde::de::DeserializeOwned;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;

/// How long a converter elsewhere may take to answer.
const PATIENCE: Duration = Duration::from_secs(5);
/// Most bytes of a status that is fetched.
const FETCH_MAX: u64 = 256 * 1024 * 1024;

/// The monitor at work; dropping it closes its socket.
pub struct Http {
    /// Where it really is.
    pub at: SocketAddr,
    _runtime: tokio::runtime::Runtime,
}

impl Http {
    /// Serves the status.
    ///
    /// # Errors
    /// The address cannot be listened on.
    pub fn serve(monitor: &Arc<Monitor>, at: SocketAddr) -> std::io::Result<Self> {
        // A runtime of its own: whoever looks on takes no time from those who ask.
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
        let listener = TcpListener::bind(at)?;
        listener.set_nonblocking(true)?;
        let at = listener.local_addr()?;
        let (shown, measured, carried) = (Arc::clone(monitor), Arc::clone(monitor), Arc::clone(monitor));
        let router = Router::new()
            .route(
                "/",
                get(|| async { "woodrush: /status and /values are JSON, /metrics is OpenMetrics text\n" }),
            )
            .route(
                "/status",
                get(move || async move {
                    let text = serde_json::to_string(&shown.status()).unwrap_or_default();
                    ([(header::CONTENT_TYPE, "application/json")], text)
                }),
            )
            .route(
                "/values",
                get(move || async move {
                    let text = serde_json::to_string(&carried.values()).unwrap_or_default();
                    ([(header::CONTENT_TYPE, "application/json")], text)
                }),
            )
            .route("/metrics", get(move || async move { (openmetrics(), metrics::text(measured.status())) }));
        let _inside = runtime.enter();
        let listener = tokio::net::TcpListener::from_std(listener)?;
        runtime.spawn(async move {
            // It ends with the runtime.
            let _ = axum::serve(listener, router).await;
        });
        drop(_inside);
        Ok(Self { at, _runtime: runtime })
    }
}

fn openmetrics() -> [(HeaderName, &'static str); 1] {
    [(header::CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8")]
}

/// Asks a converter elsewhere for its status.
///
/// # Errors
/// Nobody answers there, or with something else.
pub fn fetch(from: SocketAddr) -> std::io::Result<Status> {
    get_json(from, "/status")
}

/// Asks a converter elsewhere for what its rules carry.
///
/// # Errors
/// Nobody answers there, or with something else.
pub fn fetch_values(from: SocketAddr) -> std::io::Result<Values> {
    get_json(from, "/values")
}

fn get_json<T: DeserializeOwned>(from: SocketAddr, path: &str) -> std::io::Result<T> {
    let mut stream = TcpStream::connect_timeout(&from, PATIENCE)?;
    stream.set_read_timeout(Some(PATIENCE))?;
    // In one piece: whoever speaks first and closes shall be heard all the same.
    stream.write_all(format!("GET {path} HTTP/1.0\r\nHost: {from}\r\n\r\n").as_bytes())?;
    let mut answer = String::new();
    stream.take(FETCH_MAX).read_to_string(&mut answer)?;
    let wrong = |what: &str| std::io::Error::new(std::io::ErrorKind::InvalidData, what.to_string());
    let (head, body) = answer.split_once("\r\n\r\n").ok_or_else(|| wrong("it does not speak HTTP"))?;
    if !head.starts_with("HTTP/1.1 200") && !head.starts_with("HTTP/1.0 200") {
        return Err(wrong("it is no converter's monitor"));
    }
    serde_json::from_str(body).map_err(|_| wrong("its status is not understood: is it another version?"))
}
