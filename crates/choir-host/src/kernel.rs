//! Datagrams that the system dropped since a socket's buffer was full, from /proc.

use std::{collections::HashMap, fs};

/// Drops by socket inode, for all UDP sockets of this network namespace. Empty where /proc is
/// missing.
#[must_use]
pub fn kernel_drops() -> HashMap<u64, u64> {
    ["/proc/net/udp", "/proc/net/udp6"].iter().filter_map(|p| fs::read_to_string(p).ok()).flat_map(|t| parse(&t)).collect()
}

fn parse(table: &str) -> Vec<(u64, u64)> {
    let row = |line: &str| {
        let mut fields = line.split_whitespace();
        let inode = fields.nth(9)?.parse().ok()?;
        Some((inode, fields.next_back()?.parse().ok()?))
    };
    table.lines().skip(1).filter_map(row).collect()
}

#[cfg(test)]
mod tests {
    #[test]
    fn rows_are_read() {
        let table = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode ref pointer drops\n\
                     12: 0100007F:1BBD 00000000:0000 07 00000000:00000000 00:00000000 00000000  1000        0 48213 2 ffff8880 17\n\
                     junk\n";
        assert_eq!(super::parse(table), [(48213, 17)]);
    }
}
