//! Arguments of `choir path`.

use super::{WriteArgs, bitrate, duration};
use choir_core::units::Bitrate;
use clap::{Args as ClapArgs, ValueEnum};
use std::{net::SocketAddr, time::Duration};

/// Direction of the media.
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

Sends at the bitrate in both directions, then some bursts and larger packets. Both ends need the \
same token of at least 8 characters, from an environment variable; without it the other end does \
not answer. More than 10 s or 20 Mbps needs a confirmation here, and a higher limit there.

Exit codes: 0 measured; 1 no answer, a refusal, or the path broke; 2 and 4 as for all commands.")]
pub struct PathMeasureArgs {
    /// The other end, HOST or HOST:PORT [default port: 7099].
    #[arg(required_unless_present = "answer", conflicts_with = "answer")]
    pub host: Option<String>,
    /// Answer measurements from others until Ctrl-C.
    #[arg(long)]
    pub answer: bool,
    /// Local address and port [default with --answer: 0.0.0.0:7099].
    #[arg(long, value_name = "IP:PORT")]
    pub bind: Option<SocketAddr>,
    /// Environment variable with the token.
    #[arg(long, value_name = "NAME", default_value = "CHOIR_TOKEN")]
    pub token_env: String,
    /// Bitrate to measure with: that of the line.
    #[arg(long, value_parser = bitrate, value_name = "RATE", default_value = "8Mbps")]
    pub bitrate: Bitrate,
    /// How long to measure.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "8s")]
    pub for_time: Duration,
    /// Direction of the media.
    #[arg(long, value_enum, default_value = "here")]
    pub towards: Towards,
    /// The latency in use: also say what would be lost with it.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub latency: Option<Duration>,
    /// With --answer: highest bitrate to accept.
    #[arg(long, value_parser = bitrate, value_name = "RATE", default_value = "20Mbps", requires = "answer")]
    pub limit: Bitrate,
    /// With --answer: longest measurement to accept.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "1min", requires = "answer")]
    pub limit_time: Duration,
    #[command(flatten)]
    pub write: WriteArgs,
    /// Do not ask before a long or fast measurement.
    #[arg(long)]
    pub yes: bool,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}
