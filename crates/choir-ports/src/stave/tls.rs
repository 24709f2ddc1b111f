//! QUIC as Stave wants it (section 3): both ends show a certificate; who may come in is judged
//! afterwards, so that a refusal can be told.

use super::{StaveError, identity::Identity};
use choir_proto::stave::{ALPN, UNIT_MAX};
use quinn::{
    Connection, EndpointConfig, MtuDiscoveryConfig, TransportConfig, VarInt,
    congestion::CubicConfig,
    crypto::rustls::{QuicClientConfig, QuicServerConfig},
};
use rustls::{
    DigitallySignedStruct, DistinguishedName, Error, SignatureScheme,
    client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    crypto::{CryptoProvider, ring::default_provider, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
    server::danger::{ClientCertVerified, ClientCertVerifier},
};
use std::{sync::Arc, time::Duration};

/// A peer that says nothing for so long is gone.
const SILENCE: Duration = Duration::from_millis(1500);
const KEEP_ALIVE: Duration = Duration::from_millis(400);
/// Units on their way to one receiver, and their bytes.
const UNITS: u32 = 512;
const UNIT_BYTES: u32 = 64 << 20;
/// What a peer that has shown nothing may send: some control messages of the largest size.
const CONTROL_BYTES: u32 = 1 << 20;
/// Callers that wait to be taken or refused, and what may be kept of each and of all of them: a
/// machine that is busy must not gather them by the ten thousand.
const INCOMING: usize = 512;
const INCOMING_BYTES: u64 = 64 << 10;
const INCOMING_BYTES_IN_ALL: u64 = 4 << 20;
/// Largest packet tried, where networks carry large frames. Ten of them go to the system at once,
/// which takes 65 507 bytes and loses what is more without a word.
const MTU_MOST: u16 = 6500;
/// Sent at once to a peer that has acknowledged nothing yet: a picture, since a LAN takes it.
const FIRST_WINDOW: u64 = 256 << 10;

/// Takes any certificate whose key its owner has.
#[derive(Debug)]
struct Anybody(Arc<CryptoProvider>);

/// The part that is the same for both ends: whoever shows a certificate must have its key.
macro_rules! holds_its_key {
    () => {
        fn verify_tls12_signature(
            &self,
            _: &[u8],
            _: &CertificateDer<'_>,
            _: &DigitallySignedStruct,
        ) -> Result<HandshakeSignatureValid, Error> {
            Err(Error::General("QUIC has no TLS 1.2".into()))
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
    };
}

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

    holds_its_key!();
}

impl ClientCertVerifier for Anybody {
    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &[]
    }

    fn verify_client_cert(&self, _: &CertificateDer<'_>, _: &[CertificateDer<'_>], _: UnixTime) -> Result<ClientCertVerified, Error> {
        Ok(ClientCertVerified::assertion())
    }

    holds_its_key!();
}

/// All that an endpoint needs.
pub(super) struct Configs {
    pub endpoint: EndpointConfig,
    pub server: quinn::ServerConfig,
    pub client: quinn::ClientConfig,
}

pub(super) fn configs(identity: &Identity) -> Result<Configs, StaveError> {
    let failed = |e: String| StaveError::Crypto(e);
    let provider = Arc::new(default_provider());
    let anybody = Arc::new(Anybody(provider.clone()));
    let versions: &[&rustls::SupportedProtocolVersion] = &[&rustls::version::TLS13];
    let mut server = rustls::ServerConfig::builder_with_provider(provider.clone())
        .with_protocol_versions(versions)
        .map_err(|e| failed(e.to_string()))?
        .with_client_cert_verifier(anybody.clone())
        .with_single_cert(vec![identity.cert()], identity.key())
        .map_err(|e| failed(e.to_string()))?;
    server.alpn_protocols = vec![ALPN.to_vec()];
    let mut client = rustls::ClientConfig::builder_with_provider(provider)
        .with_protocol_versions(versions)
        .map_err(|e| failed(e.to_string()))?
        .dangerous()
        .with_custom_certificate_verifier(anybody)
        .with_client_auth_cert(vec![identity.cert()], identity.key())
        .map_err(|e| failed(e.to_string()))?;
    client.alpn_protocols = vec![ALPN.to_vec()];
    let (serves, calls) = (Arc::new(transport(1)), Arc::new(transport(0)));
    let mut server = quinn::ServerConfig::with_crypto(Arc::new(QuicServerConfig::try_from(server).map_err(|e| failed(e.to_string()))?));
    server.transport_config(serves);
    server.max_incoming(INCOMING).incoming_buffer_size(INCOMING_BYTES).incoming_buffer_size_total(INCOMING_BYTES_IN_ALL);
    let mut client = quinn::ClientConfig::new(Arc::new(QuicClientConfig::try_from(client).map_err(|e| failed(e.to_string()))?));
    client.transport_config(calls);
    // The same after a restart: old peers learn at once that what they knew is gone.
    let reset = ring::hmac::Key::new(ring::hmac::HMAC_SHA256, &identity.own_secret("stave-1 reset"));
    let mut endpoint = EndpointConfig::new(Arc::new(reset));
    endpoint.max_udp_payload_size(MTU_MOST + 20).map_err(|e| failed(e.to_string()))?;
    Ok(Configs { endpoint, server, client })
}

/// Lets a peer that this end takes units of send them, once it has shown that it belongs here.
pub(super) fn let_units_in(conn: &Connection) {
    conn.set_receive_window(VarInt::from_u32(UNIT_BYTES));
    conn.set_max_concurrent_uni_streams(VarInt::from_u32(UNITS));
}

/// The peer may open so many control streams, and none for units.
fn transport(controls: u32) -> TransportConfig {
    let mut cubic = CubicConfig::default();
    cubic.initial_window(FIRST_WINDOW);
    let mut mtu = MtuDiscoveryConfig::default();
    mtu.upper_bound(MTU_MOST);
    let mut t = TransportConfig::default();
    t.max_idle_timeout(SILENCE.try_into().ok())
        .keep_alive_interval(Some(KEEP_ALIVE))
        .initial_rtt(Duration::from_millis(20))
        .max_concurrent_uni_streams(VarInt::from_u32(0))
        .max_concurrent_bidi_streams(VarInt::from_u32(controls))
        .stream_receive_window(VarInt::from_u32(UNIT_MAX as u32 + (1 << 16)))
        .receive_window(VarInt::from_u32(CONTROL_BYTES))
        .send_window(64 << 20)
        // One unit after the other, not all of them a little.
        .send_fairness(false)
        .datagram_receive_buffer_size(None)
        .mtu_discovery_config(Some(mtu))
        .congestion_controller_factory(Arc::new(cubic));
    t
}
