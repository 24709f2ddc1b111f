//! Asks one address what answers there: RTSP, ONVIF and web pages by TCP, VISCA and WS-Discovery by
//! UDP.

use super::{Pacer, Sign, Signs, multicast};
use crate::{
    http::{Ask, exchange_on},
    onvif::who_is_there,
};
use choir_core::find::{Evidence, Service, ServiceKind};
use choir_proto::{
    onvif::{device::plain, discovery},
    visca::{Ask as Visca, Header, Payload, Reply, header},
};
use std::{
    io,
    net::{Ipv4Addr, SocketAddr},
    time::Duration,
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpStream, UdpSocket},
    time::timeout,
};

/// Ports asked first: whoever answers here at all is there.
const FIRST: [u16; 2] = [80, 554];
/// Asked of those who are there.
const THEN: [u16; 4] = [8000, 8080, 8899, 8554];
/// The last of them speaks RTSP.
const RTSP_TOO: u16 = 8554;
/// Shorter than the system's first repetition of a connection request, so that there is none.
const CONNECT_PATIENCE: Duration = Duration::from_millis(900);
const ANSWER_PATIENCE: Duration = Duration::from_millis(1500);
/// For what a device says of itself by ONVIF: some take three seconds for each answer, and two are
/// asked for.
const ONVIF_PATIENCE: Duration = Duration::from_secs(8);
const UDP_PATIENCE: Duration = Duration::from_millis(700);
/// Packets of ours in a short exchange on an open connection: acknowledgements, request, end.
const EXCHANGE: u32 = 5;
/// Longest answer to `OPTIONS` that is read.
const OPTIONS_MAX: usize = 4096;

/// This port is asked in any case.
pub(super) fn asks(port: u16) -> bool {
    FIRST.contains(&port) || THEN.contains(&port)
}

enum Knock {
    Open(TcpStream),
    Closed,
    Nothing,
}

async fn knock(ip: Ipv4Addr, port: u16) -> Knock {
    match timeout(CONNECT_PATIENCE, TcpStream::connect(SocketAddr::new(ip.into(), port))).await {
        Ok(Ok(stream)) => Knock::Open(stream),
        Ok(Err(e)) if e.kind() == io::ErrorKind::ConnectionRefused => Knock::Closed,
        _ => Knock::Nothing,
    }
}

/// Asks an address; true when anything answered.
pub(super) async fn host(ip: Ipv4Addr, pacer: &Pacer, signs: &Signs) -> bool {
    pacer.take(3).await;
    let (web, rtsp, discovery) = tokio::join!(knock(ip, FIRST[0]), knock(ip, FIRST[1]), ask_discovery(ip, signs));
    let alive = discovery || !matches!((&web, &rtsp), (Knock::Nothing, Knock::Nothing));
    if let Knock::Open(stream) = rtsp {
        options(ip, FIRST[1], stream, pacer, signs).await;
    }
    if let Knock::Open(stream) = web {
        drop(stream);
        self::web(ip, FIRST[0], pacer, signs).await;
    }
    if !alive {
        return false;
    }
    pacer.take(5).await;
    let [first, second, third, fourth] = THEN.map(|port| knock(ip, port));
    let (a, b, c, d, ()) = tokio::join!(first, second, third, fourth, visca(ip, signs));
    for (port, answer) in THEN.into_iter().zip([a, b, c, d]) {
        let Knock::Open(stream) = answer else { continue };
        // Some put RTSP where others put a page: the first words tell.
        if port == RTSP_TOO {
            options(ip, port, stream, pacer, signs).await;
        } else {
            drop(stream);
            self::web(ip, port, pacer, signs).await;
        }
    }
    true
}

async fn tell(signs: &Signs, ip: Ipv4Addr, evidence: Evidence) {
    let _ = signs.send(Sign::Of(ip, evidence)).await;
}

async fn service(signs: &Signs, ip: Ipv4Addr, kind: ServiceKind, port: u16, says: Option<String>) {
    tell(signs, ip, Evidence::Service(Service { kind, port, says })).await;
}

/// `OPTIONS *` (RFC 2326, 10.1): what answers, and what it calls itself.
async fn options(ip: Ipv4Addr, port: u16, mut stream: TcpStream, pacer: &Pacer, signs: &Signs) {
    pacer.take(EXCHANGE).await;
    let request = format!("OPTIONS rtsp://{ip}:{port}/ RTSP/1.0\r\nCSeq: 1\r\n\r\n");
    let mut answer = Vec::new();
    let exchange = async {
        stream.write_all(request.as_bytes()).await?;
        while answer.len() < OPTIONS_MAX && !answer.windows(4).any(|w| w == b"\r\n\r\n") {
            if stream.read_buf(&mut answer).await? == 0 {
                break;
            }
        }
        io::Result::Ok(())
    };
    let _ = timeout(ANSWER_PATIENCE, exchange).await;
    let text = String::from_utf8_lossy(&answer);
    if !text.starts_with("RTSP/1.") {
        return;
    }
    let header =
        |name: &str| text.lines().find_map(|l| l.split_once(':').filter(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| plain(v)));
    service(signs, ip, ServiceKind::Rtsp, port, header("Server")).await;
    if text.split_whitespace().nth(1) == Some("401") {
        tell(signs, ip, Evidence::Login(true)).await;
    }
}

/// What is at a web port: ONVIF, and a page with its title.
pub(super) async fn web(ip: Ipv4Addr, port: u16, pacer: &Pacer, signs: &Signs) {
    let at = SocketAddr::new(ip.into(), port);
    pacer.take(2 * (EXCHANGE + 1)).await;
    if let Ok(Ok(Some(anyone))) = timeout(ONVIF_PATIENCE, who_is_there(at)).await {
        service(signs, ip, ServiceKind::Onvif, port, None).await;
        tell(signs, ip, Evidence::Login(anyone.login)).await;
        if let Some(id) = anyone.identity {
            tell(signs, ip, Evidence::Maker(id.maker, id.model)).await;
        }
    }
    pacer.take(EXCHANGE + 1).await;
    let ask = async {
        let stream = TcpStream::connect(at).await.ok()?;
        exchange_on(stream, at, Ask { path: "/", ..Ask::default() }).await.ok()
    };
    if let Ok(Some(answer)) = timeout(ANSWER_PATIENCE, ask).await {
        if answer.status == 404 {
            return;
        }
        service(signs, ip, ServiceKind::Http, port, title(&answer.body)).await;
        if answer.status == 401 {
            tell(signs, ip, Evidence::Login(true)).await;
        }
    }
}

/// The title of a page, without what is no text.
fn title(body: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(&body[..body.len().min(64 * 1024)]);
    // ASCII only, so that places in both texts are the same.
    let lower = text.to_ascii_lowercase();
    let start = lower.find("<title")?;
    let start = start + lower[start..].find('>')? + 1;
    let end = start + lower[start..].find("</title")?;
    Some(plain(&text[start..end])).filter(|t| !t.is_empty())
}

/// Asks by UDP until `each` has what it wants; true when anything answered, "nobody listens there"
/// too.
pub(super) async fn ask_udp(ip: Ipv4Addr, port: u16, message: &[u8], patience: Duration, mut each: impl FnMut(&[u8]) -> bool) -> bool {
    let asked = async {
        let socket = UdpSocket::bind("0.0.0.0:0").await?;
        socket.connect(SocketAddr::new(ip.into(), port)).await?;
        socket.send(message).await?;
        let mut buffer = vec![0; 32 * 1024];
        loop {
            let n = socket.recv(&mut buffer).await?;
            if each(&buffer[..n]) {
                return io::Result::Ok(());
            }
        }
    };
    match timeout(patience, asked).await {
        Ok(Ok(())) => true,
        // "Nobody listens there" is an answer too.
        Ok(Err(e)) => e.kind() == io::ErrorKind::ConnectionRefused,
        Err(_) => false,
    }
}

async fn ask_discovery(ip: Ipv4Addr, signs: &Signs) -> bool {
    let mut heard = Vec::new();
    let alive = ask_udp(ip, discovery::GROUP.port(), discovery::probe(&multicast::new_id()).as_bytes(), UDP_PATIENCE, |data| {
        heard = discovery::read_announcements(data);
        !heard.is_empty()
    })
    .await;
    for a in heard {
        multicast::announced(&a, ip.into(), None, signs).await;
    }
    alive
}

async fn visca(ip: Ipv4Addr, signs: &Signs) {
    let ask = Header { kind: Payload::Inquiry, sequence: 1 }.datagram(&Visca::Version.message(1));
    let mut there = false;
    ask_udp(ip, header::PORT, &ask, UDP_PATIENCE, |data| {
        // Any answer with this header is a camera's, a complaint about the number too.
        there = match Header::read(data) {
            Some((h, message)) if h.kind == Payload::Reply => Reply::read(message).is_some(),
            Some((h, _)) => h.kind == Payload::ControlReply,
            None => false,
        };
        there
    })
    .await;
    if there {
        service(signs, ip, ServiceKind::Visca, header::PORT, None).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_title_is_taken_as_plain_text() {
        assert_eq!(title(b"<html><TITLE lang=en>Finish\n tower</title>"), Some("Finish tower".into()));
        for none in [&b"<title>"[..], b"", b"<title></title>", b"\xFF\xFE<title\xFF", "<title".as_bytes()] {
            assert_eq!(title(none), None);
        }
    }
}
