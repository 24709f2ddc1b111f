//! Arguments of `choir stave`.

use super::duration;
use clap::{Args as ClapArgs, Subcommand};
use std::{
    net::{IpAddr, SocketAddr},
    path::PathBuf,
    time::Duration,
};

/// How this machine is on the LAN of names, by a sheet or without one.
#[derive(Debug, Clone, Default, ClapArgs)]
#[command(next_help_heading = "Names on the LAN")]
pub struct LanArgs {
    /// Take group, key, address and the rest from this sheet; what is said here besides holds.
    #[arg(long = "sheet", value_name = "SHEET", id = "lan_sheet")]
    pub sheet: Option<PathBuf>,
    #[command(flatten)]
    pub own: LanFlags,
}

/// How this machine is on the LAN of names.
#[derive(Debug, Clone, Default, ClapArgs)]
#[command(next_help_heading = "Names on the LAN")]
pub struct LanFlags {
    /// The group; without one those who name none.
    #[arg(long = "lan-group", value_name = "GROUP", id = "lan_group")]
    pub group: Option<String>,
    /// Variable that holds the group's key.
    #[arg(long, value_name = "NAME", conflicts_with = "key_file")]
    pub key_env: Option<String>,
    /// File with the group's key in its first line.
    #[arg(long, value_name = "PATH")]
    pub key_file: Option<PathBuf>,
    /// Own address, by whose network names are sought; without one all networks but loopback. Stand-ins stay on 127.0.0.1.
    #[arg(long, value_name = "IP")]
    pub on: Option<IpAddr>,
    /// A node that is known by its address; may be given several times.
    #[arg(long, value_name = "IP:PORT")]
    pub node: Vec<SocketAddr>,
    /// A directory to ask, for networks without multicast.
    #[arg(long, value_name = "IP:PORT")]
    pub directory: Option<SocketAddr>,
    /// Neither announce nor seek by multicast.
    #[arg(long)]
    pub no_discover: bool,
}

#[derive(Debug, ClapArgs)]
pub struct StaveArgs {
    #[command(subcommand)]
    pub what: Stave,
}

#[derive(Debug, Subcommand)]
pub enum Stave {
    /// Show every name on the network: machine, codec, size, rate, bitrate, viewers, secured or not.
    List(ListArgs),
    /// Tell nodes of each other where multicast does not reach.
    Directory(DirectoryArgs),
    /// Print the fingerprint of this machine's certificate, to be pinned in other machines' sheets.
    Identity,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir stave list
  choir stave list --sheet regatta.toml --json
  choir stave list --lan-group regatta --key-env REGATTA_LAN --on 10.1.2.7 --watch
  choir stave list --directory 10.1.2.9:7341 --no-discover

Exit codes: 0 names were found; 1 none was; 2 and 4 as for all commands.")]
pub struct ListArgs {
    #[command(flatten)]
    pub lan: LanArgs,
    /// How long to look.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "2s")]
    pub for_time: Duration,
    /// Keep the list on the terminal as it changes, until Ctrl-C.
    #[arg(long, conflicts_with = "json")]
    pub watch: bool,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  there:   choir stave directory --lan-group regatta --key-env REGATTA_LAN
  sheets:  [stave]
           directory = \"10.1.2.9:7341\"

One directory serves one group. Names and pictures do not pass through it.")]
pub struct DirectoryArgs {
    #[command(flatten)]
    pub lan: LanArgs,
    /// Its port.
    #[arg(long, default_value_t = choir_proto::stave::DIRECTORY_PORT)]
    pub port: u16,
    /// End by itself after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
}
