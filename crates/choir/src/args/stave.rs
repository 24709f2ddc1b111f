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
    /// Use the stave settings of this sheet; options given here override them.
    #[arg(long = "sheet", value_name = "SHEET", id = "lan_sheet")]
    pub sheet: Option<PathBuf>,
    #[command(flatten)]
    pub own: LanFlags,
}

/// How this machine is on the LAN of names.
#[derive(Debug, Clone, Default, ClapArgs)]
#[command(next_help_heading = "Names on the LAN")]
pub struct LanFlags {
    /// Group to join [default: the one without a name].
    #[arg(long = "lan-group", value_name = "GROUP", id = "lan_group")]
    pub group: Option<String>,
    /// Environment variable with the group key.
    #[arg(long, value_name = "NAME", conflicts_with = "key_file")]
    pub key_env: Option<String>,
    /// File with the group key in its first line.
    #[arg(long, value_name = "PATH")]
    pub key_file: Option<PathBuf>,
    /// Local address; its network is used [default: all networks except loopback; stand-ins:
    /// 127.0.0.1].
    #[arg(long, value_name = "IP")]
    pub on: Option<IpAddr>,
    /// Address of a known node; repeatable.
    #[arg(long, value_name = "IP:PORT")]
    pub node: Vec<SocketAddr>,
    /// Directory to ask, for networks without multicast.
    #[arg(long, value_name = "IP:PORT")]
    pub directory: Option<SocketAddr>,
    /// Do not announce or discover by multicast.
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
    /// List every name on the network with its machine, format, viewers and security.
    List(ListArgs),
    /// Run a directory, for networks that multicast does not reach.
    Directory(DirectoryArgs),
    /// Print the fingerprint of this machine's certificate, for pinning in other sheets.
    Identity,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir stave list
  choir stave list --sheet regatta.toml --json
  choir stave list --lan-group regatta --key-env REGATTA_LAN --on 10.1.2.7 --watch
  choir stave list --directory 10.1.2.9:7341 --no-discover

Exit codes: 0 names found; 1 none found; 2 and 4 as for all commands.")]
pub struct ListArgs {
    #[command(flatten)]
    pub lan: LanArgs,
    /// How long to listen.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "2s")]
    pub for_time: Duration,
    /// Keep the list up to date until Ctrl-C.
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
    /// Port to listen on.
    #[arg(long, default_value_t = choir_proto::stave::DIRECTORY_PORT)]
    pub port: u16,
    /// Stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
}
