//! The status over HTTP: JSON at `/status`, what rules carry at `/values`, OpenMetrics text at `/metrics`. Only reading.

use super::bounded::Bounded;
use super::{Monitor, Status, Values, metrics};
use axum::Router;
use axum::extract::Request;
use axum::http::{HeaderName, StatusCode, header};
use axum::middleware::Next;
use axum::response::IntoResponse;
use axum::routing::get;
use serde::de::DeserializeOwned;
use std::io::{Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream};
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
    /// Serves the status to those who call it by its address, as `localhost`, or by one of these names: a page of somebody
    /// else's that a browser shows cannot read it under a name of its own.
    ///
    /// # Errors
    /// The address cannot be listened on.
    pub fn serve(monitor: &Arc<Monitor>, at: SocketAddr, names: &[String]) -> std::io::Result<Self> {
        // A runtime of its own: looking on takes no time from the clients.
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
        let listener = TcpListener::bind(at)?;
        listener.set_nonblocking(true)?;
        let at = listener.local_addr()?;
        let json = |text: String| ([(header::CONTENT_TYPE, "application/json")], text);
        let (shown, measured, carried) = (Arc::clone(monitor), Arc::clone(monitor), Arc::clone(monitor));
        let status = move || async move { json(serde_json::to_string(&shown.status()).unwrap_or_default()) };
        let values =
            move || async move { json(serde_json::to_string(&carried.values()).unwrap_or_default()) };
        let names: Arc<[String]> = names.iter().map(|name| name.to_ascii_lowercase()).collect();
        let known = move |request: Request, next: Next| {
            let names = Arc::clone(&names);
            async move {
                let mut hosts = request.headers().get_all(header::HOST).iter();
                let host = hosts.next().and_then(|host| host.to_str().ok());
                match host {
                    // Of two, whoever stands between may have looked at the other one (RFC 9112, section 3.2).
                    _ if hosts.next().is_some() => (StatusCode::BAD_REQUEST, TWO_HOSTS).into_response(),
                    Some(host) if is_known(host, &names) => next.run(request).await,
                    _ => (StatusCode::MISDIRECTED_REQUEST, OTHER_HOST).into_response(),
                }
            }
        };
        // Each route takes GET and HEAD, and nothing else.
        let router = Router::new()
            .route(
                "/",
                get(|| async { "woodrush: /status and /values are JSON, /metrics is OpenMetrics text\n" }),
            )
            .route("/status", get(status))
            .route("/values", get(values))
            .route("/metrics", get(move || async move { (openmetrics(), metrics::text(measured.status())) }))
            .layer(axum::middleware::from_fn(known));
        let inside = runtime.enter();
        let listener = Bounded::new(tokio::net::TcpListener::from_std(listener)?);
        drop(inside);
        runtime.spawn(async move {
            // It ends with the runtime.
            let _ = axum::serve(listener, router).await;
        });
        Ok(Self { at, _runtime: runtime })
    }
}

const TWO_HOSTS: &str = "the request has two Host lines\n";
const OTHER_HOST: &str =
    "this monitor answers to its address, to localhost and to the names of --monitor-host\n";

/// Whether a `Host` header names this monitor: by an address, which no name server can turn round, or by a known name.
fn is_known(host: &str, names: &[String]) -> bool {
    if host.parse::<SocketAddr>().is_ok() || host.parse::<IpAddr>().is_ok() {
        return true;
    }
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => name,
        _ => host,
    };
    let bare = name.trim_start_matches('[').trim_end_matches(']');
    bare.parse::<IpAddr>().is_ok()
        || name.eq_ignore_ascii_case("localhost")
        || names.iter().any(|own| name.eq_ignore_ascii_case(own))
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
    // In one piece: a peer that speaks first and closes is heard anyway.
    stream.write_all(format!("GET {path} HTTP/1.0\r\nHost: {from}\r\n\r\n").as_bytes())?;
    let mut answer = String::new();
    stream.take(FETCH_MAX).read_to_string(&mut answer)?;
    understood(&answer)
}

/// What an answer to such a question says.
fn understood<T: DeserializeOwned>(answer: &str) -> std::io::Result<T> {
    let wrong = |what: &str| std::io::Error::new(std::io::ErrorKind::InvalidData, what.to_string());
    let (head, body) = answer.split_once("\r\n\r\n").ok_or_else(|| wrong("it does not speak HTTP"))?;
    if !head.starts_with("HTTP/1.1 200") && !head.starts_with("HTTP/1.0 200") {
        return Err(wrong("it is not the monitor of a converter"));
    }
    serde_json::from_str(body).map_err(|_| wrong("its status is not understood: is it another version?"))
}

/// What holds for any text: of what is asked as what host, and of what is answered.
#[cfg(any(test, feature = "exercise"))]
#[allow(clippy::panic, reason = "a broken promise must stop the run")]
pub(crate) fn exercised(text: &str) {
    let names = ["scada-box".to_string()];
    let (host, answer) = text.split_once('\n').unwrap_or((text, text));
    if is_known(host, &names) {
        let name = host.rsplit_once(':').map_or(host, |(name, _)| name);
        let bare = name.trim_matches(['[', ']']);
        let own = ["localhost", "scada-box"].iter().any(|own| bare.eq_ignore_ascii_case(own) || host == *own);
        let is_address = |text: &str| text.parse::<IpAddr>().is_ok() || text.parse::<SocketAddr>().is_ok();
        let host = host.trim_matches(['[', ']']);
        assert!(
            own || is_address(bare) || is_address(host) || host.eq_ignore_ascii_case("localhost"),
            "{host}"
        );
    }
    let _ = (understood::<Status>(answer).map(metrics::text), understood::<Values>(answer));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_addresses_localhost_and_told_names_are_this_monitor() {
        let names = ["scada-box".to_string()];
        for good in [
            "127.0.0.1:9000",
            "192.0.2.10",
            "[::1]:9000",
            "[::1]",
            "localhost",
            "LOCALHOST:80",
            "Scada-Box:9000",
        ] {
            assert!(is_known(good, &names), "{good}");
        }
        for bad in
            ["evil.example", "127.0.0.1.evil.example:9000", "scada-box.evil", "", ":80", "localhost.evil:1"]
        {
            assert!(!is_known(bad, &names), "{bad}");
        }
    }
}
