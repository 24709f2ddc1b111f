//! Giving a device another address: checked before, awaited after.

use super::{DeviceError, wait};
use crate::{
    discover,
    onvif::{Session, Which},
};
use choir_core::find::mask;
use choir_host::interfaces::own_interfaces;
use choir_proto::onvif::device;
use std::{
    net::{IpAddr, Ipv4Addr, SocketAddr},
    time::{Duration, Instant},
};

/// From the order until a device has gone to its new place.
const MOVE_PATIENCE: Duration = Duration::from_secs(60);

/// Why an address cannot be given.
#[derive(Debug, thiserror::Error)]
pub enum AddressError {
    /// Somebody has it.
    #[error("{ip} is taken: {by}. Choose another one; \"choir find\" shows which are in use")]
    Taken {
        /// Address.
        ip: Ipv4Addr,
        /// By whom.
        by: String,
    },
    /// This machine would lose the device.
    #[error(
        "{ip} is in none of this machine's subnets ({own}): the device could not be reached there. Choose one of these, or give this machine an address beside it first"
    )]
    Unreachable {
        /// Address.
        ip: Ipv4Addr,
        /// Own subnets.
        own: String,
    },
    /// Device and gateway do not meet.
    #[error("the gateway {gateway} is not in the subnet of {ip}/{prefix}")]
    Gateway {
        /// Gateway.
        gateway: Ipv4Addr,
        /// Address.
        ip: Ipv4Addr,
        /// Prefix length.
        prefix: u8,
    },
    /// The first or last address of the subnet.
    #[error("{ip} is the {what} address of its /{prefix} subnet, which no device can have")]
    Reserved {
        /// Address.
        ip: Ipv4Addr,
        /// Prefix length.
        prefix: u8,
        /// `network` or `broadcast`.
        what: &'static str,
    },
    /// Nobody knows where it went.
    #[error("the device uses DHCP now, but its new address was not seen within {} s: run \"choir find\" and put it into the sheet", .0.as_secs())]
    Lost(Duration),
    /// The OS error.
    #[error("the network of this machine cannot be asked: {0}")]
    System(std::io::Error),
}

/// Checks that an address can be given to a device: free, in reach, and what a device can have.
///
/// # Errors
/// See [`AddressError`].
pub async fn free_and_reachable(ip: Ipv4Addr, prefix: u8, gateway: Option<Ipv4Addr>) -> Result<(), AddressError> {
    let mask = mask(prefix);
    let host = u32::from(ip) & !mask;
    let reserved = |what| Err(AddressError::Reserved { ip, prefix, what });
    if host == 0 {
        return reserved("network");
    }
    if host == !mask {
        return reserved("broadcast");
    }
    if let Some(gateway) = gateway.filter(|g| u32::from(*g) & mask != u32::from(ip) & mask) {
        return Err(AddressError::Gateway { gateway, ip, prefix });
    }
    let own = own_interfaces().map_err(AddressError::System)?;
    if !own.iter().any(|i| i.reaches(ip)) {
        let own: Vec<String> = own.iter().map(|i| format!("{}/{} on {}", i.ip, i.prefix, i.name)).collect();
        return Err(AddressError::Unreachable { ip, own: own.join(", ") });
    }
    if let Some(i) = own.iter().find(|i| i.ip == ip) {
        return Err(AddressError::Taken { ip, by: format!("this machine has it on {}", i.name) });
    }
    match discover::who_has(ip).await {
        Some(by) => Err(AddressError::Taken { ip, by }),
        None => Ok(()),
    }
}

/// Gives the device a fixed address (with `None` one from a server), and waits for it at its new
/// place. The check that the address is free is the caller's. Gives the new address.
///
/// # Errors
/// The device refuses, or does not appear.
pub async fn move_to(s: &mut Session, fixed: Option<(Ipv4Addr, u8, Option<Ipv4Addr>)>) -> Result<IpAddr, DeviceError> {
    let was = s.at();
    let network = device::read_network(&s.call(Which::Device, &device::get_network()).await?);
    let network = network.ok_or_else(|| DeviceError::Cannot(format!("{was}: the device does not tell of a network interface")))?;
    // Who it is must be known before it goes: afterwards only this leads to it.
    let listening = match fixed {
        Some(_) => None,
        None => Some(discover::Follow::start(was.ip()).await?),
    };
    if let Some((_, _, Some(gateway))) = fixed {
        s.call(Which::Device, &device::set_gateway(gateway)).await?;
    }
    let call = device::set_network(&network.token, fixed.map(|(ip, prefix, _)| (ip, prefix)));
    let start = Instant::now();
    match s.call(Which::Device, &call).await {
        Ok(answer) if device::read_restart_needed(&answer) => drop(s.call(Which::Device, &device::restart()).await?),
        Ok(_) => {}
        // Many are gone before their answer is.
        Err(e) if e.is_absence() => {}
        Err(e) => return Err(e.into()),
    }
    let ip = match (fixed, listening) {
        (Some((ip, ..)), _) => IpAddr::V4(ip),
        (None, Some(follow)) => follow.until_seen(MOVE_PATIENCE).await.ok_or(AddressError::Lost(MOVE_PATIENCE))?,
        (None, None) => was.ip(),
    };
    wait::moves(was, SocketAddr::new(ip, was.port()), start).await?;
    Ok(ip)
}
