//! What strangers send, from loopback addresses of their own. Each attack is bounded in rate and
//! time, and goes nowhere but to 127.0.0.1.

use choir_proto::{
    srt::{
        CallKeys, Endpoint, LinkConfig, Passphrase, Seq,
        wire::{Control, Handshake, HandshakeType, Packet},
    },
    stave::ALPN,
};
use quinn::crypto::rustls::QuicClientConfig;
use rustls::{
    DigitallySignedStruct, Error, SignatureScheme,
    client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    crypto::{CryptoProvider, ring::default_provider, verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
};
use std::{
    io::{Read, Write},
    net::{Ipv4Addr, SocketAddr, SocketAddrV4, UdpSocket},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::net::TcpSocket;

/// Addresses that strangers come from.
const STRANGERS: u32 = 200;
const TICK: Duration = Duration::from_millis(2);

/// Does something so many times a second, a little each tick; less where the machine has no time
/// for it. Gives how often it was done.
fn each_second(rate: u64, until: Instant, mut once: impl FnMut(u64)) -> u64 {
    let (start, mut done) = (Instant::now(), 0);
    while Instant::now() < until {
        let due = (start.elapsed().as_secs_f64() * rate as f64) as u64;
        // What could not be done in time is not made up for in one go.
        let most = done + rate / 50;
        while done < due.min(most) {
            once(done);
            done += 1;
        }
        std::thread::sleep(TICK);
    }
    done
}

fn stranger(n: u64) -> Ipv4Addr {
    let n = (n % u64::from(STRANGERS)) as u32 + 1;
    Ipv4Addr::from(u32::from(Ipv4Addr::new(127, 66, 0, 0)) + n)
}

fn sockets(count: u64) -> Vec<UdpSocket> {
    let open = |n| {
        let socket = UdpSocket::bind((stranger(n), 0)).unwrap();
        socket.set_nonblocking(true).unwrap();
        socket
    };
    (0..count).map(open).collect()
}

/// Datagrams that are nothing, or have the head of a packet of media.
pub fn junk(to: SocketAddr, rate: u64, until: Instant) -> u64 {
    let (sockets, mut dice) = (sockets(20), 1_u64);
    let mut data = vec![0_u8; 1332];
    each_second(rate, until, |n| {
        dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        data[..8].copy_from_slice(&dice.to_be_bytes());
        if n.is_multiple_of(3) {
            data[0] &= 0x7F;
        }
        let size = 20 + (dice >> 40) as usize % 1312;
        let _ = sockets[n as usize % sockets.len()].send_to(&data[..size], to);
    })
}

/// The first words of callers that never come back.
pub fn inductions(to: SocketAddr, rate: u64, until: Instant) -> u64 {
    let sockets = sockets(50);
    let data = said_first(LinkConfig::default(), to);
    let mut waste = [0; 2048];
    each_second(rate, until, |n| {
        let socket = &sockets[n as usize % sockets.len()];
        let _ = socket.send_to(&data, to);
        let _ = socket.recv(&mut waste);
    })
}

/// What a caller sends first.
fn said_first(config: LinkConfig, to: SocketAddr) -> Vec<u8> {
    let mut end = Endpoint::new([127, 66, 0, 1].into(), Instant::now(), [4; 32]);
    end.call(Instant::now(), to, config);
    let mut data = Vec::new();
    let _ = end.poll_transmit(Instant::now(), 1, &mut data);
    data
}

fn handshake(data: &[u8]) -> Option<Handshake> {
    match Packet::parse(data) {
        Ok(Packet::Control { control: Control::Handshake(h), .. }) => Some(*h),
        _ => None,
    }
}

/// Conclusions with a cookie that is right, a new socket each time, and a wrong passphrase.
pub fn conclusions(to: SocketAddr, rate: u64, until: Instant) -> u64 {
    let sockets = sockets(u64::from(STRANGERS));
    let induction = said_first(LinkConfig::default(), to);
    let conclusion = wrong_conclusion(to);
    let mut cookies = vec![None; sockets.len()];
    let mut buffer = [0; 2048];
    each_second(rate, until, |n| {
        let at = n as usize % sockets.len();
        let socket = &sockets[at];
        // Answers of the last round: a cookie, or a refusal.
        while let Ok(size) = socket.recv(&mut buffer) {
            if let Some(h) = handshake(&buffer[..size]).filter(|h| h.kind == HandshakeType::Induction) {
                cookies[at] = Some(h.cookie);
            }
        }
        // A cookie holds for a minute at least.
        let fresh = n < sockets.len() as u64 * 4 || (n / sockets.len() as u64).is_multiple_of(1000);
        let Some(cookie) = cookies[at].filter(|_| !fresh) else {
            let _ = socket.send_to(&induction, to);
            return;
        };
        let h = Handshake { cookie, socket_id: n as u32 | 1, ..conclusion.clone() };
        let mut data = Vec::new();
        Control::Handshake(Box::new(h)).encode(0, 0, &mut data);
        let _ = socket.send_to(&data, to);
    })
}

/// What a caller with another passphrase says once it has a cookie.
fn wrong_conclusion(to: SocketAddr) -> Handshake {
    let config = LinkConfig { passphrase: Passphrase::new("a guess of a stranger").ok(), ..LinkConfig::default() };
    let now = Instant::now();
    let mut end = Endpoint::new([127, 66, 0, 1].into(), now, [4; 32]);
    let keys = CallKeys::draw(&config, [9; 32]);
    end.greet(now, to, config, keys, false);
    let (mut data, mut said) = (Vec::new(), Vec::new());
    let _ = end.poll_transmit(now, 1, &mut data);
    let first = handshake(&data).unwrap();
    let answer = Handshake { version: 5, extension_field: 0x4A17, cookie: 1, socket_id: 7, initial_seq: Seq::new(0), ..first.clone() };
    Control::Handshake(Box::new(answer)).encode(0, first.socket_id, &mut said);
    end.handle_datagram(now, to, &said);
    data.clear();
    let _ = end.poll_transmit(now, 1, &mut data);
    handshake(&data).unwrap()
}

/// So many who connect to an RTSP address: half of them send one byte now and then, half ask
/// without end and read nothing. Whoever is closed comes again. Gives the connections made.
pub fn rtsp(to: SocketAddr, strangers: u64, until: Instant) -> u64 {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let mut set = tokio::task::JoinSet::new();
        for n in 0..strangers {
            set.spawn(async move {
                let mut made = 0;
                // Not all at once.
                tokio::time::sleep(Duration::from_millis(n % 2000)).await;
                while Instant::now() < until {
                    made += u64::from(tokio::time::timeout_at(until.into(), one_viewer(to, n)).await.is_ok_and(|m| m));
                    tokio::time::sleep(Duration::from_secs(2).min(until.saturating_duration_since(Instant::now()))).await;
                }
                made
            });
        }
        let mut made = 0;
        while let Some(one) = set.join_next().await {
            made += one.unwrap_or(0);
        }
        made
    })
}

/// Until it is closed; whether it was connected.
async fn one_viewer(to: SocketAddr, n: u64) -> bool {
    let socket = TcpSocket::new_v4().unwrap();
    let _ = socket.bind(SocketAddrV4::new(stranger(n), 0).into());
    let Ok(stream) = socket.connect(to).await else { return false };
    let Ok(mut stream) = stream.into_std() else { return false };
    let _ = stream.set_nonblocking(true);
    let ask = b"OPTIONS * RTSP/1.0\r\nCSeq: 1\r\n\r\n";
    let mut sent = 0;
    loop {
        if n.is_multiple_of(2) {
            if stream.write_all(&ask[sent % ask.len()..=sent % ask.len()]).is_err() || matches!(stream.read(&mut [0; 64]), Ok(0)) {
                return true;
            }
            sent += 1;
            tokio::time::sleep(Duration::from_secs(3)).await;
        } else {
            match stream.write(&ask.repeat(50)) {
                Err(e) if e.kind() != std::io::ErrorKind::WouldBlock => return true,
                _ => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
    }
}

/// QUIC handshakes by machines without a certificate. Gives how many were begun.
pub fn quic(to: SocketAddr, rate: u64, until: Instant) -> u64 {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let endpoints: Vec<quinn::Endpoint> =
            (0..20).map(|n| quinn::Endpoint::client(SocketAddr::new(stranger(n).into(), 0)).unwrap()).collect();
        let config = client();
        let (start, mut begun) = (Instant::now(), 0);
        let mut tick = tokio::time::interval(Duration::from_millis(5));
        while Instant::now() < until {
            tick.tick().await;
            let due = (start.elapsed().as_secs_f64() * rate as f64) as u64;
            while begun < due.min(begun + rate / 50) {
                let endpoint = &endpoints[begun as usize % endpoints.len()];
                if let Ok(connecting) = endpoint.connect_with(config.clone(), to, "stave") {
                    tokio::spawn(async move { tokio::time::timeout(Duration::from_secs(1), connecting).await.is_ok() });
                }
                begun += 1;
                if begun.is_multiple_of(4) {
                    tokio::task::yield_now().await;
                }
            }
        }
        begun
    })
}

fn client() -> quinn::ClientConfig {
    let provider = Arc::new(default_provider());
    let tls = rustls::ClientConfig::builder_with_provider(provider.clone()).with_protocol_versions(&[&rustls::version::TLS13]).unwrap();
    let mut tls = tls.dangerous().with_custom_certificate_verifier(Arc::new(Anybody(provider))).with_no_client_auth();
    tls.alpn_protocols = vec![ALPN.to_vec()];
    quinn::ClientConfig::new(Arc::new(QuicClientConfig::try_from(tls).unwrap()))
}

/// A stranger does not care whom it talks to.
#[derive(Debug)]
struct Anybody(Arc<CryptoProvider>);

impl ServerCertVerifier for Anybody {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        Ok(ServerCertVerified::assertion())
    }
    fn verify_tls12_signature(
        &self,
        m: &[u8],
        c: &CertificateDer<'_>,
        d: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(m, c, d, &self.0.signature_verification_algorithms)
    }
    fn verify_tls13_signature(
        &self,
        m: &[u8],
        c: &CertificateDer<'_>,
        d: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(m, c, d, &self.0.signature_verification_algorithms)
    }
    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
