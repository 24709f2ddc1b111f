//! Arguments of `choir path`.

use super::{WriteArgs, bitrate, duration};
use choir_core::units::Bitrate;
use clap::{Args as ClapArgs, ValueEnum};
use std::{net::SocketAddr, time::Duration};

/// Which way the media goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Towards {
    /// From there to here: a line.
    Here,
    /// From here to there: a feed.
    There,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  there:  CHOIR_TOKEN='four oars and a cox' choir path --answer
  here:   CHOIR_TOKEN='four oars and a cox' choir path 203.0.113.7 --bitrate 8Mbps
          choir path 203.0.113.7:7099 --token-env REGATTA_TOKEN --latency 120ms --json
          choir path 203.0.113.7 --write regatta.toml --line umpire-launch --target 99.999

It sends the bitrate both ways for the time, then a few packets in one go and some larger ones. The token is the same \
at both ends, at least 8 characters, taken from a variable; without it the other side is silent. More than 10 s or \
20 Mbps is asked about first, and only answered where the answerer's own limit allows it.

Exit codes: 0 measured; 1 nothing answered, it refused, or the path broke; 2 and 4 as for all commands.")]
pub struct PathMeasureArgs {
    /// The other side: HOST or HOST:PORT (port 7099).
    #[arg(required_unless_present = "answer", conflicts_with = "answer")]
    pub host: Option<String>,
    /// Answer measurements from others until Ctrl-C.
    #[arg(long)]
    pub answer: bool,
    /// Own address and port; to answer, 0.0.0.0:7099.
    #[arg(long, value_name = "IP:PORT")]
    pub bind: Option<SocketAddr>,
    /// The variable that holds the token.
    #[arg(long, value_name = "NAME", default_value = "CHOIR_TOKEN")]
    pub token_env: String,
    /// Bitrate to measure with, that of the line.
    #[arg(long, value_parser = bitrate, value_name = "RATE", default_value = "8Mbps")]
    pub bitrate: Bitrate,
    /// How long to measure.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "8s")]
    pub for_time: Duration,
    /// Which way the media goes that advice is wanted for.
    #[arg(long, value_enum, default_value = "here")]
    pub towards: Towards,
    /// The latency in use: what it will lose is told.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub latency: Option<Duration>,
    /// As answerer: the greatest bitrate that may be asked for.
    #[arg(long, value_parser = bitrate, value_name = "RATE", default_value = "20Mbps", requires = "answer")]
    pub limit: Bitrate,
    /// As answerer: the longest time that may be asked for.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "1min", requires = "answer")]
    pub limit_time: Duration,
    #[command(flatten)]
    pub write: WriteArgs,
    /// Measure longer or faster without asking back.
    #[arg(long)]
    pub yes: bool,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}
