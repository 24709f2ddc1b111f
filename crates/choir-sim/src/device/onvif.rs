//! HTTP of a device: who asks, and whether they may.

use super::{
    Turn,
    answers::{Answer, answer, page},
    state::{Quirk, Shared},
};
use crate::SimError;
use bytes::Bytes;
use choir_host::{Stop, clock::unix_us, tcp::listen};
use choir_proto::{
    auth::{Challenge, Scheme, Verdict},
    onvif::{Fault, Token, xml},
};
use http_body_util::{BodyExt, Full, Limited};
use hyper::{Request, Response, body::Incoming, header, service::service_fn};
use hyper_util::rt::TokioIo;
use std::{
    convert::Infallible,
    net::SocketAddr,
    sync::{Arc, atomic::Ordering},
    time::{Duration, SystemTime},
};

/// Longest request that is read.
const REQUEST_MAX: usize = 1 << 18;
/// A proof older or newer than this is refused, as many cameras do.
const CLOCK_TOLERANCE_US: i64 = 5_000_000;
/// Asked before anybody is known (ONVIF Core, 5.9.4).
const FOR_ANYONE: [&str; 3] = ["GetSystemDateAndTime", "GetServices", "GetCapabilities"];

/// Opens the control port and answers until the life ends.
pub(super) async fn serve(shared: &Arc<Shared>, life: &Stop) -> Result<(), SimError> {
    let addr = SocketAddr::new(shared.look(|s| s.network.address).into(), shared.settings.control_port);
    let listener = listen(addr).map_err(|cause| SimError::Address { who: shared.settings.name.clone(), addr, cause })?;
    let (me, mut stop) = (shared.clone(), life.clone());
    shared.task(life, async move {
        loop {
            let accepted = tokio::select! {
                a = listener.accept() => a,
                () = stop.wait() => return,
            };
            let Ok((stream, _)) = accepted else { continue };
            let (shared, mut stop) = (me.clone(), stop.clone());
            tokio::spawn(async move {
                let respond = service_fn(|request| respond(shared.clone(), request));
                let connection = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), respond);
                let ended = tokio::select! {
                    ended = connection => ended,
                    () = stop.wait() => Ok(()),
                };
                // Whoever gave the order to go has the answer, or will never have it.
                if *shared.turn.borrow() != Turn::Alive {
                    shared.answered.notify_one();
                }
                drop(ended);
            });
        }
    });
    Ok(())
}

fn reply(shared: &Shared, status: u16, kind: &str, body: String) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(Bytes::from(body)));
    *response.status_mut() = hyper::StatusCode::from_u16(status).unwrap_or_default();
    if let Ok(kind) = kind.parse() {
        response.headers_mut().insert(header::CONTENT_TYPE, kind);
    }
    // By its own clock, as everything.
    let now = SystemTime::now() + Duration::from_secs(shared.settings.clock_ahead.unsigned_abs());
    if let Ok(date) = httpdate::fmt_http_date(now).parse() {
        response.headers_mut().insert(header::DATE, date);
    }
    response
}

const SOAP: &str = "application/soap+xml; charset=utf-8";

async fn respond(shared: Arc<Shared>, request: Request<Incoming>) -> Result<Response<Full<Bytes>>, Infallible> {
    let (parts, body) = request.into_parts();
    if parts.method == hyper::Method::GET {
        return Ok(if parts.uri.path() == "/" {
            reply(&shared, 200, "text/html", page(&shared))
        } else {
            reply(&shared, 404, "text/plain", String::new())
        });
    }
    let Ok(body) = Limited::new(body, REQUEST_MAX).collect().await else { return Ok(reply(&shared, 400, "text/plain", String::new())) };
    if !parts.uri.path().starts_with("/onvif/") {
        return Ok(reply(&shared, 404, "text/plain", String::new()));
    }
    shared.counts.requests.fetch_add(1, Ordering::Relaxed);
    let Ok(envelope) = xml::read(&body.to_bytes()) else {
        return Ok(reply(&shared, 400, SOAP, Fault::message(&["Sender", "WellFormed"], "not XML")));
    };
    let Some(ask) = envelope.child("Body").and_then(|b| b.children.first()) else {
        return Ok(reply(&shared, 400, SOAP, Fault::message(&["Sender", "WellFormed"], "no body")));
    };
    let anyone = FOR_ANYONE.contains(&ask.name.as_str()) && !(ask.name == "GetSystemDateAndTime" && shared.has(Quirk::HidesClock));
    if !anyone && !knows(&shared, &envelope, parts.headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()), parts.uri.path()) {
        if shared.has(Quirk::HttpDigest) {
            let mut response = reply(&shared, 401, "text/plain", String::new());
            if let Ok(offer) = challenge().header().parse() {
                response.headers_mut().insert(header::WWW_AUTHENTICATE, offer);
            }
            return Ok(response);
        }
        return Ok(reply(&shared, 400, SOAP, Fault::message(&["Sender", "NotAuthorized"], "Sender not authorized")));
    }
    if shared.has(Quirk::DiesWhenSet) && ask.name.starts_with("SetVideoEncoder") {
        shared.look(|s| s.dead = true);
        std::future::pending::<()>().await;
    }
    if shared.look(|s| s.dead) {
        std::future::pending::<()>().await;
    }
    Ok(match answer(&shared, ask) {
        Answer::Body(text) => reply(&shared, 200, SOAP, text),
        Answer::Fault(codes, reason) => reply(&shared, if codes[0] == "Sender" { 400 } else { 500 }, SOAP, Fault::message(&codes, reason)),
    })
}

fn challenge() -> Challenge {
    Challenge { scheme: Scheme::Md5, realm: "finish line".into(), nonce: "tarn".into(), opaque: None, qop: true, stale: false }
}

/// Whether the request proves its user. A wrong proof is counted, none at all is not.
fn knows(shared: &Shared, envelope: &xml::Element, authorization: Option<&str>, path: &str) -> bool {
    let credentials = shared.look(|s| s.credentials.clone());
    let (given, right) = if shared.has(Quirk::HttpDigest) {
        (authorization.is_some(), challenge().judge(authorization, &credentials, "POST", path, |_| false) == Verdict::Right)
    } else {
        let token = Token::read(envelope);
        let own = unix_us() + shared.settings.clock_ahead * 1_000_000;
        let made = token.as_ref().and_then(|t| credentials.proved_by(t));
        (token.is_some(), made.is_some_and(|m| (m - own).abs() <= CLOCK_TOLERANCE_US))
    };
    shared.counts.refused.fetch_add(u64::from(given && !right), Ordering::Relaxed);
    right
}
