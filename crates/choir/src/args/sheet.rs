//! Arguments of the commands that write, judge and hand out a patch sheet.

use super::{bitrate, duration, share, size};
use choir_core::units::Bitrate;
use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use std::{net::IpAddr, path::PathBuf, time::Duration};

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir check demo/regatta.toml
  choir check regatta.toml --json

Checks both ends of every link, formats of lines against those that feeds accept, addresses, \
passphrases, and the load of each network. demo/mistakes/ has one sheet per mistake.

Exit codes: 0 no errors; 1 errors; 2 the sheet cannot be read.")]
pub struct CheckArgs {
    /// The patch sheet [default: the only one in this folder].
    pub sheet: Option<PathBuf>,
    /// Print the findings as JSON.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir card umpire-launch --sheet regatta.toml
  choir card umpire-launch --reveal --markdown
  choir card --all --html cards.html        one page per card, for printing
  choir card --all --json

Exit codes: 0 printed; 1 the sheet has errors; 2 no such line, feed or device; 4 a file cannot be \
written.")]
pub struct CardArgs {
    /// Lines, feeds and devices, by name.
    #[arg(required_unless_present = "all")]
    pub names: Vec<String>,
    /// A card for everything in the sheet.
    #[arg(long, conflicts_with = "names")]
    pub all: bool,
    /// The patch sheet [default: the only one in this folder].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
    /// Show passphrases and passwords, also in URLs and codes.
    #[arg(long)]
    pub reveal: bool,
    /// Write an HTML page for printing.
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Print Markdown, for example for a chat.
    #[arg(long, conflicts_with_all = ["html", "json"])]
    pub markdown: bool,
    /// Print JSON.
    #[arg(long, conflicts_with = "html")]
    pub json: bool,
    /// Print no code to scan.
    #[arg(long)]
    pub no_code: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir budget regatta.toml
  choir budget regatta.toml --json

Exit codes: 0 everything fits; 1 the sheet has errors; 5 a network is overloaded.")]
pub struct BudgetArgs {
    /// The patch sheet [default: the only one in this folder].
    pub sheet: Option<PathBuf>,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}

/// Where advice is written.
#[derive(Debug, Clone, ClapArgs)]
pub struct WriteArgs {
    /// Write the advised latency and overhead, and the measured path, into this sheet.
    #[arg(long, value_name = "SHEET", requires = "line")]
    pub write: Option<PathBuf>,
    /// The line of the sheet.
    #[arg(long, value_name = "NAME")]
    pub line: Option<String>,
    /// The share of packets to deliver, percent, that --write aims at.
    #[arg(long, value_enum, value_name = "SHARE", default_value = "99.99")]
    pub target: Target,
}

/// Shares that advice is given for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Target {
    /// One packet in a thousand is lost.
    #[value(name = "99.9")]
    Three,
    /// One in ten thousand.
    #[value(name = "99.99")]
    Four,
    /// One in a hundred thousand.
    #[value(name = "99.999")]
    Five,
}

fn burst(text: &str) -> Result<f64, String> {
    text.parse().ok().filter(|b| (1.0..=1000.0).contains(b)).ok_or_else(|| "a number of packets in a row, 1 to 1000".into())
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir advise --rtt 80ms --loss 2% --burst 3 --bitrate 8Mbps
  choir advise --rtt 80ms --loss 2% --latency 120ms
  choir advise --rtt 80ms --loss 2% --write regatta.toml --line umpire-launch

The advice comes from a model of retransmission that is tested against our own SRT engine; see \
docs/advice.md. \"choir path\" measures these numbers.")]
pub struct AdviseArgs {
    /// Round-trip time, like 80ms.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub rtt: Duration,
    /// Share of packets lost, like 2%.
    #[arg(long, value_parser = share, value_name = "SHARE", default_value = "0%")]
    pub loss: f64,
    /// Share of packets lost on the way back, if different.
    #[arg(long, value_parser = share, value_name = "SHARE")]
    pub loss_back: Option<f64>,
    /// Mean number of packets lost in a row.
    #[arg(long, value_parser = burst, value_name = "PACKETS", default_value = "1")]
    pub burst: f64,
    /// Variation of the one-way delay.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "0ms")]
    pub jitter: Duration,
    /// Bitrate of the line.
    #[arg(long, value_parser = bitrate, value_name = "RATE", default_value = "8Mbps")]
    pub bitrate: Bitrate,
    /// The latency in use: also say what would be lost with it.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub latency: Option<Duration>,
    #[command(flatten)]
    pub write: WriteArgs,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}

/// How cameras arrive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Arrive {
    /// Pulled from cameras on site.
    Rtsp,
    /// Cameras call this machine.
    SrtListener,
    /// This machine calls the cameras.
    SrtCaller,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir new regatta.toml                                 asks for everything
  choir new regatta.toml --name 'Tarn Hollow Regatta' --network 127.20.0.0/24 \\
      --address 127.20.0.1 --cameras 4 --arrive rtsp
  choir find 127.20.0.0/27 --json | choir new regatta.toml --from-found - \\
      --name 'Tarn Hollow Regatta' --address 127.20.0.1

Exit codes: 0 written; 2 the file exists, or an answer is missing; 4 it cannot be written.")]
pub struct NewArgs {
    /// The file to write.
    pub file: PathBuf,
    /// Name of the show.
    #[arg(long)]
    pub name: Option<String>,
    /// The network of the site, like 127.20.0.0/24.
    #[arg(long, value_name = "RANGE")]
    pub network: Option<String>,
    /// This machine's address on it.
    #[arg(long, value_name = "IP")]
    pub address: Option<IpAddr>,
    /// Number of cameras.
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..=64))]
    pub cameras: Option<u16>,
    /// How the cameras arrive.
    #[arg(long, value_enum)]
    pub arrive: Option<Arrive>,
    /// Frame rate of the show.
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=120))]
    pub rate: Option<u32>,
    /// Output of "choir find --json": a file, or - for standard input.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["cameras", "arrive"])]
    pub from_found: Option<PathBuf>,
}

/// The sheet to edit.
#[derive(Debug, Clone, ClapArgs)]
pub struct EditSheet {
    /// The patch sheet [default: the only one in this folder].
    #[arg(long, value_name = "SHEET", global = true)]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir line add umpire-launch 'srt://:7103?latency=300' --codec h265 --bitrate 3.5Mbps
  choir line rename umpire-launch launch
  choir line remove launch

The sheet's comments and order are kept.")]
pub struct LineEditArgs {
    #[command(flatten)]
    pub sheet: EditSheet,
    #[command(subcommand)]
    pub action: LineEdit,
}

#[derive(Debug, Subcommand)]
pub enum LineEdit {
    /// Add a line at the end of the lines.
    Add(AddLine),
    /// Remove a line that no feed or device uses.
    Remove {
        /// The line.
        name: String,
    },
    /// Rename a line, in feeds and devices too.
    Rename {
        /// The line.
        name: String,
        /// New name.
        to: String,
    },
}

#[derive(Debug, ClapArgs)]
pub struct AddLine {
    /// Name.
    pub name: String,
    /// Where it comes from: any FROM of choir link; give a passphrase by passphrase-env or
    /// passphrase-file.
    pub from: String,
    /// Title that people see.
    #[arg(long)]
    pub title: Option<String>,
    /// Expected codec.
    #[arg(long, value_parser = ["h264", "h265"])]
    pub codec: Option<String>,
    /// Expected picture size, like 1280x720.
    #[arg(long, value_parser = size)]
    pub size: Option<(u32, u32)>,
    /// Expected frames per second.
    #[arg(long)]
    pub rate: Option<f64>,
    /// Expected bitrate, like 6Mbps.
    #[arg(long, value_parser = bitrate)]
    pub bitrate: Option<Bitrate>,
    /// A network on its way; repeatable.
    #[arg(long, value_name = "NETWORK")]
    pub via: Vec<String>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir feed add boathouse-5 umpire-launch 'srt://127.20.0.31:7205' --takes finish-tower
  choir feed rename boathouse-5 reserve
  choir feed remove reserve

The sheet's comments and order are kept.")]
pub struct FeedEditArgs {
    #[command(flatten)]
    pub sheet: EditSheet,
    #[command(subcommand)]
    pub action: FeedEdit,
}

#[derive(Debug, Subcommand)]
pub enum FeedEdit {
    /// Add a feed at the end of the feeds.
    Add(AddFeed),
    /// Remove a feed.
    Remove {
        /// The feed.
        name: String,
    },
    /// Rename a feed.
    Rename {
        /// The feed.
        name: String,
        /// New name.
        to: String,
    },
}

#[derive(Debug, ClapArgs)]
pub struct AddFeed {
    /// Name.
    pub name: String,
    /// The line to start with.
    pub line: String,
    /// Where it goes: any TO of choir link; several get the same.
    #[arg(required = true)]
    pub to: Vec<String>,
    /// Title that people see.
    #[arg(long)]
    pub title: Option<String>,
    /// Another line that may be taken on it; repeatable.
    #[arg(long, value_name = "LINE")]
    pub takes: Vec<String>,
}
