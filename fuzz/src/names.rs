//! Names on the LAN: mDNS.

use super::bounded;
use choir_host::mdns;

/// A message.
pub fn entry(data: &[u8]) {
    let _ = mdns::asked(data);
    bounded(mdns::services(data).len(), data.len());
}
