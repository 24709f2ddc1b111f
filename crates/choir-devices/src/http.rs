//! One HTTP request to a device: bounded in time and size.

use bytes::Bytes;
use futures_core::future::BoxFuture;
use http_body_util::{BodyExt, Full, Limited};
use hyper::{Request, header};
use hyper_util::rt::TokioIo;
use std::{io, net::SocketAddr, time::Duration};
use tokio::net::TcpStream;

/// Longest answer that is read.
const ANSWER_MAX: usize = 1 << 20;

/// What came back.
#[derive(Debug, Clone)]
pub struct HttpAnswer {
    /// Status code.
    pub status: u16,
    /// Headers.
    pub headers: hyper::HeaderMap,
    /// Body.
    pub body: Bytes,
}

impl HttpAnswer {
    /// All values of a header that are text.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.headers.get_all(name).iter().filter_map(|v| v.to_str().ok())
    }
}

/// Why nothing came back.
#[derive(Debug, thiserror::Error)]
pub enum HttpError {
    /// No connection.
    #[error("cannot be reached ({0})")]
    Connect(io::Error),
    /// Too slow.
    #[error("does not answer within {} s", .0.as_secs_f64())]
    Silent(Duration),
    /// No HTTP, or too much of it.
    #[error("no HTTP answer ({0})")]
    Strange(String),
}

/// A request with a body; an empty one is a GET.
#[derive(Debug, Clone, Default)]
pub struct Ask<'a> {
    /// Path with its query.
    pub path: &'a str,
    /// Content type and body of a POST.
    pub post: Option<(String, String)>,
    /// `Authorization`.
    pub authorization: Option<String>,
}

/// Scheme, host without brackets, port, and path with its query. A login before the host is left
/// out.
pub(crate) fn split_url(url: &str) -> (&str, &str, Option<u16>, &str) {
    let (scheme, rest) = url.split_once("://").unwrap_or(("", url));
    let (authority, path) = rest.split_at(rest.find(['/', '?']).unwrap_or(rest.len()));
    let authority = authority.rsplit('@').next().unwrap_or_default();
    let (host, port) = match authority.rsplit_once(':') {
        Some((host, port)) if !port.contains(']') => (host, port.parse().ok()),
        _ => (authority, None),
    };
    (scheme, host.trim_matches(['[', ']']), port, path)
}

/// Asks once, on a connection of its own.
///
/// # Errors
/// See [`HttpError`].
pub async fn ask(at: SocketAddr, ask: Ask<'_>, patience: Duration) -> Result<HttpAnswer, HttpError> {
    tokio::time::timeout(patience, exchange(at, ask)).await.unwrap_or(Err(HttpError::Silent(patience)))
}

async fn exchange(at: SocketAddr, ask: Ask<'_>) -> Result<HttpAnswer, HttpError> {
    let stream = TcpStream::connect(at).await.map_err(HttpError::Connect)?;
    exchange_on(stream, at, ask).await
}

/// Asks on a connection that is open already.
pub(crate) fn exchange_on(stream: TcpStream, at: SocketAddr, ask: Ask<'_>) -> BoxFuture<'_, Result<HttpAnswer, HttpError>> {
    Box::pin(async move {
        let strange = |e: &dyn std::fmt::Display| HttpError::Strange(e.to_string());
        let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await.map_err(|e| strange(&e))?;
        let mut request = Request::builder().uri(ask.path).header(header::HOST, at.to_string()).header(header::CONNECTION, "close");
        if let Some(a) = ask.authorization {
            request = request.header(header::AUTHORIZATION, a);
        }
        let request = match ask.post {
            Some((kind, body)) => request.method("POST").header(header::CONTENT_TYPE, kind).body(Full::new(Bytes::from(body))),
            None => request.method("GET").body(Full::default()),
        };
        let request = request.map_err(|e| strange(&e))?;
        let exchange = async {
            let response = sender.send_request(request).await.map_err(|e| strange(&e))?;
            let (parts, body) = response.into_parts();
            let body = Limited::new(body, ANSWER_MAX).collect().await.map_err(|e| strange(&e))?.to_bytes();
            Ok(HttpAnswer { status: parts.status.as_u16(), headers: parts.headers, body })
        };
        // The connection is worked on by whoever waits for the answer, so that nothing outlives it.
        tokio::pin!(exchange, connection);
        tokio::select! {
            answer = &mut exchange => answer,
            ended = &mut connection => {
                // It may have ended because all has come.
                match ended {
                    Ok(()) => exchange.await,
                    Err(e) => Err(strange(&e)),
                }
            }
        }
    })
}

#[cfg(test)]
mod tests {
    use super::split_url;

    #[test]
    fn addresses_are_split_as_devices_write_them() {
        assert_eq!(split_url("http://127.20.0.9:8000/onvif/media?x"), ("http", "127.20.0.9", Some(8000), "/onvif/media?x"));
        assert_eq!(split_url("rtsp://desk:a@[::1]:8554?channel=1"), ("rtsp", "::1", Some(8554), "?channel=1"));
        assert_eq!(split_url("http://[::1]/"), ("http", "::1", None, "/"));
        assert_eq!(split_url("camera"), ("", "camera", None, ""));
    }
}
