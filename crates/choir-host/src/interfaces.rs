//! The network interfaces of this machine.

use choir_core::find::Interface;
use std::io;

/// This machine's IPv4 addresses, loopback too.
///
/// # Errors
/// The system does not tell.
pub fn own_interfaces() -> io::Result<Vec<Interface>> {
    let all = if_addrs::get_if_addrs()?.into_iter();
    let one = |i: if_addrs::Interface| match i.addr {
        if_addrs::IfAddr::V4(a) => Some(Interface { name: i.name, ip: a.ip, prefix: u32::from(a.netmask).count_ones() as u8 }),
        if_addrs::IfAddr::V6(_) => None,
    };
    Ok(all.filter_map(one).collect())
}
